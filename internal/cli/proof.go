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

	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/handover"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
	"mintbatch/internal/template"
)

func (a *App) proofCommand() *cli.Command {
	return &cli.Command{
		Name:      "proof",
		Usage:     "show the work that a mint would do",
		ArgsUsage: "[MACHINE...]",
		Description: "Computes the work without doing it: which machines, from which templates, with which addresses.\n" +
			"A mint will use the addresses shown. Names may be globs or ranges.\n\n" +
			"   mintbatch proof\n   mintbatch proof 'bms-sonar-*' --files answers",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "files", Usage: "also write every answers file and seed to `DIR`, without secrets"},
			&cli.BoolFlag{Name: "reveal", Usage: "with --files, on a terminal: include the secrets that exist already"},
			&cli.BoolFlag{Name: "reserve", Usage: "reserve the addresses of new machines"},
			&cli.BoolFlag{Name: "offline", Usage: "do not contact the sites; use what the ledger knows"},
			eachFlag(),
			acceptMissingFlag(),
			forceFlag(overFiles),
		},
		Action: a.proof,
	}
}

func (a *App) proof(ctx context.Context, c *cli.Command) error {
	if err := a.mayReveal(c); err != nil {
		return err
	}
	s, err := a.openNamed(ctx, c)
	if err != nil {
		return err
	}
	defer s.Close()
	if dir := c.String("files"); dir != "" {
		if err := handover.CheckFiles(dir, over(c)); err != nil {
			return err
		}
	}
	if c.Bool("reserve") {
		if err := a.lock(ctx, c, s, s.InSheet(c.Args().Slice())); err != nil {
			return err
		}
	}
	var coming []*template.Fetching
	if contact(c) == plan.Online {
		coming = a.coming(ctx, c, s, c.Args().Slice())
	}
	p, err := s.Make(ctx, plan.Request{Names: c.Args().Slice(), Contact: contact(c), Missing: missing(c), Coming: template.Coming(coming)})
	if err != nil {
		return err
	}
	var probed []plan.Probed
	if contact(c) == plan.Online {
		if probed, err = p.Probe(ctx); err != nil {
			return err
		}
	}
	a.findings(a.Stderr, p.Warnings)
	if c.Bool("reserve") {
		n, err := p.Reserve(ctx, s.Ledger)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Stderr, "reserved the addresses of %s\n", finding.Plural(n, "new machine"))
	}
	if dir := c.String("files"); dir != "" {
		n, err := handover.WriteFiles(ctx, s, p.Proof, dir, over(c), handover.Reveal(c.Bool("reveal")))
		if err != nil {
			return fmt.Errorf("write the answers: %w", err)
		}
		fmt.Fprintf(a.Stderr, "wrote the answers and seeds of %s to %s\n", finding.Plural(n, "machine"), dir)
	}
	if c.Bool("json") {
		d := proofDocument(p.Proof)
		d.Probed = probed
		return a.document(d)
	}
	if !c.Bool("quiet") {
		listed := machinesWithWork
		if c.Bool("each") || c.Args().Present() {
			listed = everyMachine
		}
		a.paged(c, func(w io.Writer) {
			a.showProof(w, a.painter(a.Stdout, c.Bool("no-color")), p.Proof, listed, c.Bool("each"))
			todo, _ := p.Todo(plan.AllowRemakes)
			if c.Bool("each") || c.Args().Present() {
				listEntries(w, a.painter(a.Stdout, c.Bool("no-color")), p.Proof)
			}
			a.showCommentedOut(w, s)
			a.showTime(w, p, todo)
			a.showProbed(w, probed)
		})
	}
	return nil
}

// contact is whether the sites are contacted.
func contact(c *cli.Command) plan.Contact { return plan.Contact(!c.Bool("offline")) }

type proofJSON struct {
	Schema string             `json:"schema"`
	Totals map[proof.Word]int `json:"totals"`
	Works  []proof.Shown      `json:"works"`
	Sums   proof.Sums         `json:"sums"`
	Probed []plan.Probed      `json:"probed,omitempty"`
}

