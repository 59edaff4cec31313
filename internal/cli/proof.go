package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/mint"
)

func (a *App) proofCommand() *cli.Command {
	return &cli.Command{
		Name:      "proof",
		Usage:     "show the work that a mint would do",
		ArgsUsage: "[MACHINE...]",
		Description: "Computes the work without doing it: which machines, from what, with which addresses.\n" +
			"The addresses shown are those that a mint will use. Names may be globs.\n\n" +
			"   mintbatch proof\n   mintbatch proof 'bms-sonar-*' --files answers",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "files", Usage: "also write every answers file and seed into `DIR`, secrets left out"},
			&cli.BoolFlag{Name: "reveal", Usage: "with --files, on a terminal: with the secrets that are made already"},
			&cli.BoolFlag{Name: "hold", Usage: "reserve the addresses of the machines that are new"},
			&cli.BoolFlag{Name: "offline", Usage: "ask no site; believe the ledger"},
		},
		Action: a.proof,
	}
}

func (a *App) proof(ctx context.Context, c *cli.Command) error {
	if err := a.mayReveal(c); err != nil {
		return err
	}
	s, err := a.open(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if c.Bool("hold") {
		if err := a.hold(ctx, c, s, s.InSheet(c.Args().Slice())); err != nil {
			return err
		}
	}
	p, err := s.Proof(ctx, c.Args().Slice(), c.Bool("offline"))
	if err != nil {
		return err
	}
	var looked []mint.Looked
	if !c.Bool("offline") {
		if looked, err = s.Look(ctx, p); err != nil {
			return err
		}
	}
	a.findings(a.Stderr, s.Warnings)
	if c.Bool("hold") {
		n, err := s.Reserve(ctx, p)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Stderr, "the addresses of %s reserved\n", plural(n, "new machine"))
	}
	if dir := c.String("files"); dir != "" {
		n, err := s.WriteFiles(ctx, p, dir, c.Bool("reveal"))
		if err != nil {
			return fmt.Errorf("write the answers: %w", err)
		}
		fmt.Fprintf(a.Stderr, "answers and seeds of %s written to %s\n", plural(n, "machine"), dir)
	}
	if c.Bool("json") {
		d := proofDocument(p)
		d.Looked = looked
		return a.document(d)
	}
	if !c.Bool("quiet") {
		a.showProof(a.Stdout, a.painter(a.Stdout, c.Bool("no-color")), p, false)
		todo, _ := mint.Todo(p, true)
		a.showTime(s, todo)
		a.showLooked(looked)
	}
	return nil
}

type proofJSON struct {
	Schema string             `json:"schema"`
	Totals map[proof.Word]int `json:"totals"`
	Works  []proof.Work       `json:"works"`
	Sums   proof.Sums         `json:"sums"`
	Looked []mint.Looked      `json:"looked,omitempty"`
}

func proofDocument(p proof.Proof) proofJSON {
	d := proofJSON{Schema: "mintbatch/proof/1", Totals: map[proof.Word]int{}, Works: append([]proof.Work{}, p.Works...), Sums: p.Sums()}
	for _, w := range proof.Words {
		d.Totals[w] = p.Count(w)
	}
	return d
}

// showProof prints the work, machine by machine, and the totals. Machines that
// need none are only counted when changed is set.
func (a *App) showProof(w io.Writer, p painter, all proof.Proof, changed bool) {
	var cells [][]string
	for _, work := range all.Works {
		if changed && work.Word == proof.Same && len(work.Drift) == 0 {
			continue
		}
		line := []string{p.word(work.Word), visible(work.Name), work.Site, "", "", "", "", "", "", "", visible(work.Why())}
		if m := work.Machine; m != nil {
			copy(line[3:], []string{visible(m.Clone.Template), string(m.Clone.Kind), cpus(m.Shape), size(m.Shape.Memory), addresses(m)})
			if at := work.Place; at != nil {
				line[8], line[9] = visible(at.Host), visible(at.Store)
			}
		}
		cells = append(cells, line)
	}
	if len(cells) > 0 {
		rows(w, p, []string{"work", "machine", "site", "template", "clone", "cpus", "memory", "addresses", "host", "store", "why"}, cells)
		fmt.Fprintln(w)
	}
	fmt.Fprintln(w, p.paint(totals(all)+room(all), text.Bold))
	if told := inClear(all); told != "" {
		fmt.Fprintln(w, told)
	}
	if told := whereTo(all.Sums()); told != "" {
		fmt.Fprintln(w, told)
	}
	if n := all.Drifted(); n > 0 {
		fmt.Fprintf(w, "%s changed at the site by somebody else; mint --fix-drift puts that right\n", plural(n, "machine"))
	}
}

