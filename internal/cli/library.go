package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/mint"
	"mintbatch/internal/template"
)

func (a *App) libraryCommand() *cli.Command {
	library := &cli.StringFlag{Name: "library", Usage: "the `NAME` of the library (default: the only one of the setup)"}
	changing := func(more ...cli.Flag) []cli.Flag {
		return append(append([]cli.Flag{library}, more...), &cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"}, eventsFlag(), forceFlag(overFiles))
	}
	return &cli.Command{
		Name:  "library",
		Usage: "share versions of templates: list, show, add, fetch, drop",
		Description: "A library is a registry of the OCI distribution standard, or a folder, that the setup names under `libraries`.\n" +
			"What is in it is signed, and nothing is fetched that no trusted key has signed.\n\n" +
			"   mintbatch library list\n   mintbatch library add deb12-base@3 --site quay\n   mintbatch library fetch deb12-base --site vessel",
		Action: group,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list the versions: system, size, who made them, and how much of each was fetched", ArgsUsage: "[TEMPLATE...]", Flags: []cli.Flag{library},
				Description: "   mintbatch library list 'deb12-*'", Action: a.withSetup(anyArguments, a.libraryList)},
			{Name: "show", Usage: "show one version in full", ArgsUsage: "TEMPLATE@VERSION", Flags: []cli.Flag{library},
				Description: "   mintbatch library show deb12-base@3", Action: a.withSetup(exactlyOne("name one version: mintbatch library show TEMPLATE@VERSION"), a.libraryShow)},
			{Name: "add", Usage: "publish a version that a site has, signed", ArgsUsage: "TEMPLATE[@VERSION]", Flags: changing(siteFlag()),
				Description: "   mintbatch library add deb12-base@3 --site quay", Action: a.withScope(exactlyOne("name one version: mintbatch library add TEMPLATE[@VERSION]"), ofTemplates, a.libraryAdd)},
			{Name: "fetch", Usage: "fetch a version, and make it a template of a site", ArgsUsage: "TEMPLATE[@VERSION]",
				Flags: changing(&cli.StringFlag{Name: "site", Usage: "the site that gets it (default: none, it is only kept here)"}, &cli.StringFlag{Name: "store", Usage: "the store that gets its disk (default: the setup's, or the only one of the site)"},
					&cli.StringFlag{Name: "host", Usage: "the host that has it (default: the first that reaches the store)"}),
				Description: "   mintbatch library fetch deb12-base --site vessel", Action: a.withScope(exactlyOne("name one version: mintbatch library fetch TEMPLATE[@VERSION]"), ofTemplates, a.libraryFetch)},
			{Name: "drop", Usage: "delete a version from the library; sites that have it keep it", ArgsUsage: "TEMPLATE@VERSION", Flags: changing(),
				Description: "   mintbatch library drop deb12-base@1", Action: a.withScope(exactlyOne("name one version: mintbatch library drop TEMPLATE@VERSION"), ofTemplates, a.libraryDrop)},
		},
	}
}

func (a *App) libraryList(ctx context.Context, c *cli.Command, d *mint.Desk) error {
	all, err := template.List(ctx, d, c.String("library"), c.Args().Slice())
	if len(all) == 0 && err != nil {
		return err
	}
	if c.Bool("json") {
		return errors.Join(a.document(libraryJSON{"mintbatch/library/1", all}), err)
	}
	var cells [][]string
	for _, k := range all {
		cells = append(cells, []string{visible(k.Name), k.Library, visible(k.System), some(k.Disk), rough(k.Size), some(k.Here), k.Made.Local().Format(time.DateOnly), visible(k.By), unsigned(k)})
	}
	return errors.Join(a.table(c, []string{"version", "library", "system", "disk", "size", "here", "made", "by", "note"}, cells, "the library is empty"), err)
}

func unsigned(k template.Kept) string {
	if k.Signer == "" {
		return "not signed by a trusted key"
	}
	return ""
}

func (a *App) libraryShow(ctx context.Context, c *cli.Command, d *mint.Desk) error {
	all, err := template.List(ctx, d, c.String("library"), c.Args().Slice())
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.document(libraryJSON{"mintbatch/library/1", all})
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	line := a.labelled(p)
	for i, k := range all {
		if i > 0 {
			fmt.Fprintln(a.Stdout)
		}
		line("template", p.paint(visible(k.Name), text.FgHiCyan))
		line("library", k.Library)
		line("system", visible(k.System))
		line("disk", some(k.Disk))
		line("size", rough(k.Size))
		line("here", some(k.Here))
		line("cpus", few(k.CPUs))
		line("memory", size(k.Memory))
		line("firmware", string(k.Firmware))
		line("made", k.Made.Local().Format(time.DateTime)+" by "+visible(k.By))
		line("from", visible(k.From))
		line("notes", visible(k.Notes))
		line("digest", k.Digest)
		line("manifest", k.Manifest)
		line("signed by", visible(k.Signer))
		line("note", unsigned(k))
	}
	return nil
}

