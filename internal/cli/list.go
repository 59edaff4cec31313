package cli

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
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
		Description: "Lists the machines of the ledger with their state at the sites. Names may be globs or ranges. Machines that\n" +
			"are alike and whose names count up stand in one line. Fields are " + wrapped(append(mint.FieldNames(), "label:NAME")) + ".\n\n" +
			"   mintbatch list\n   mintbatch list 'bms-sonar-0*' --each --wide\n   mintbatch list --where 'owner=sonar*' --where 'until<2027-01-01' --sort until\n" +
			"   mintbatch list --group owner --columns machine,addresses,until\n   mintbatch list --offline --json",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "offline", Usage: "do not contact the sites; use what the ledger knows"},
			&cli.StringSliceFlag{Name: "where", Usage: "only machines that fulfil a `CONDITION`: a field, one of = != < <= > >=, and a value, for = and != perhaps a glob; may be repeated"},
			&cli.StringFlag{Name: "sort", Usage: "sort by a `FIELD`"},
			&cli.StringFlag{Name: "group", Usage: "a list of its own for each value of a `FIELD`, such as site, owner, preset or label:NAME"},
			&cli.StringFlag{Name: "columns", Usage: "show these `FIELDS`, separated by commas"},
			&cli.BoolFlag{Name: "csv", Usage: "print CSV, a line for each machine"},
			&cli.StringFlag{Name: "at", Usage: "what there was at a `MOMENT`, by the history: 2026-11-23 (at its end), \"2026-11-23 18:00\", 7d (ago)"},
			eachFlag(),
		},
		Action: a.list,
	}
}

// wrapped joins words with commas, a few to a line.
func wrapped(all []string) string {
	var b strings.Builder
	for i, word := range all {
		switch {
		case i > 0 && i%9 == 0:
			b.WriteString(",\n")
		case i > 0:
			b.WriteString(", ")
		}
		b.WriteString(word)
	}
	return b.String()
}

// arrangement is how a list is to be shown.
type arrangement struct {
	where   []mint.Condition
	sort    *mint.Field
	group   *mint.Field
	columns []mint.Field
	chosen  bool // the columns
}

// usualColumns are those of a list where none are chosen.
var usualColumns = []string{"machine", "site", "folder", "host", "state", "sheet", "power", "addresses", "used", "saved", "owner", "changed"}

func arrangementOf(c *cli.Command) (r arrangement, err error) {
	field := func(name string) (*mint.Field, error) {
		if name == "" {
			return nil, nil
		}
		f, err := mint.ParseField(name)
		return &f, err
	}
	for _, text := range c.StringSlice("where") {
		condition, err := mint.ParseCondition(text)
		if err != nil {
			return r, misuse{fmt.Errorf("--where: %w", err)}
		}
		r.where = append(r.where, condition)
	}
	if r.sort, err = field(c.String("sort")); err != nil {
		return r, misuse{fmt.Errorf("--sort: %w", err)}
	}
	if r.group, err = field(c.String("group")); err != nil {
		return r, misuse{fmt.Errorf("--group: %w", err)}
	}
	names := usualColumns
	if text := c.String("columns"); text != "" {
		names, r.chosen = strings.Split(text, ","), true
	}
	for _, name := range names {
		f, err := mint.ParseField(strings.TrimSpace(name))
		if err != nil {
			return r, misuse{fmt.Errorf("--columns: %w", err)}
		}
		r.columns = append(r.columns, f)
	}
	return r, nil
}

