package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/mint"
)

func (a *App) inspectCommand() *cli.Command {
	return &cli.Command{
		Name:      "inspect",
		Usage:     "read a disk and tell what system is on it, and what clones should not get from it",
		ArgsUsage: "TEMPLATE|machine:NAME|STORE/VOLUME|FILE",
		Description: "Reads the disk itself, only what is needed of it, while nothing runs on it. A file is a disk image, raw or qcow2.\n\n" +
			"   mintbatch template inspect deb12-base\n   mintbatch template inspect ./bookworm.qcow2 --json",
		Flags:  []cli.Flag{&cli.StringFlag{Name: "site", Usage: "only at this site (default: at each that has it)"}},
		Action: a.inspect,
	}
}

func (a *App) inspect(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("name one disk: mintbatch template inspect TEMPLATE|machine:NAME|STORE/VOLUME|FILE")}
	}
	found, err := a.inspected(ctx, c, c.Args().First())
	if found == nil && err != nil {
		return err
	}
	if c.Bool("json") {
		err = errors.Join(a.document(inspectJSON{"mintbatch/inspect/1", found}), err)
	} else {
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

// inspected looks at a file if there is one of the name, else at the sites.
func (a *App) inspected(ctx context.Context, c *cli.Command, name string) ([]mint.Inspected, error) {
	_, isMachine := machine.SourceOf(name)
	if _, err := os.Stat(name); !isMachine && (err == nil || strings.HasPrefix(name, "/") || strings.HasPrefix(name, ".")) {
		one, err := mint.InspectFile(name)
		if err != nil {
			return nil, err
		}
		return []mint.Inspected{one}, nil
	}
	d, err := a.openSetup(ctx, c)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.Inspect(ctx, name, c.String("site"))
}

func (a *App) showInspected(c *cli.Command, one mint.Inspected) {
	p := a.painter(a.Stdout, c.Bool("no-color"))
	line := a.labelled(p)
	s := one.System
	line("disk", p.paint(visible(one.Disk), text.FgHiCyan))
	line("site", one.Site)
	line("system", visible(strings.Join(nonEmpty(cmp.Or(s.Name, s.ID), build(s), s.Architecture), ", ")))
	line("kernels", visible(strings.Join(s.Kernels, " ")))
	line("boots", strings.Join(s.Boot, ", "))
	line("init", visible(s.Init))
	if ci := s.CloudInit; ci != nil {
		line("cloud-init", visible(strings.Join(nonEmpty(ci.Version, strings.Join(ci.Sources, " "), off(ci)), ", ")))
	}
	if s.Kind == inspect.Windows {
		line("generalized", map[bool]string{true: "yes", false: "no"}[s.Generalized])
	}
	line("drivers", strings.Join(s.Drivers, " "))
	line("network", strings.Join(s.Network, " "))
	line("guest agent", visible(s.Agent))
	line("ssh", visible(s.SSH))
	line("sudo", visible(s.Sudo))
	line("growpart", visible(s.GrowPart))
	fmt.Fprintln(a.Stdout)
	var cells [][]string
	for _, v := range one.Volumes {
		cells = append(cells, []string{visible(v.Name), string(v.Kind), rough(machine.Size(v.Size)), v.FileSystem, visible(v.Label), visible(v.Mount), visible(v.Problem)})
	}
	rows(a.Stdout, p, []string{"volume", "kind", "size", "file system", "label", "at", "note"}, cells)
	fmt.Fprintln(a.Stdout)
	a.findings(a.Stdout, leftovers(one))
	if len(one.Leftovers) == 0 {
		fmt.Fprintln(a.Stdout, "Nothing is left that clones should not get.")
	}
	fmt.Fprintln(a.Stdout)
	paragraph(a.Stdout, "", fmt.Sprintf("read %s of the disk", rough(machine.Size(one.Read))))
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
		at := strings.Join(l.Where, ", ")
		if more := l.Count - len(l.Where); more > 0 {
			at += fmt.Sprintf(" and %d more", more)
		}
		if at == "" {
			at = one.Disk
		}
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