func (a *App) libraryAdd(ctx context.Context, c *cli.Command, d *mint.Desk) error {
	p, err := template.PrepareAdd(ctx, d, c.String("library"), c.Args().First(), c.String("site"))
	if err != nil {
		return err
	}
	done := sharedJSON{Schema: "mintbatch/shared/1", Template: p.Version.String(), Library: p.Library, Site: p.Site, Result: "there", Digest: p.Digest}
	if p.There {
		return a.shared(c, done)
	}
	return a.share(ctx, c, d, p.Task, p.Question(), func() sharedJSON {
		done.Result, done.Moved = "added", p.Sent
		return done
	})
}

func (a *App) libraryFetch(ctx context.Context, c *cli.Command, d *mint.Desk) error {
	p, err := template.PrepareFetch(ctx, d, template.FetchOrder{Library: c.String("library"), Name: c.Args().First(), Site: c.String("site"), Store: c.String("store"), Host: c.String("host")})
	if err != nil {
		return err
	}
	done := sharedJSON{Schema: "mintbatch/shared/1", Template: p.Name(), Library: p.Library, Site: p.Site, Result: "there", Digest: p.Digest}
	if p.There {
		return a.shared(c, done)
	}
	return a.share(ctx, c, d, p.Task, p.Question(), func() sharedJSON {
		done.Result, done.Moved = "fetched", p.Size
		return done
	})
}

func (a *App) libraryDrop(ctx context.Context, c *cli.Command, d *mint.Desk) error {
	p, err := template.PrepareRemoval(ctx, d, c.String("library"), c.Args().First())
	if err != nil {
		return err
	}
	q := mint.Question{Text: fmt.Sprintf("Delete template %s from library %s, for everybody?", p.Version, p.Library), Word: "yes"}
	return a.share(ctx, c, d, p.Task, q, func() sharedJSON {
		return sharedJSON{Schema: "mintbatch/shared/1", Template: p.Version.String(), Library: p.Library, Result: "dropped", Digest: p.Digest}
	})
}

// coming tells of the versions that machines need, that their sites have not, and that a mint would fetch. What a
// library cannot tell is only a remark.
func (a *App) coming(ctx context.Context, c *cli.Command, d *mint.Desk, names []string) []*template.Fetching {
	all, failed := template.Missing(ctx, d, names)
	if failed != nil {
		for _, one := range parts(failed) {
			fmt.Fprintln(a.Stderr, visible(one))
		}
	}
	for _, f := range all {
		if !c.Bool("quiet") {
			fmt.Fprintf(a.Stderr, "template %s has to be fetched from library %s for site %s: %s, and %s in store %s\n", visible(f.Name()), visible(f.Library), visible(f.Site), rough(f.Size), rough(f.Length), visible(f.Store))
		}
	}
	return all
}

// fetchMissing fetches the versions that machines need and their sites have not.
func (a *App) fetchMissing(ctx context.Context, c *cli.Command, d *mint.Desk, names []string) error {
	all := a.coming(ctx, c, d, names)
	for _, f := range all {
		outcome, err := a.perform(ctx, c, d, f.Task, f.Question())
		if outcome == nil {
			return err
		}
		if err := template.Outcome(outcome, err); err != nil {
			return err
		}
	}
	if len(all) == 0 {
		return nil
	}
	return a.lock(ctx, c, d, d.InSheet(names))
}

// share does a task on a version of a library, and tells what came of it.
func (a *App) share(ctx context.Context, c *cli.Command, d *mint.Desk, t mint.Task, q mint.Question, done func() sharedJSON) error {
	outcome, err := a.perform(ctx, c, d, t, q)
	if outcome == nil {
		return err
	}
	if err := template.Outcome(outcome, err); err != nil {
		return err
	}
	what := done()
	what.Run = outcome.Run
	return a.shared(c, what)
}

func (a *App) shared(c *cli.Command, what sharedJSON) error {
	if c.Bool("json") {
		return a.document(what)
	}
	if !a.readsInput(c) {
		return nil
	}
	to := ""
	if what.Site != "" {
		to = ", and is at site " + what.Site
	}
	said := map[string]string{"added": "is in library %s: %s were sent", "fetched": "was fetched from library %s: %s" + to, "dropped": "is deleted from library %s"}
	name := a.painter(a.Stdout, c.Bool("no-color")).paint(visible(what.Template), text.FgHiCyan)
	switch what.Result {
	case "there":
		fmt.Fprintf(a.Stdout, "template %s is there already: nothing to do\n", name)
	case "dropped":
		fmt.Fprintf(a.Stdout, "template %s "+said[what.Result]+"\n", name, visible(what.Library))
	default:
		fmt.Fprintf(a.Stdout, "template %s "+said[what.Result]+"\n", name, visible(what.Library), rough(what.Moved))
	}
	return nil
}
