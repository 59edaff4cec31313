package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/mint"
	"mintbatch/internal/output"
	"mintbatch/internal/report"
)

func (a *App) inspectCommand() *cli.Command {
	return &cli.Command{
		Name:      "inspect",
		Usage:     "read a disk and tell what system is on it, and what clones should not get from it",
		ArgsUsage: "TEMPLATE|machine:NAME|STORE/VOLUME|FILE",
		Description: "Reads the disk itself, only what is needed of it, while nothing runs on it. A file is a disk image, raw or qcow2.\n\n" +
			"   mintbatch template inspect deb12-base\n   mintbatch template inspect ./bookworm.qcow2 --json",
		Flags: []cli.Flag{&cli.StringFlag{Name: "site", Usage: "only at this site (default: at each that has it)"},
			&cli.StringFlag{Name: "html", Usage: "write a page for a browser to `FILE` instead"}, forceFlag(overFiles)},
		Action: a.inspect,
	}
}

func (a *App) inspect(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("name one disk: mintbatch template inspect TEMPLATE|machine:NAME|STORE/VOLUME|FILE")}
	}
	found, guard, err := a.inspected(ctx, c, c.Args().First())
	if found == nil && err != nil {
		return err
	}
	switch path := c.String("html"); {
	case path != "":
		page, failed := inspectPage(found).HTML()
		if failed == nil {
			failed = guard.Write(path, page, over(c), 0o644)
		}
		if failed != nil {
			return errors.Join(failed, err)
		}
		fmt.Fprintf(a.Stderr, "wrote %s\n", path)
	case c.Bool("json"):
		err = errors.Join(a.document(inspectJSON{"mintbatch/inspect/1", found}), err)
	default:
		for i, one := range found {
			if i > 0 {
				fmt.Fprintln(a.Stdout)
			}
			a.showInspected(c, one)
		}
	}
	for _, one := range found {
		if err == nil && one.Blocks() {
			err = &reported{exitIncomplete}
		}
	}
	return err
}

// inspected looks at a file if there is one of the name, else at the sites. The guard keeps what was looked at, or with.
func (a *App) inspected(ctx context.Context, c *cli.Command, name string) ([]mint.Inspected, output.Guard, error) {
	_, isMachine := machine.SourceOf(name)
	if _, err := os.Stat(name); !isMachine && (err == nil || strings.HasPrefix(name, "/") || strings.HasPrefix(name, ".")) {
		one, err := mint.InspectFile(name)
		if err != nil {
			return nil, output.Guard{}, err
		}
		return []mint.Inspected{one}, output.Guard{Files: []string{name}}, nil
	}
	d, err := a.openSetup(ctx, c)
	if err != nil {
		return nil, output.Guard{}, err
	}
	defer d.Close()
	found, err := d.Inspect(ctx, name, c.String("site"))
	return found, d.Guard(), err
}

func (a *App) showInspected(c *cli.Command, one mint.Inspected) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	line := a.labelled(p)
	line("disk", p.paint(visible(one.Disk), text.FgHiCyan))
	line("site", one.Site)
	for _, f := range facts(one) {
		line(f[0], visible(f[1]))
	}
	fmt.Fprintln(a.Stdout)
	rows(a.Stdout, p, volumeColumns, volumes(one))
	fmt.Fprintln(a.Stdout)
	a.findings(a.Stdout, leftovers(one))
	if len(one.Leftovers) == 0 {
		fmt.Fprintln(a.Stdout, "Nothing is left that clones should not get.")
	}
	fmt.Fprintln(a.Stdout)
	paragraph(a.Stdout, "", fmt.Sprintf("read %s of the disk", rough(machine.Size(one.Read))))
}

