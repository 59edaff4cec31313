package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/handover"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
)

func (a *App) showCommand() *cli.Command {
	return &cli.Command{
		Name:      "show",
		Usage:     "show one machine in full",
		ArgsUsage: "MACHINE",
		Description: "Shows everything that the ledger and the site know about one machine.\n\n" +
			"   mintbatch show bms-sonar-01\n   mintbatch show bms-sonar-01 --why\n   mintbatch show bms-sonar-01 --answers\n   mintbatch show bms-sonar-01 --changes",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "offline", Usage: "do not contact the sites; use what the ledger knows"},
			&cli.BoolFlag{Name: "answers", Usage: "print the answers that its guest received, or would receive"},
			&cli.BoolFlag{Name: "changes", Usage: "print how the answers that it would receive now differ from those"},
			&cli.BoolFlag{Name: "reveal", Usage: "with --answers, on a terminal: include the secrets"},
			&cli.BoolFlag{Name: "why", Usage: "show where each value of the machine comes from"},
		},
		Action: a.show,
	}
}

func (a *App) show(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return misuse{errors.New("name one machine: mintbatch show MACHINE")}
	}
	switch {
	case c.Bool("why"):
		return a.showWhy(ctx, c)
	case c.Bool("answers"), c.Bool("changes"):
		return a.showAnswers(ctx, c)
	}
	entries, err := a.entries(ctx, c, (*mint.Desk).Show)
	if errors.Is(err, glob.ErrNoMatch) {
		if planned := a.planned(ctx, c); planned != nil {
			entries, err = planned, nil
		}
	}
	if entries == nil && err != nil {
		return err
	}
	if c.Bool("json") {
		return errors.Join(a.entriesDocument("mintbatch/show/1", entries), err)
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	for i, e := range entries {
		if i > 0 {
			fmt.Fprintln(a.Stdout)
		}
		a.showEntry(p, e)
	}
	return err
}

// inBrackets puts a word in brackets; none stays none.
func inBrackets(word string) string {
	if word == "" {
		return ""
	}
	return "(" + word + ")"
}

// planned is a machine that is only in the sheet, as a mint would make it; nil if it is not in
// a sheet that can be read.
func (a *App) planned(ctx context.Context, c *cli.Command) []mint.Entry {
	s, err := a.openNamed(ctx, c)
	if err != nil {
		return nil
	}
	defer s.Close()
	p, err := s.Make(ctx, plan.Request{Names: c.Args().Slice(), Contact: contact(c)})
	if err != nil {
		return nil
	}
	var all []mint.Entry
	for _, w := range p.Works {
		if w.Slim != nil {
			all = append(all, s.Planned(w))
		}
	}
	return all
}

// labelled prints a name and its value, if it has one, a line each.
func (a *App) labelled(p painter) func(name, value string) {
	return func(name, value string) {
		if value != "" {
			fmt.Fprintf(a.Stdout, "%s %s\n", p.paint(fmt.Sprintf("%-14s", name), text.Bold), oneLine(value))
		}
	}
}