func (a *App) list(ctx context.Context, c *cli.Command) error {
	if c.String("at") != "" {
		return a.listAt(ctx, c)
	}
	how, err := arrangementOf(c)
	if err != nil {
		return err
	}
	forPrograms := c.Bool("json") || c.Bool("csv")
	if forPrograms && c.Bool("offline") && how.sort == nil && !c.Args().Present() {
		return a.listThrough(ctx, c, how)
	}
	entries, err := a.entries(ctx, c, (*mint.Desk).List)
	if entries == nil && err != nil {
		return err
	}
	entries = mint.Select(entries, how.where)
	switch {
	case how.sort != nil:
		mint.Sort(entries, *how.sort)
	case forPrograms:
		mint.ByName(entries)
	}
	if forPrograms {
		return errors.Join(a.writeEntries(c, how, func(take func([]mint.Entry) error) error { return take(entries) }), err)
	}
	p, quiet := a.painter(a.Stdout, c.Bool("no-color")), c.Bool("quiet")
	var used, saved machine.Size
	var listed []mint.Entry
	for _, e := range entries {
		used, saved = used+e.Used, saved+e.Saved
		if !quiet || e.State != proof.Made || e.AtSite == mint.Gone {
			listed = append(listed, e)
		}
	}
	a.paged(c, func(w io.Writer) {
		summed(w, func(w io.Writer) {
			if how.group == nil {
				showEntries(w, p, how, listed, c.Bool("each"))
				return
			}
			for _, part := range mint.Parts(listed, *how.group) {
				value := cmp.Or(how.group.Of(&part[0]), "(none)")
				paragraph(w, "", p.paint(fmt.Sprintf("%s %s: %s", how.group.Name, visible(value), finding.Plural(len(part), "machine")), text.Bold))
				showEntries(w, p, how, part, c.Bool("each"))
			}
		}, func(w io.Writer) {
			if quiet {
				return
			}
			room := ""
			if used > 0 {
				room = fmt.Sprintf("; they use %s; linked clones save %s", rough(used), rough(saved))
			}
			paragraph(w, "", p.paint(finding.Plural(len(entries), "machine")+room, text.Bold))
		})
	})
	return err
}

// listThrough writes all machines of the ledger for other programs, without having them all in memory.
func (a *App) listThrough(ctx context.Context, c *cli.Command, how arrangement) error {
	s, err := a.openSetup(ctx, c, "ledger")
	if err != nil {
		return err
	}
	defer s.Close()
	request := a.listRequest(c, s)
	return a.writeEntries(c, how, func(take func([]mint.Entry) error) error {
		return s.EachOffline(ctx, request, func(some []mint.Entry) error { return take(mint.Select(some, how.where)) })
	})
}

// writeEntries writes machines, which come some at a time, for other programs.
func (a *App) writeEntries(c *cli.Command, how arrangement, each func(take func([]mint.Entry) error) error) error {
	if c.Bool("csv") {
		return a.entriesCSV(how, each)
	}
	return a.listDocument("mintbatch/list/1", "machines", func(take func(any) error) error {
		return each(func(some []mint.Entry) error { return take(some) })
	})
}

// listAt lists what there was.
func (a *App) listAt(ctx context.Context, c *cli.Command) error {
	at, err := mint.Moment(c.String("at"), time.Now(), true)
	if err != nil {
		return misuse{err}
	}
	s, err := a.openSetup(ctx, c, "ledger")
	if err != nil {
		return err
	}
	defer s.Close()
	all, err := s.ListAt(ctx, c.Args().Slice(), at)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.document(listAtJSON{"mintbatch/list-at/1", at, append([]mint.Earlier{}, all...)})
	}
	var cells [][]string
	for _, m := range all {
		cells = append(cells, []string{visible(m.Name), m.Site, m.State, when(m.Since), m.Run, visible(m.Detail)})
	}
	p := a.painter(a.Stdout, c.Bool("no-color"))
	a.paged(c, func(w io.Writer) {
		summed(w, func(w io.Writer) {
			if len(cells) > 0 {
				rows(w, p, []string{"machine", "site", "state", "since", "run", "what"}, cells)
				fmt.Fprintln(w)
			}
		}, func(w io.Writer) {
			paragraph(w, "", p.paint(finding.Plural(len(all), "machine")+" at "+at.Format("2006-01-02 15:04:05 MST"), text.Bold))
		})
	})
	return nil
}