// whereTo tells where the clones go, where there is a choice.
func whereTo(s proof.Sums) string {
	var parts []string
	for _, part := range []struct {
		word   string
		counts map[string]int
	}{{"sites", s.Site}, {"hosts", s.Host}, {"stores", s.Store}, {"networks", s.Network}} {
		if len(part.counts) < 2 {
			continue
		}
		var words []string
		for _, name := range slices.Sorted(maps.Keys(part.counts)) {
			words = append(words, fmt.Sprintf("%s %d", visible(name), part.counts[name]))
		}
		parts = append(parts, part.word+": "+strings.Join(words, ", "))
	}
	return strings.Join(parts, "; ")
}

// showTime tells about how long some work will take, where earlier runs tell.
func (a *App) showTime(s *mint.Session, todo []proof.Work) {
	if d, ok := s.Estimate(todo); ok {
		fmt.Fprintf(a.Stdout, "a mint of it takes about %s, going by earlier runs\n", max(d.Round(time.Second), time.Second))
	}
}

// showLooked tells which addresses were asked about, and that none is taken: of
// one that is, there is a finding.
func (a *App) showLooked(all []mint.Looked) {
	for _, l := range all {
		words := make([]string, len(l.Ways))
		for i, way := range l.Ways {
			words[i] = string(way)
		}
		fmt.Fprintf(a.Stdout, "network %s: of %d new addresses, asked about by %s, %d were seen\n", l.Network, l.Addresses, strings.Join(words, " and "), len(l.Seen))
	}
}

// room tells what the clones take of their stores, where that is known.
func room(p proof.Proof) string {
	var takes, saves machine.Size
	for _, w := range p.Works {
		if w.Place != nil {
			takes, saves = takes+w.Place.Takes, saves+w.Place.Saves
		}
	}
	if takes == 0 {
		return ""
	}
	return fmt.Sprintf("; the clones take %s, and being linked saves %s", rough(takes), rough(saves))
}

// inClear tells of seeds that carry more than hashes.
func inClear(p proof.Proof) string {
	carry, stay := 0, 0
	for _, w := range p.Works {
		if (w.Word == proof.New || w.Word == proof.Remake) && w.Machine.Guest.InClear() {
			carry++
			if !w.Machine.DropSeed {
				stay++
			}
		}
	}
	switch {
	case carry == 0:
		return ""
	case carry == 1 && stay == 0:
		return "the seed of 1 machine carries passwords; it is made last, and taken away once the guest is confirmed"
	case stay == 0:
		return fmt.Sprintf("the seeds of %s carry passwords; each is made last, and taken away once its guest is confirmed", plural(carry, "machine"))
	}
	return fmt.Sprintf("the seeds of %s carry passwords; by the setup, those of %d are left where they are", plural(carry, "machine"), stay)
}

// mayReveal refuses to reveal secrets where nobody sits who asked for it.
func (a *App) mayReveal(c *cli.Command) error {
	if _, is := terminal(a.Stdout); c.Bool("reveal") && !is {
		return misuse{errors.New("--reveal is for a terminal; `mintbatch secret export` is for programs")}
	}
	return nil
}

// totals counts the machines by the word of their work.
func totals(p proof.Proof) string {
	var words []string
	for _, w := range proof.Words {
		if n := p.Count(w); n > 0 {
			words = append(words, fmt.Sprintf("%s %d", w, n))
		}
	}
	if len(words) == 0 {
		return "no machines"
	}
	return plural(len(p.Works), "machine") + ": " + strings.Join(words, ", ")
}

func cpus(s machine.Shape) string {
	if s.CPUs == 0 {
		return ""
	}
	return fmt.Sprint(s.CPUs)
}

func size(s machine.Size) string {
	if s == 0 {
		return ""
	}
	return s.String()
}

func addresses(m *machine.Machine) string {
	var words []string
	for _, a := range m.Adapters {
		words = append(words, a.Ways()...)
		for _, p := range a.Addresses {
			words = append(words, p.Addr().String())
		}
	}
	return strings.Join(words, " ")
}