func (a *App) showEntry(p painter, e mint.Entry) {
	line := a.labelled(p)
	s := e.Spec
	line("machine", p.paint(visible(e.Name), text.FgHiCyan))
	line("site", e.Site)
	if e.State == mint.Planned {
		line("state", "in the sheet, and not made yet")
	} else {
		line("state", p.paint(e.InWords(), stateColours[e.InWords()]...)+" ("+e.AtSite+" at the site)")
	}
	line("power", string(e.Power))
	line("host", visible(e.Host))
	line("store", visible(e.Store))
	line("folder", visible(s.Clone.Folder))
	line("identity", e.Identity)
	line("born as", visible(e.Born))
	line("clone", string(s.Clone.Kind)+" of "+visible(s.Clone.Template))
	line("preset", visible(s.Preset))
	line("cpus", cpus(s.Shape))
	line("memory", size(s.Shape.Memory))
	line("disk", strings.TrimSpace(size(s.Shape.Disk)+" "+inBrackets(string(s.Clone.DiskKind))))
	line("disk used", some(e.Used))
	line("disk saved", some(e.Saved))
	for i, d := range s.Shape.Disks {
		of := ""
		if e.IsHandedOn(i) {
			of = " (kept from an earlier clone)"
		}
		line(fmt.Sprintf("data disk %d", i+1), visible(d.String())+of)
	}
	line("hostname", s.Guest.Hostname)
	if s.Guest.Domain != "" {
		line("FQDN", s.Guest.FQDN())
	}
	for i, ad := range s.Adapters {
		words := ad.Words()
		for _, prefix := range ad.Addresses {
			words = append(words, prefix.String())
		}
		if ad.Parent != (machine.Parent{}) {
			words = append(words, "parent "+ad.Parent.String())
		}
		line(fmt.Sprintf("adapter %d", i+1), fmt.Sprintf("%s  %s  %s", visible(ad.Network), ad.MAC, strings.Join(words, " ")))
	}
	line("login", s.Guest.Login)
	line("password", string(s.Guest.Password))
	if s.Guest.Password == "generate" && e.State != mint.Planned {
		line("", "mintbatch secret show "+visible(e.Name))
	}
	line("host key", visible(e.HostKey))
	for _, item := range e.Entries {
		line("in "+item.System, visible(item.String()))
	}
	for _, name := range slices.Sorted(maps.Keys(e.Records)) {
		line("record "+name, visible(e.Records[name]))
	}
	if address := e.Address(); address != "" && s.Guest.Login != "" && !kinds.Of(s.Guest).Accounts {
		line("ssh", visible("ssh "+s.Guest.Login+"@"+address))
	}
	line("display", visible(e.Display))
	for _, stage := range e.Stages {
		line("stage", visible(stage))
	}
	line("checkpoint", s.Checkpoint)
	line("after", strings.Join(s.After, " "))
	line("owner", visible(s.Info.Owner))
	line("until", s.Info.Until)
	line("keep", s.Info.Keep)
	if s.Info.Extended != "" {
		line("extended", "beyond its row ("+strings.Trim(strings.ReplaceAll(s.Info.Extended, "/", ", "), ", ")+")")
	}
	line("notes", visible(s.Info.Notes))
	for _, name := range sortedKeys(s.Info.Labels) {
		line("label", visible(name+"="+s.Info.Labels[name]))
	}
	line("failed at", visible(e.Error))
	if e.Run != "" {
		line("changed", when(e.Changed)+" by run "+e.Run)
	}
}

// showAnswers prints the answers of a machine, as its guest has them or will have them.
func (a *App) showAnswers(ctx context.Context, c *cli.Command) error {
	if err := a.mayReveal(c); err != nil {
		return err
	}
	s, err := a.openNamed(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	name := c.Args().First()
	if c.Bool("changes") {
		changes, err := handover.AnswersDiff(ctx, s, name)
		if changes == "" && err == nil {
			fmt.Fprintln(a.Stderr, "its answers would not change")
		}
		fmt.Fprint(a.Stdout, visibleLines(changes))
		return err
	}
	files, err := handover.Answers(ctx, s, name, handover.Reveal(c.Bool("reveal")))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		d := answersJSON{"mintbatch/answers/1", name, map[string]string{}}
		for _, f := range files {
			d.Files[f.Name] = string(f.Content)
		}
		return a.document(d)
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	for i, f := range files {
		if i > 0 {
			fmt.Fprintln(a.Stdout)
		}
		fmt.Fprintf(a.Stdout, "%s\n%s", p.paint(f.Name, text.Bold), visibleLines(strings.ReplaceAll(string(f.Content), "\r\n", "\n")))
	}
	return nil
}

// visibleLines is visible for text of several lines.
func visibleLines(s string) string {
	var b strings.Builder
	for line := range strings.Lines(s) {
		b.WriteString(visible(strings.TrimSuffix(line, "\n")) + "\n")
	}
	return b.String()
}

// showWhy reports where the values of a machine that the sheet asks for come from.
func (a *App) showWhy(ctx context.Context, c *cli.Command) error {
	s, err := a.openNamed(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	why, err := s.Why(c.Args().First())
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.document(whyJSON{"mintbatch/why/1", c.Args().First(), why})
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	var cells [][]string
	for _, w := range why {
		value := w.Value
		if finding.LooksLikeSecret(value) {
			value = finding.Hidden
		}
		cells = append(cells, []string{w.Column, visible(w.From), visible(w.At.String()), p.paint(visible(value), text.FgHiCyan)})
	}
	rows(a.Stdout, p, []string{"column", "from", "where", "value"}, cells)
	return nil
}