// showEntries prints a line for each machine, or for those that are alike.
func showEntries(w io.Writer, p painter, how arrangement, entries []mint.Entry, each bool) {
	if len(entries) == 0 {
		return
	}
	series := slices.Collect(slices.Chunk(entries, 1))
	if !each {
		series = machine.Series(entries, how.alike)
	}
	headings, cells := []string{}, make([][]string, len(series))
	for _, f := range how.columns {
		headings = append(headings, f.Name)
		if f.Name == "machine" {
			headings = append(headings, "count")
		}
		for i, s := range series {
			cell := how.cell(p, f, s)
			if cells[i] = append(cells[i], cell); f.Name == "machine" {
				cells[i] = append(cells[i], several(len(s)))
			}
		}
	}
	rows(w, p, headings, cells)
	fmt.Fprintln(w)
}

// alike reports whether a machine is the next of those that stand in one line.
func (r arrangement) alike(a, b *mint.Entry) bool {
	if !machine.NameFollows(a.Name, b.Name) || a.Site != b.Site {
		return false
	}
	for _, f := range r.columns {
		switch f.Name {
		case "machine", "used", "saved", "changed":
		case "addresses":
			if !machine.AddressesFollow(a.Spec.Adapters, b.Spec.Adapters) {
				return false
			}
		default:
			if f.Of(a) != f.Of(b) {
				return false
			}
		}
	}
	return true
}

// cell is a field of machines that stand in one line: of sizes the sum, of times the last.
func (r arrangement) cell(p painter, f mint.Field, s []mint.Entry) string {
	first, last := &s[0], &s[len(s)-1]
	switch f.Name {
	case "machine":
		return visible(machine.NameRange(first.Name, last.Name))
	case "addresses":
		return strings.Join(machine.AddressRanges(first.Spec.Adapters, last.Spec.Adapters), " ")
	case "state":
		return p.paint(first.InWords(), stateColours[first.InWords()]...)
	case "used", "saved":
		var sum machine.Size
		for _, e := range s {
			if f.Name == "used" {
				sum += e.Used
			} else {
				sum += e.Saved
			}
		}
		return some(sum)
	case "changed":
		at := ""
		for i := range s {
			at = max(at, f.Of(&s[i]))
		}
		return at
	}
	return visible(f.Of(first))
}

// stateColours are those of the states that a list shows.
var stateColours = map[string]text.Colors{"gone": {text.FgHiRed}, "unfinished": {text.FgHiYellow}, "not listed": {text.FgHiYellow}, "made": {text.FgHiCyan}}

// entriesCSV prints a line for each machine (RFC 4180), with all fields if none are chosen.
func (a *App) entriesCSV(how arrangement, each func(take func([]mint.Entry) error) error) error {
	if !how.chosen {
		how.columns = nil
		for _, name := range mint.FieldNames() {
			f, _ := mint.ParseField(name) // which is known
			how.columns = append(how.columns, f)
		}
	}
	w := csv.NewWriter(raw(a.Stdout))
	line := make([]string, len(how.columns))
	for i, f := range how.columns {
		line[i] = f.Name
	}
	_ = w.Write(line)
	begun := false
	err := each(func(some []mint.Entry) error {
		begun = true
		for i := range some {
			for k, f := range how.columns {
				line[k] = f.Of(&some[i])
			}
			_ = w.Write(line)
		}
		return w.Error()
	})
	if err != nil && !begun {
		return err
	}
	w.Flush()
	return errors.Join(err, w.Error())
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
	entries, warnings, err := list(s, ctx, a.listRequest(c, s))
	a.findings(a.Stderr, warnings)
	return entries, err
}

func (a *App) listRequest(c *cli.Command, s *mint.Desk) mint.ListRequest {
	r := mint.ListRequest{Names: c.Args().Slice(), Contact: contact(c)}
	if in, err := a.input(c); err == nil && !c.Args().Present() {
		r.Sheet = sync.OnceValue(func() map[string]bool { return s.SheetNames(in) })
		go r.Sheet() // while the ledger is read
	}
	return r
}

func (a *App) entriesDocument(schema string, entries []mint.Entry) error {
	if entries == nil { // which is an empty list
		entries = []mint.Entry{}
	}
	return a.document(entriesJSON{schema, entries})
}

func when(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04:05")
}
