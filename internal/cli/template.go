package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
)

func (a *App) templateCommand() *cli.Command {
	return &cli.Command{
		Name:  "template",
		Usage: "list, inspect, seal, make and drop templates and their versions",
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list the templates and their versions: size, machines made of each, and linked clones",
				ArgsUsage:   "[TEMPLATE...]",
				Description: "   mintbatch template list\n   mintbatch template list 'deb12-*' --json",
				Action:      a.templateList,
			},
			{
				Name:        "show",
				Usage:       "show one template in full",
				ArgsUsage:   "TEMPLATE",
				Description: "   mintbatch template show deb12-base",
				Action:      a.templateShow,
			},
			a.inspectCommand(),
			a.sealCommand(),
			a.makeCommand(),
			a.blankCommand(),
			a.dropCommand(),
		},
		Action: group,
	}
}

// templates asks for the templates that the command line names.
func (a *App) templates(ctx context.Context, c *cli.Command, show func(views []mint.TemplateView)) error {
	s, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	views, unreachable := s.Templates(ctx, c.Args().Slice())
	if views == nil && unreachable != nil {
		return unreachable
	}
	if c.Bool("json") {
		return errors.Join(a.document(templatesJSON{"mintbatch/templates/1", views}), unreachable)
	}
	show(views)
	return unreachable
}

func (a *App) templateList(ctx context.Context, c *cli.Command) error {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	return a.templates(ctx, c, func(views []mint.TemplateView) {
		var cells [][]string
		for _, v := range views {
			line := []string{visible(v.Name), v.Site, visible(v.Host), visible(v.Store), v.Format, some(v.Disk), some(v.Used), string(v.Firmware), few(v.Machines), "", some(v.Saved), made(v), templateNote(p, v)}
			if v.Linked != nil {
				line[9] = fmt.Sprint(*v.Linked)
			}
			cells = append(cells, line)
		}
		rows(a.Stdout, p, []string{"template", "site", "host", "store", "format", "size", "used", "firmware", "machines", "linked", "saved", "made", "note"}, cells)
	})
}

// few is a number that is left out where it is 0.
func few(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// made is the day on which a version was.
func made(v mint.TemplateView) string {
	if v.Version == nil {
		return ""
	}
	return v.Version.Made.Local().Format(time.DateOnly)
}

// templateNote says whether a template can be used.
func templateNote(p painter, v mint.TemplateView) string {
	switch {
	case v.Unfinished == ledger.VersionMaking:
		return p.paint("begun and not finished: run the same command again, or drop it", text.FgHiYellow)
	case v.Unfinished == ledger.VersionDropping:
		return p.paint("its deletion was begun: drop it again", text.FgHiYellow)
	case !v.There:
		return p.paint("not found", text.FgHiYellow)
	case v.Problem != "":
		return p.paint(visible("refused: "+v.Problem), text.FgHiRed)
	case v.Remark != "":
		return p.paint(visible(v.Remark), text.FgHiYellow)
	}
	return ""
}

func (a *App) templateShow(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("name one template: mintbatch template show TEMPLATE")}
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	line := a.labelled(p)
	return a.templates(ctx, c, func(views []mint.TemplateView) {
		for i, v := range views {
			if i > 0 {
				fmt.Fprintln(a.Stdout)
			}
			line("template", p.paint(visible(v.Name), text.FgHiCyan))
			line("site", v.Site)
			line("at the site", visible(v.Template.Name))
			line("host", visible(v.Host))
			line("linked at", visible(strings.Join(v.Hosts, " ")))
			line("store", visible(v.Store))
			line("format", v.Format)
			line("size", some(v.Disk))
			line("used", some(v.Used))
			if v.CPUs > 0 {
				line("cpus", fmt.Sprint(v.CPUs))
			}
			line("memory", size(v.Memory))
			line("firmware", string(v.Firmware))
			if v.Linked != nil {
				line("linked clones", fmt.Sprint(*v.Linked))
			}
			line("machines", few(v.Machines))
			line("saved", some(v.Saved))
			if is := v.Version; is != nil {
				line("made", is.Made.Local().Format(time.DateTime)+" by "+visible(is.By))
				line("from", visible(is.From))
				line("digest", is.Digest)
			}
			line("notes", visible(v.Notes))
			line("note", templateNote(p, v))
		}
	})
}