// facts are what a disk's system is, as far as that is known.
func facts(one mint.Inspected) [][2]string {
	s := one.System
	all := [][2]string{
		{"system", strings.Join(nonEmpty(cmp.Or(s.Name, s.ID), build(s), s.Architecture), ", ")},
		{"kernels", strings.Join(s.Kernels, " ")},
		{"boots", strings.Join(s.Boot, ", ")},
		{"init", s.Init},
	}
	if ci := s.CloudInit; ci != nil {
		all = append(all, [2]string{"cloud-init", strings.Join(nonEmpty(ci.Version, strings.Join(ci.Sources, " "), off(ci)), ", ")})
	}
	if s.Kind == inspect.Windows {
		all = append(all, [2]string{"generalized", map[bool]string{true: "yes", false: "no"}[s.Generalized]})
	}
	all = append(all, [2]string{"drivers", strings.Join(s.Drivers, " ")}, [2]string{"network", strings.Join(s.Network, " ")},
		[2]string{"guest agent", s.Agent}, [2]string{"ssh", s.SSH}, [2]string{"sudo", s.Sudo}, [2]string{"growpart", s.GrowPart})
	return slices.DeleteFunc(all, func(f [2]string) bool { return f[1] == "" })
}

var volumeColumns = []string{"volume", "kind", "size", "file system", "label", "at", "note"}

func volumes(one mint.Inspected) (cells [][]string) {
	for _, v := range one.Volumes {
		cells = append(cells, []string{visible(v.Name), string(v.Kind), rough(machine.Size(v.Size)), v.FileSystem, visible(v.Label), visible(v.Mount), visible(v.Problem)})
	}
	return cells
}

// inspectPage is a page for a browser.
func inspectPage(all []mint.Inspected) report.InspectPage {
	p := report.InspectPage{Title: "What is on " + all[0].Disk, Made: time.Now().Format("2006-01-02 15:04")}
	counts := map[finding.Severity]int{}
	for _, one := range all {
		d := report.InspectedDisk{Name: strings.Join(nonEmpty(one.Disk, one.Site), " at site "), Facts: facts(one), Columns: volumeColumns, Volumes: volumes(one)}
		for _, severity := range []finding.Severity{finding.Error, finding.Warning, finding.Note} {
			g := report.FoundGroup{}
			for _, l := range one.Leftovers {
				if l.Severity == severity {
					g.Found = append(g.Found, report.FoundOnDisk{Code: l.Code, Text: l.Text, Where: places(l), Remedy: l.Remedy})
				}
			}
			if n := len(g.Found); n > 0 {
				g.Title = finding.Plural(n, severity.String())
				counts[severity] += n
				d.Groups = append(d.Groups, g)
			}
		}
		p.Disks = append(p.Disks, d)
	}
	p.Summary = fmt.Sprintf("%s, %s, %s.", finding.Plural(counts[finding.Error], "error"), finding.Plural(counts[finding.Warning], "warning"), finding.Plural(counts[finding.Note], "note"))
	return p
}

// places are where something was found, and how many more there are.
func places(l inspect.Leftover) string {
	at := strings.Join(l.Where, ", ")
	if more := l.Count - len(l.Where); more > 0 {
		at += fmt.Sprintf(" and %d more", more)
	}
	return at
}

// build is the version of a system whose name does not tell it.
func build(s inspect.System) string {
	if s.Kind == inspect.Windows {
		return s.Version
	}
	return ""
}

func off(c *inspect.CloudInit) string {
	if c.Disabled == "" {
		return ""
	}
	return "disabled by " + c.Disabled
}

// leftovers are what was found, as findings at the places where it was.
func leftovers(one mint.Inspected) finding.List {
	var all finding.List
	for _, l := range one.Leftovers {
		at := cmp.Or(places(l), one.Disk)
		all = append(all, finding.Finding{Severity: l.Severity, Code: l.Code, At: finding.Position{File: at}, Message: l.Text, Hint: l.Remedy})
	}
	return all
}

func nonEmpty(all ...string) []string {
	var some []string
	for _, s := range all {
		if strings.TrimSpace(s) != "" {
			some = append(some, strings.TrimSpace(s))
		}
	}
	return some
}
