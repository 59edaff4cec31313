package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/mint"
)

func (a *App) listCommand() *cli.Command {
	return &cli.Command{
		Name:      "list",
		Usage:     "list the machines, from the ledger and the sites",
		ArgsUsage: "[MACHINE...]",
		Description: "Lists the machines of the ledger with their state at the sites. Names may be globs.\n\n" +
			"   mintbatch list\n   mintbatch list 'bms-sonar-0*'\n   mintbatch list --offline --json",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "offline", Usage: "do not contact the sites; use what the ledger knows"}},
		Action: a.list,
	}
}

func (a *App) list(ctx context.Context, c *cli.Command) error {
	entries, err := a.entries(ctx, c, (*mint.Desk).List)
	if entries == nil && err != nil {
		return err
	}
	if c.Bool("json") {
		return errors.Join(a.entriesDocument("mintbatch/list/1", entries), err)
	}
	p, quiet := a.painter(a.Stdout, c.Bool("no-color")), c.Bool("quiet")
	var cells [][]string
	var used, saved machine.Size
	for _, e := range entries {
		used, saved = used+e.Used, saved+e.Saved
		if quiet && e.State == proof.Made && e.AtSite != mint.Gone {
			continue
		}
		cells = append(cells, []string{visible(e.Name), e.Site, visible(e.Spec.Clone.Folder), visible(e.Host), stateWord(p, e), string(e.Power),
			addresses(e.Spec.Adapters), some(e.Used), some(e.Saved), visible(e.Spec.Info.Owner), e.Changed.Local().Format("2006-01-02 15:04")})
	}
	if len(cells) > 0 {
		rows(a.Stdout, p, []string{"machine", "site", "folder", "host", "state", "power", "addresses", "used", "saved", "owner", "changed"}, cells)
	}
	if !quiet {
		if len(cells) > 0 {
			fmt.Fprintln(a.Stdout)
		}
		room := ""
		if used > 0 {
			room = fmt.Sprintf("; they use %s; linked clones save %s", rough(used), rough(saved))
		}
		fmt.Fprintln(a.Stdout, p.paint(finding.Plural(len(entries), "machine")+room, text.Bold))
	}
	return err
}

// lister is Desk.List or Desk.Show.
type lister func(d *mint.Desk, ctx context.Context, r mint.ListRequest) ([]mint.Entry, finding.List, error)

// entries asks for the machines that the command line names. Those that are
// known come even where there is an error: a site could not be asked.
func (a *App) entries(ctx context.Context, c *cli.Command, list lister) ([]mint.Entry, error) {
	parts := []string{"ledger", "sites", "limits"}
	if c.Bool("offline") {
		parts = parts[:1]
	}
	s, err := a.openSetup(ctx, c, parts...)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	entries, warnings, err := list(s, ctx, mint.ListRequest{Names: c.Args().Slice(), Contact: contact(c)})
	a.findings(a.Stderr, warnings)
	return entries, err
}

func (a *App) entriesDocument(schema string, entries []mint.Entry) error {
	return a.document(struct {
		Schema   string       `json:"schema"`
		Machines []mint.Entry `json:"machines"`
	}{schema, append([]mint.Entry{}, entries...)})
}

// stateWord says in one or two words how a machine is.
func stateWord(p painter, e mint.Entry) string {
	switch {
	case e.AtSite == "gone":
		return p.paint("gone", text.FgHiRed)
	case e.State == proof.Making:
		return p.paint("unfinished", text.FgHiYellow)
	case e.AtSite == "not listed":
		return p.paint("not listed", text.FgHiYellow)
	case e.AtSite == "not contacted":
		return "made?"
	}
	return p.paint("made", text.FgHiCyan)
}

func when(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04:05")
}