func proofDocument(p proof.Proof) proofJSON {
	d := proofJSON{Schema: "mintbatch/proof/1", Totals: map[proof.Word]int{}, Works: proof.Show(p.Works), Sums: p.Sums()}
	for _, w := range proof.Words {
		d.Totals[w] = p.Count(w)
	}
	return d
}

// detail says which machines of a proof are listed; the others are only counted.
type detail int

const (
	everyMachine detail = iota
	machinesWithWork
)

func eachFlag() cli.Flag {
	return &cli.BoolFlag{Name: "each", Usage: "list each machine, however many there are"}
}

// A list of more machines than longList puts those together that are alike; if that leaves
// more lines than a screenful, they are counted by kind, of which no more than longList are listed.
const (
	longList  = 100
	screenful = 40
)

// showProof prints the work and the totals.
func (a *App) showProof(w io.Writer, p painter, all proof.Proof, listed detail, each bool) {
	works := all.Works
	if listed == machinesWithWork {
		works = make([]proof.Work, 0, len(works)-all.Count(proof.Same))
		for _, work := range all.Works {
			if work.Word != proof.Same || len(work.Drift) > 0 || work.LeftOff != "" || work.Note != "" || work.Refusal != "" || len(work.Reasons) > 0 {
				works = append(works, work)
			}
		}
	}
	summed(w, func(w io.Writer) {
		switch groups := proof.Groups(works); {
		case len(works) == 0:
		case each:
			showGroups(w, p, slices.Collect(slices.Chunk(works, 1)))
		case len(works) > longList && len(groups) > screenful:
			showKinds(w, p, works)
		default:
			showGroups(w, p, groups)
		}
	}, func(w io.Writer) { showTotals(w, p, all) })
}

// showTotals prints what the works of a proof come to.
func showTotals(w io.Writer, p painter, all proof.Proof) {
	paragraph(w, "", p.paint(totals(all)+room(all), text.Bold))
	paragraph(w, "", inClear(all))
	paragraph(w, "", hostKeys(all))
	paragraph(w, "", whereTo(all.Sums()))
	paragraph(w, "", entries(all))
	if n := all.Restarts(); n > 0 {
		paragraph(w, "", fmt.Sprintf("%s will be restarted", finding.Plural(n, "machine")))
	}
	if n := all.Count(proof.Dated); n > 0 {
		paragraph(w, "", differ(n)+" only in settings that a first boot reads, left unchanged; `mintbatch remake` applies them, `mintbatch accept` records changes made by hand")
	}
	if n := all.Drifted(); n > 0 {
		paragraph(w, "", finding.Plural(n, "machine")+" changed at the site outside of mintbatch; `mintbatch mint --fix-drift` reverts that")
	}
}

// showGroups prints a line for each group of machines.
func showGroups[G ~[]proof.Work](w io.Writer, p painter, groups []G) {
	var cells [][]string
	for _, works := range groups {
		g := proof.Group(works)
		k := g[0].Kind()
		cells = append(cells, []string{p.word(k.Word), visible(g.Name()), several(len(g)), k.Site, visible(k.Template), string(k.Clone), k.CPUs, size(k.Memory),
			strings.Join(g.Addresses(), " "), visible(k.Disks), visible(k.Checkpoint), visible(k.Owner), k.Until, visible(k.Host), visible(k.Store), visible(k.Why)})
	}
	rows(w, p, []string{"work", "machine", "count", "site", "template", "clone", "cpus", "memory", "addresses", "disks", "checkpoint", "owner", "until", "host", "store", "why"}, cells)
	fmt.Fprintln(w)
}

// several is a count that is worth saying.
func several(n int) string {
	if n < 2 {
		return ""
	}
	return fmt.Sprint(n)
}

// showKinds prints how many machines there are of each kind.
func showKinds(w io.Writer, p painter, works []proof.Work) {
	var cells [][]string
	kinds := proof.Kinds(works)
	first := []proof.Word{proof.Taken, proof.Remake} // what must not be overlooked
	slices.SortStableFunc(kinds, func(a, b proof.Count) int {
		return slices.Index(first, b.Word) - slices.Index(first, a.Word)
	})
	more := 0
	for i, k := range kinds {
		if i >= longList {
			more += k.Machines
			continue
		}
		cells = append(cells, []string{p.word(k.Word), fmt.Sprint(k.Machines), visible(k.Preset), k.Site, visible(k.Template), string(k.Clone), k.CPUs, size(k.Memory), visible(k.Why)})
	}
	rows(w, p, []string{"work", "count", "preset", "site", "template", "clone", "cpus", "memory", "why"}, cells)
	fmt.Fprintln(w)
	if more > 0 {
		fmt.Fprintf(w, "%s of %d other kinds\n", finding.Plural(more, "machine"), len(kinds)-longList)
	}
	fmt.Fprintln(w, "--each lists each machine")
}

