package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/ovf"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/template"
)

func siteFlag() cli.Flag {
	return &cli.StringFlag{Name: "site", Usage: "the site (default: the only one of the setup)"}
}

// makingFlags are those of commands that make a version of a template.
func makingFlags(more ...cli.Flag) []cli.Flag {
	return append(more, siteFlag(),
		&cli.StringFlag{Name: "store", Usage: "the store that gets its disk (default: the setup's, or the only one of the site)"},
		&cli.StringFlag{Name: "host", Usage: "the host that has it (default: the first that reaches the store)"},
		&cli.StringFlag{Name: "hardware", Usage: "the `PRESET` whose CPUs, memory and firmware it gets (default: what the setup's template of its name says)"},
		&cli.StringFlag{Name: "notes", Usage: "what people want to know of it"},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"}, eventsFlag(), forceFlag(overFiles))
}

func (a *App) makeCommand() *cli.Command {
	return &cli.Command{
		Name:      "make",
		Usage:     "make a version of a template of a disk image",
		ArgsUsage: "TEMPLATE",
		Description: "Reads the image, which is a file (qcow2, vhdx, vhd, vmdk or raw), a volume of the site, or the disk of a machine that is shut\n" +
			"off, inspects it, sends it to the site and makes a template of it: the next version of TEMPLATE. What is sent has no holes and\n" +
			"depends on no other image. Of a package (OVF or OVA) the disk, the hardware and what it says of itself is taken.\n\n" +
			"   mintbatch template make deb12-base --disk ./bookworm.qcow2 --site quay\n   mintbatch template make chart-desk --ova ./chart-desk.ova --site quay",
		Flags: makingFlags(&cli.StringFlag{Name: "ova", Usage: "a machine in the Open Virtualization Format: `FILE`.ova or FILE.ovf"}, &cli.StringFlag{Name: "disk", Usage: "the disk image: a `FILE`, or STORE/VOLUME or machine:NAME of the site"},
			&cli.BoolFlag{Name: "first-disk", Usage: "of a package with several disks, take only the one that it starts from"},
			&cli.BoolFlag{Name: "as-is", Usage: "also where the disk has left-overs that are errors"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() != 1 || (c.String("disk") == "") == (c.String("ova") == "") {
				return misuse{errors.New("name a template and a disk, or a package: mintbatch template make TEMPLATE --disk FILE|STORE/VOLUME|machine:NAME, or --ova FILE")}
			}
			return a.makeTemplate(ctx, c, template.MakeOrder{Disk: c.String("disk"), Package: c.String("ova"), FirstDisk: c.Bool("first-disk"), Anyway: c.Bool("as-is")})
		},
	}
}

func (a *App) blankCommand() *cli.Command {
	return &cli.Command{
		Name:        "blank",
		Usage:       "make a version of a template that is an empty disk, to install on",
		ArgsUsage:   "TEMPLATE",
		Description: "   mintbatch template blank win-chart --size 40GiB --site quay",
		Flags:       makingFlags(&cli.StringFlag{Name: "size", Usage: "the `SIZE` of the disk, which takes no room until it is written to"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			size, err := machine.ParseSize(c.String("size"))
			if c.NArg() != 1 || err != nil || size <= 0 || size%512 != 0 {
				return misuse{errors.New("name a template and a size: mintbatch template blank TEMPLATE --size 40GiB")}
			}
			return a.makeTemplate(ctx, c, template.MakeOrder{Size: size})
		},
	}
}

func (a *App) makeTemplate(ctx context.Context, c *cli.Command, o template.MakeOrder) error {
	o.Name, o.Site, o.Host, o.Store, o.Preset, o.Notes = c.Args().First(), c.String("site"), c.String("host"), c.String("store"), c.String("hardware"), c.String("notes")
	d, err := a.openSetup(ctx, c)
	if err != nil {
		return err
	}
	defer d.Close()
	m, err := template.Prepare(ctx, d, o, func() error { return a.lock(ctx, c, d, template.Scope) })
	if err != nil {
		return err
	}
	defer m.Close()
	if m.Packed != nil && a.readsInput(c) {
		a.sayPacked(m.Packed)
	}
	if m.Found != nil && a.readsInput(c) {
		a.findings(a.Stderr, leftovers(*m.Found))
	}
	if m.Task.Works == nil && !m.There {
		return fmt.Errorf("%w: %s of its disk; clean it, or give --as-is", template.ErrRefused, finding.Plural(m.Blocking, "error"))
	}
	if m.There {
		return a.versionDone(c, "", "there", m.Version, m.Suggested)
	}
	outcome, err := a.perform(ctx, c, d, m.Task, m.Question())
	return a.closeVersion(c, d, outcome, err, "made", m.Version, m.Suggested)
}

// sayPacked tells what a package says of its machine, and what of that is not taken.
func (a *App) sayPacked(m *ovf.Machine) {
	cpus, memory := "", ""
	if m.CPUs > 0 {
		cpus = finding.Plural(m.CPUs, "CPU")
	}
	if m.Memory > 0 {
		memory = m.Memory.String() + " of memory"
	}
	parts := nonEmpty(strings.TrimSpace(m.Product.Vendor+" "+m.Product.Name+" "+m.Product.Version), m.System, cpus, memory, string(m.Firmware))
	fmt.Fprintf(a.Stderr, "%s\n", visible(strings.Join(nonEmpty(m.Name, strings.Join(parts, ", ")), ": ")))
	for _, r := range m.Remarks {
		paragraph(a.Stderr, "  ", visible(r))
	}
}

// closeVersion tells what came of work on a version, and what the setup can say of it.
func (a *App) closeVersion(c *cli.Command, d *mint.Desk, outcome *mint.Outcome, err error, done string, v ledger.Version, suggested string) error {
	if outcome == nil {
		return err
	}
	if err := template.Outcome(outcome, err); err != nil {
		return err
	}
	if _, named := d.Setup.Templates[v.Of]; done == "made" && !named && suggested == "" && a.readsInput(c) {
		defer fmt.Fprintf(a.Stdout, "the setup has no template %[1]s: write `%[1]s: {guest: linux}` under templates, so that rows can name it\n", visible(v.Of))
	}
	return a.versionDone(c, outcome.Run, done, v, suggested)
}

func (a *App) versionDone(c *cli.Command, run, done string, v ledger.Version, suggested string) error {
	if c.Bool("json") {
		return a.document(templateJSON{"mintbatch/template/1", run, v.Name(), v.Site, done, v.Digest, suggested})
	}
	if !a.readsInput(c) {
		return nil
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	said := map[string]string{"made": "is made at site %s", "there": "of this content is at site %s already: nothing to do", "dropped": "is deleted at site %s"}[done]
	fmt.Fprintf(a.Stdout, "template %s "+said+"\n", p.paint(visible(v.Name()), text.FgHiCyan), visible(v.Site))
	if suggested != "" {
		fmt.Fprintf(a.Stdout, "\nwhat the setup can say, for machines like the one in the package:\n\n%s", visibleLines(suggested))
	}
	return nil
}

// canAsk reports whether somebody can be asked, and is to be.
func (a *App) canAsk(c *cli.Command) bool {
	_, is := terminal(a.Stdin)
	return is && !c.Bool("yes")
}

// ofTemplates is the scope of commands on versions of templates.
func ofTemplates(*cli.Command) mint.Scope { return template.Scope }

func (a *App) dropCommand() *cli.Command {
	return &cli.Command{
		Name:        "drop",
		Usage:       "delete a version of a template that was made by mintbatch",
		ArgsUsage:   "TEMPLATE@VERSION",
		Description: "Refused while linked clones need its disk, which --detach gives one of their own.\n\n   mintbatch template drop deb12-base@1 --site quay",
		Flags:       []cli.Flag{siteFlag(), &cli.BoolFlag{Name: "detach", Usage: "make linked clones of it independent first"}, &cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"}, eventsFlag(), forceFlag(overFiles)},
		Action: a.withScope(exactlyOne("name one version: mintbatch template drop TEMPLATE@VERSION"), ofTemplates, func(ctx context.Context, c *cli.Command, d *mint.Desk) error {
			p, err := template.PrepareDrop(ctx, d, c.Args().First(), c.String("site"))
			var needed *template.Needed
			if errors.As(err, &needed) && (c.Bool("detach") || a.canAsk(c)) {
				outcome, failed := a.perform(ctx, c, d, needed.Detaching(d), needed.Question())
				if outcome == nil {
					return failed
				}
				if err := template.Outcome(outcome, failed); err != nil {
					return err
				}
				p, err = template.PrepareDrop(ctx, d, c.Args().First(), c.String("site"))
			}
			if err != nil {
				return err
			}
			outcome, err := a.perform(ctx, c, d, p.Task, p.Question())
			return a.closeVersion(c, d, outcome, err, "dropped", p.Version, "")
		}),
	}
}
