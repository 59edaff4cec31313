package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/mint"
	"mintbatch/internal/template"
)

func (a *App) sealCommand() *cli.Command {
	return &cli.Command{
		Name:      "seal",
		Usage:     "make a version of a template of a machine, cleaned of its identity",
		ArgsUsage: "MACHINE[@CHECKPOINT]",
		Description: "Copies the machine, which stays as it is, starts the copy with all cables pulled, takes the identity of the machine away\n" +
			"inside of it, inspects its disk, and makes the next version of a template of it. The machine has to be shut off, or a\n" +
			"checkpoint of it named.\n\n" +
			"   mintbatch template seal bms-tide-01 --as deb12-base --site quay\n   mintbatch template seal bms-tide-01@ready --as deb12-base --dry\n   mintbatch template seal bms-tide-01 --as deb12-base --keep logs --run ./last-steps.sh",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "as", Usage: "the `TEMPLATE` of which it becomes the next version"},
			siteFlag(),
			&cli.StringFlag{Name: "store", Usage: "the store that gets its disk (default: that of the machine)"},
			&cli.StringFlag{Name: "notes", Usage: "what people want to know of it"},
			&cli.StringSliceFlag{Name: "keep", Usage: "leave `WHAT` on it, such as logs or authorized-keys; may be repeated"},
			&cli.StringFlag{Name: "run", Usage: "run this script, a `FILE`, in the guest before it is cleaned"},
			&cli.DurationFlag{Name: "limit", Usage: "how long the guest may take (default 20m)"},
			&cli.BoolFlag{Name: "in-place", Usage: "clean the machine itself, which this ledger has made, and not a copy; a checkpoint keeps it as it was"},
			&cli.BoolFlag{Name: "dry", Usage: "show what would be cleaned, and stop"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"}, eventsFlag(), forceFlag(overFiles),
		},
		Action: a.withScope(a.sealArguments, a.sealed, a.seal),
	}
}

func (a *App) sealArguments(c *cli.Command) error {
	switch {
	case c.NArg() != 1 || c.String("as") == "":
		return misuse{errors.New("name one machine and a template: mintbatch template seal MACHINE --as TEMPLATE")}
	case c.Duration("limit") < 0 || c.Duration("limit") > 0 && c.Duration("limit") < time.Second:
		return misuse{errors.New("--limit must be 1s or more")}
	}
	return nil
}

// sealed is the scope of a seal: templates, and the machine.
func (a *App) sealed(c *cli.Command) mint.Scope {
	name, _, _ := strings.Cut(c.Args().First(), "@")
	return func(key machine.Key) bool { return template.Scope(key) || strings.EqualFold(key.Name, name) }
}

func (a *App) seal(ctx context.Context, c *cli.Command, d *mint.Desk) error {
	p, err := template.PrepareSeal(ctx, d, template.SealOrder{Machine: c.Args().First(), Name: c.String("as"), Site: c.String("site"), Store: c.String("store"), Notes: c.String("notes"), InPlace: c.Bool("in-place"),
		Keep: c.StringSlice("keep"), Hook: c.String("run"), Limit: c.Duration("limit")})
	if err != nil {
		return err
	}
	if c.Bool("dry") && c.Bool("json") {
		return a.document(sealJSON{"mintbatch/seal/1", p.Machine, p.Name(), p.Site, p.Acts})
	}
	if a.readsInput(c) && !p.There {
		a.showSeal(c, p)
	}
	if blocking := p.Blocking(); len(blocking) > 0 {
		return fmt.Errorf("%w: %s would be left, so it would be no template", template.ErrRefused, strings.Join(blocking, ", "))
	}
	if c.Bool("dry") {
		return nil
	}
	outcome, err := a.perform(ctx, c, d, p.Task, p.Question())
	return a.closeVersion(c, d, outcome, err, "made", p.Version, "")
}

// showSeal shows what is cleaned, and what stays and why.
func (a *App) showSeal(c *cli.Command, p *template.Sealing) {
	paint := a.painter(a.Stdout, c.Bool("no-color"))
	line := a.labelled(paint)
	line("machine", paint.paint(visible(p.Machine), text.FgHiCyan))
	line("template", visible(p.Name()))
	line("site", visible(p.Site))
	line("store", visible(p.Store))
	line("system", visible(p.Found.System.Name))
	if p.InPlace {
		line("cleaned by", p.By+", itself; the checkpoint "+p.Checkpoint+" keeps it as it was")
	} else {
		line("cleaned by", p.By+" of a copy; the machine stays as it is")
	}
	for _, part := range []struct {
		title   string
		cleaned bool
	}{{"to be cleaned", true}, {"to be left", false}} {
		var cells [][]string
		for _, act := range p.Acts {
			if act.Cleaned == part.cleaned {
				cells = append(cells, []string{strings.TrimPrefix(act.Code, "left-"), visible(act.Where), visible(act.Why)})
			}
		}
		if len(cells) > 0 {
			fmt.Fprintln(a.Stdout)
			rows(a.Stdout, paint, []string{part.title, "where", "why"}, cells)
		}
	}
	fmt.Fprintln(a.Stdout)
}