func differ(n int) string {
	if n == 1 {
		return "1 machine differs"
	}
	return fmt.Sprintf("%d machines differ", n)
}

// whereTo reports where the clones go, where there is a choice.
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

// showTime reports about how long some work will take, where earlier runs tell.
func (a *App) showTime(w io.Writer, p *plan.Plan, todo []proof.Work) {
	if d, ok := p.Estimate(todo); ok {
		fmt.Fprintf(w, "estimated time: %s, from earlier runs\n", max(d.Round(time.Second), time.Second))
	}
}

// showWindow says when those changes begin that restart machines.
func (a *App) showWindow(w io.Writer, t mint.Task) {
	restarts := 0
	for _, work := range t.Works {
		if work.Restarts() {
			restarts++
		}
	}
	if open, until := t.Order.Window.Open(time.Now()); restarts > 0 && !open {
		fmt.Fprintf(w, "%s with a restart, or a possible one, %s for the restart window %s, from %s on\n", finding.Plural(restarts, "change"), waits(restarts), t.Order.Window, until.Format("2006-01-02 15:04"))
	}
}

func waits(n int) string {
	if n == 1 {
		return "waits"
	}
	return "wait"
}

// showProbed reports which addresses were asked about, and that none is taken: of
// one that is, there is a finding.
func (a *App) showProbed(w io.Writer, all []plan.Probed) {
	for _, l := range all {
		words := make([]string, len(l.Probes))
		for i, probe := range l.Probes {
			words[i] = string(probe)
		}
		paragraph(w, "", fmt.Sprintf("network %s: probed %d new addresses by %s; %d answered", l.Network, l.Addresses, strings.Join(words, " and "), len(l.Answers)))
	}
}

// room reports what the clones take of their stores, where that is known.
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
	return fmt.Sprintf("; the clones take %s; linked clones save %s", rough(takes), rough(saves))
}

// seeds counts those that are to be made and have something, and of these the ones that
// are left where they are.
func seeds(p proof.Proof, has func(machine.Guest) bool) (carry, stay int) {
	for _, w := range p.Works {
		if (w.Word == proof.New || w.Word == proof.Remake) && has(w.Spec().Guest) {
			carry++
			if !w.Spec().DropSeed {
				stay++
			}
		}
	}
	return carry, stay
}

// hostKeys reports seeds that carry the private SSH host keys of their guests.
func hostKeys(p proof.Proof) string {
	carry, stay := seeds(p, func(g machine.Guest) bool { return kinds.Of(g).HostKey })
	switch {
	case carry == 0:
		return ""
	case stay == 0:
		return fmt.Sprintf("the seeds of %s contain private SSH host keys; each is deleted once its guest is confirmed", finding.Plural(carry, "machine"))
	}
	return fmt.Sprintf("the seeds of %s contain private SSH host keys; those of %d are kept", finding.Plural(carry, "machine"), stay)
}

// inClear reports seeds that carry more than hashes.
func inClear(p proof.Proof) string {
	carry, stay := seeds(p, func(g machine.Guest) bool { return kinds.Of(g).InClear(g) })
	switch {
	case carry == 0:
		return ""
	case carry == 1 && stay == 0:
		return "the seed of 1 machine contains passwords; it is written right before the start and deleted once the guest is confirmed"
	case stay == 0:
		return fmt.Sprintf("the seeds of %s contain passwords; each is written right before the start and deleted once its guest is confirmed", finding.Plural(carry, "machine"))
	}
	return fmt.Sprintf("the seeds of %s contain passwords; those of %d are kept, as the setup says", finding.Plural(carry, "machine"), stay)
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
	return finding.Plural(len(p.Works), "machine") + ": " + strings.Join(words, ", ")
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
