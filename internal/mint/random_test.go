package mint_test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
	"mintbatch/internal/site"
)

// row is what the sheet says of one machine of the histories.
type row struct{ preset, site, cpus, hostname, notes, until, disks string }

// history is a world with what happens to it, and the plain model of what must hold.
type history struct {
	*world
	chance *rand.Rand
	rows   map[string]row
	told   []string // the commands so far, for whoever reads a failure

	// may be lost: machines at the site whose removal was asked for, and the clones whose data
	// disks were to go.
	may     map[uuid.UUID]bool
	mayData map[uuid.UUID]bool
	last    map[uuid.UUID]atSite
	// forgot reports that a ledger was lost, and with it who has shut machines down:
	// that is drift then, and reverted as such.
	forgot   bool
	renamed  [][2]string // names that were to be given, in order
	settling bool        // an operator takes care of it, and knows what is really gone
	lost     string      // what was lost that might not be; empty if nothing
}

// atSite is a machine as the sandbox keeps it.
type atSite struct {
	ID       uuid.UUID
	Site     string
	Name     string
	Gone     bool
	Kept     bool
	OnlyData bool `json:"only_data"`
	Shape    machine.Shape
	Power    machine.Power
	Report   *contract.Report
	Mark     contract.Mark
	Instance string
}

// machines reads what is at the site.
func (w *world) machines(t testing.TB) map[uuid.UUID]atSite {
	t.Helper()
	f, err := os.Open(filepath.Join(w.dir, "sandbox", "machines.jsonl"))
	require.NoError(t, err)
	defer f.Close()
	all := map[uuid.UUID]atSite{}
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var m atSite
		require.NoError(t, json.Unmarshal(lines.Bytes(), &m))
		if all[m.ID] = m; m.Gone {
			delete(all, m.ID)
		}
	}
	return all
}

// dataOf are the clones of whose data disks something is there that was used.
func dataOf(all map[uuid.UUID]atSite) map[uuid.UUID]bool {
	some := map[uuid.UUID]bool{}
	for id, m := range all {
		if m.OnlyData {
			some[id] = true
		} else if m.Report != nil || m.Kept {
			for _, of := range m.Mark.Carried(id, len(m.Shape.Disks)) {
				some[of] = true
			}
		}
	}
	return some
}

// held is what holds at every moment: nothing is lost whose loss was not asked for,
// and nothing is doubled.
func (h *history) held(t testing.TB) {
	t.Helper()
	now := h.machines(t)
	for id, m := range h.last {
		if _, there := now[id]; !there && m.Report != nil && !h.may[id] {
			h.lost = fmt.Sprintf("%s/%s (%s) was lost", m.Site, m.Name, id)
		}
	}
	for id := range dataOf(h.last) {
		if !dataOf(now)[id] && !h.mayData[id] {
			h.lost = fmt.Sprintf("the data disks of clone %s were lost", id)
		}
	}
	names, addresses := map[string]uuid.UUID{}, map[string]string{}
	for id, m := range now {
		if m.Kept || m.OnlyData {
			continue
		}
		key := m.Site + "/" + m.Name
		if other, twice := names[key]; twice {
			h.lost = fmt.Sprintf("%s is there twice: %s and %s", key, id, other)
		}
		names[key] = id
		if m.Mark.Spec == nil {
			continue
		}
		for _, a := range m.Mark.Spec.Adapters {
			for _, p := range a.Addresses {
				if other, twice := addresses[p.String()]; twice {
					h.lost = fmt.Sprintf("address %s is of %s and of %s", p, key, other)
				}
				addresses[p.String()] = key
			}
		}
	}
	h.last = now
	if h.lost != "" {
		t.Fatalf("%s\n%s", h.lost, strings.Join(h.told, "\n"))
	}
}

// sheet writes the sheet as the rows are.
func (h *history) sheet(t testing.TB) {
	t.Helper()
	text := "machine,preset,site,cpus,hostname,notes,until,disks\n"
	for _, name := range slices.Sorted(maps.Keys(h.rows)) {
		r := h.rows[name]
		text += fmt.Sprintf("%s,%s,%s,%s,%s,%s,%s,%s\n", name, r.preset, r.site, r.cpus, r.hostname, r.notes, r.until, r.disks)
	}
	require.NoError(t, os.WriteFile(filepath.Join(h.dir, "machines.csv"), []byte(text), 0o600))
}

// fault is what goes wrong in a command.
type fault struct {
	die, lose *death
	refuse    float64 // of acts, each by itself
	blind     bool    // a survey lists no machines
	chance    *rand.Rand
}

// unruly is a site that refuses, or lists nothing.
type unruly struct {
	site.Site
	fault *fault
}

var rolls sync.Mutex // sites act side by side

func (u unruly) no() error {
	rolls.Lock()
	defer rolls.Unlock()
	if u.fault.refuse > 0 && u.fault.chance.Float64() < u.fault.refuse {
		return fmt.Errorf("%w: as ordered", site.ErrRefused)
	}
	return nil
}

func (u unruly) Specs(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]*machine.Spec, error) {
	return u.Site.(site.SpecSource).Specs(ctx, ids)
}

func (u unruly) TellName(ctx context.Context, id uuid.UUID, hostname, fqdn string) (contract.Task, error) {
	return u.Site.(site.Teller).TellName(ctx, id, hostname, fqdn)
}

func (u unruly) Survey(ctx context.Context) (*contract.Survey, error) {
	answer, err := u.Site.Survey(ctx)
	if err == nil && u.fault.blind {
		answer.Machines = []contract.Machine{}
	}
	return answer, err
}

func (u unruly) Clone(ctx context.Context, o contract.CloneOrder) (contract.Task, error) {
	if err := u.no(); err != nil {
		return contract.Task{}, err
	}
	return u.Site.Clone(ctx, o)
}

func (u unruly) Shape(ctx context.Context, id uuid.UUID, s machine.Shape, r contract.Restart) (contract.Task, error) {
	if err := u.no(); err != nil {
		return contract.Task{}, err
	}
	return u.Site.Shape(ctx, id, s, r)
}

func (u unruly) Power(ctx context.Context, id uuid.UUID, p machine.Power) (contract.Task, error) {
	if err := u.no(); err != nil {
		return contract.Task{}, err
	}
	return u.Site.Power(ctx, id, p)
}

func (u unruly) Remove(ctx context.Context, id uuid.UUID, disks contract.Disks) (contract.Task, error) {
	if err := u.no(); err != nil {
		return contract.Task{}, err
	}
	return u.Site.Remove(ctx, id, disks)
}

// command does one command as the command line does it: opens, holds, computes,
// claims, does.
func (h *history) command(t testing.TB, f fault, names []string, do func(ctx context.Context, s *mint.Desk) error) error {
	t.Helper()
	h.sheet(t)
	ctx := context.Background()
	s, err := mint.Open(ctx, input.Input{Setups: []string{filepath.Join(h.dir, "mintbatch.yaml")}}, nil)
	require.NoError(t, err)
	defer s.Close()
	if f.die == nil {
		f.die = &death{}
	}
	if f.lose == nil {
		f.lose = &death{}
	}
	f.chance = h.chance
	for _, name := range []string{"quay", "vessel"} {
		_, err := s.Sites.Site(name)
		require.NoError(t, err)
		s.Sites.Use(name, func(opened site.Site) site.Site { return mortal{unruly{opened, &f}, f.die, f.lose} })
	}
	s.Ledger.Hook = f.die.point
	if err := s.Ledger.Lock(ctx, "test", mint.Everything); err != nil {
		return err
	}
	return do(ctx, s)
}

// missing says that what a lost ledger knew is really gone, as the operator knows.
func (h *history) missing() plan.Missing { return plan.Missing(h.settling && h.forgot) }

func (h *history) request() plan.Request {
	return plan.Request{Contact: plan.Online, Missing: h.missing()}
}

// loses marks the machines of some names, as they are at the site, as ones that may go, with
// their data disks or without.
func (h *history) loses(data proof.DataDisks, match func(name string) bool) {
	for id, m := range h.last {
		if !match(m.Name) && !slices.ContainsFunc(m.Mark.Former, match) {
			continue
		}
		h.may[id] = true
		if data == proof.LoseDataDisks {
			h.mayData[id] = true
			for _, of := range m.Mark.Data {
				h.mayData[of] = true
			}
		}
	}
}

// mint mints; what it is allowed to clone again may go.
func (h *history) mint(t testing.TB, f fault, allow bool) error {
	return h.command(t, f, nil, func(ctx context.Context, s *mint.Desk) error {
		p, err := s.Make(ctx, h.request())
		if err != nil {
			return err
		}
		if h.forgot && allow {
			p = p.RevertDrift()
		}
		todo, _ := p.Todo(plan.Remakes(allow))
		for _, data := range []proof.DataDisks{proof.LoseDataDisks, proof.KeepDataDisks} {
			h.loses(data, func(name string) bool {
				return slices.ContainsFunc(todo, func(w proof.Work) bool {
					return w.Word == proof.Remake && w.Name == name && (len(w.Data) > 0) == bool(data)
				})
			})
		}
		o, err := do(ctx, s)(s.Minting(ctx, "mint", p, plan.Remakes(allow), mint.Order{}))
		if o == nil {
			return err
		}
		for _, r := range o.Results {
			if r.Err != nil {
				err = fmt.Errorf("%w %s: %w", err, r.Name, r.Err)
			}
		}
		return err
	})
}

func (h *history) remake(t testing.TB, f fault, data proof.DataDisks, names ...string) error {
	return h.command(t, f, names, func(ctx context.Context, s *mint.Desk) error {
		p, err := s.Make(ctx, plan.Request{Names: names, Contact: plan.Online, Missing: h.missing(), Remake: true, Data: data})
		if err != nil {
			return err
		}
		h.loses(data, func(name string) bool { return slices.Contains(names, name) })
		_, err = do(ctx, s)(s.Minting(ctx, "remake", p, plan.AllowRemakes, mint.Order{}))
		return err
	})
}

func (h *history) retire(t testing.TB, f fault, disks contract.Disks, names ...string) error {
	return h.command(t, f, names, func(ctx context.Context, s *mint.Desk) error {
		r, err := s.Retiring(ctx, mint.Which{Names: names}, h.missing())
		if err != nil {
			return err
		}
		h.loses(proof.DataDisks(disks == contract.KeepDisks), func(name string) bool { return slices.Contains(names, name) })
		_, err = do(ctx, s)(mint.Retirement("retire", r.Works, mint.Order{Disks: disks}), nil)
		return err
	})
}

// names reports whether a row, or the host name in one, has a name already.
func (h *history) names(name string) bool {
	for row, r := range h.rows {
		if row == name || r.hostname == name {
			return true
		}
	}
	return false
}

// rename gives a machine and its row another name.
func (h *history) rename(t testing.TB, f fault, from, to string) error {
	if r, there := h.rows[from]; there {
		h.rows[to] = r
		delete(h.rows, from)
	}
	h.renamed = append(h.renamed, [2]string{from, to})
	return h.command(t, f, nil, func(ctx context.Context, s *mint.Desk) error {
		_, err := do(ctx, s)(s.Renaming(ctx, from, to, mint.Order{}))
		return err
	})
}

func (h *history) accept(t testing.TB, f fault, names ...string) error {
	return h.command(t, f, names, func(ctx context.Context, s *mint.Desk) error {
		all, p, err := s.Acceptable(ctx, names)
		if err != nil {
			return err
		}
		_, err = do(ctx, s)(mint.Accepting("accept", all, p), nil)
		return err
	})
}

func (h *history) sweep(t testing.TB, f fault) error {
	return h.command(t, f, nil, func(ctx context.Context, s *mint.Desk) error {
		due, err := s.Sweep(ctx, nil, time.Now(), 0, h.missing())
		if err != nil {
			return err
		}
		due = slices.DeleteFunc(due, func(d mint.Due) bool { return !d.Past() || d.Power != machine.On })
		_, err = do(ctx, s)(s.Sweeping("sweep", mint.Works(due), nil, mint.Order{}), nil)
		return err
	})
}

func (h *history) extend(t testing.TB, f fault, names ...string) error {
	return h.command(t, f, names, func(ctx context.Context, s *mint.Desk) error {
		_, err := do(ctx, s)(s.Extending(ctx, names, mint.Dates{Until: "2100-01-01"}, mint.Order{}))
		return err
	})
}

func (h *history) rebuild(t testing.TB, f fault) error {
	return h.command(t, f, nil, func(ctx context.Context, s *mint.Desk) error {
		_, err := s.Rebuild(ctx, uuid.Nil)
		return err
	})
}

// forget loses the ledger, or brings an older copy of it back; rebuild has to follow.
func (h *history) forget(t testing.TB) {
	h.finishRenames(t)
	h.forgot = true
	path := filepath.Join(h.dir, "mintbatch.ledger")
	for _, ending := range []string{"", "-wal", "-shm"} {
		_ = os.Remove(path + ending)
	}
	if old, err := os.ReadFile(path + ".old"); err == nil {
		require.NoError(t, os.WriteFile(path, old, 0o600))
	}
}

// finishRenames goes on with renames that were interrupted.
func (h *history) finishRenames(t testing.TB) {
	for _, names := range h.renamed { // whoever interrupts that, goes on with it
		err := h.command(t, fault{}, nil, func(ctx context.Context, s *mint.Desk) error {
			known, err := s.Ledger.MachinesNamed(ctx, names[:1])
			for _, k := range known {
				if !k.Open.By(proof.Renaming(names[0], names[1])) {
					continue
				}
				o, failed := do(ctx, s)(s.Renaming(ctx, k.Key.String(), names[1], mint.Order{}))
				err = errors.Join(err, failed)
				for i := 0; o != nil && i < len(o.Results); i++ {
					err = errors.Join(err, o.Results[i].Err)
				}
			}
			return err
		})
		if err != nil {
			h.told = append(h.told, fmt.Sprintf("rename %s %s (again): %v", names[0], names[1], err))
		}
	}
	h.held(t)
}

// settle lets everything come to its end undisturbed, and holds what must be then.
func (h *history) settle(t testing.TB) {
	t.Helper()
	h.settling = true
	for name, r := range h.rows {
		r.until = "" // a machine that a sweep has shut down is started once its date is changed
		if h.rows[name] != r {
			r.until = "2199-01-01"
		}
		h.rows[name] = r
	}
	fail := func(format string, args ...any) {
		t.Helper()
		t.Fatalf("%s\n%s", fmt.Sprintf(format, args...), strings.Join(h.told, "\n"))
	}
	h.finishRenames(t)
	var err error
	for range 4 {
		if err = h.mint(t, fault{}, true); err != nil {
			// What an open retire stands against is retired.
			var open []string
			unknown := false // a clone that the ledger does not know: then it says that it is to be rebuilt
			require.NoError(t, h.command(t, fault{}, nil, func(ctx context.Context, s *mint.Desk) error {
				p, err := s.Make(ctx, h.request())
				var refused *input.Refused
				if errors.As(err, &refused) && slices.ContainsFunc(refused.Findings, func(f finding.Finding) bool { return f.Code == "name-in-dns" }) {
					// A row has the host name of a machine that has none any more, or of one that could not be told its new name.
					known, err := s.Ledger.Machines(ctx)
					made := map[string]bool{}
					for _, k := range known {
						r, wanted := h.rows[k.Name]
						if !wanted || r.site != k.Site {
							open = append(open, k.Name)
						}
						made[k.Name] = k.State == proof.Made
					}
					for _, f := range refused.Findings {
						if host, _, _ := strings.Cut(f.Value, "."); len(open) == 0 && !made[host] {
							delete(h.rows, host)
						}
					}
					return err
				}
				if err != nil {
					return fmt.Errorf("%w\n%s", err, strings.Join(h.told, "\n"))
				}
				for _, w := range p.Works {
					if w.Refusal != "" {
						open = append(open, w.Name)
					}
					unknown = unknown || strings.Contains(w.Why(), proof.UnknownClone)
				}
				return nil
			}))
			if unknown {
				require.NoError(t, h.rebuild(t, fault{}))
			}
			if len(open) > 0 {
				if failed := h.retire(t, fault{}, contract.KeepDisks, open...); failed != nil {
					fail("retire %v: %s", open, failed)
				}
			}
		}
		h.held(t)
	}
	if err != nil {
		p := ""
		_ = h.command(t, fault{}, nil, func(ctx context.Context, s *mint.Desk) error {
			all, err := s.Make(ctx, h.request())
			if err != nil {
				return err
			}
			for _, w := range all.Works {
				p += fmt.Sprintf("%s is %s: %s\n", w.Name, w.Word, w.Why())
			}
			return nil
		})
		fail("it does not come to its end: %s\n%s", err, p)
	}
	require.NoError(t, h.command(t, fault{}, nil, func(ctx context.Context, s *mint.Desk) error {
		p, err := s.Make(ctx, h.request())
		if err != nil {
			return err
		}
		for _, w := range p.Works {
			if w.Word != proof.Same && w.Word != proof.Stray && w.Word != proof.Dated || len(w.Drift) > 0 {
				fail("%s is %s: %s", w.Name, w.Word, w.Why())
			}
		}
		verdicts, _, err := s.Verify(ctx, nil)
		for _, v := range verdicts {
			if !v.OK {
				fail("%s is not as its row says: %s", v.Name, v.Why)
			}
		}
		faults, failed := s.Ledger.Check(ctx)
		if len(faults) > 0 {
			fail("%s", strings.Join(faults, "\n"))
		}
		known, broken := s.Ledger.Machines(ctx)
		for _, k := range known {
			if r, wanted := h.rows[k.Name]; wanted && r.site == k.Site && (len(k.Open) > 0 || k.Earlier != nil || k.State != proof.Made) {
				fail("the journal of %s is open: %s %v %v", k.Name, k.State, k.Open, k.Earlier)
			}
		}
		return errors.Join(err, failed, broken)
	}))
	known := map[string]bool{}
	l, err := ledger.Open(t.Context(), filepath.Join(h.dir, "mintbatch.ledger"))
	require.NoError(t, err)
	defer l.Close()
	all, err := l.Machines(t.Context())
	require.NoError(t, err)
	for _, k := range all {
		known[k.Key.String()] = true
		for _, of := range k.Data {
			known[of.String()] = true
		}
	}
	for id, m := range h.last {
		key := m.Site + "/" + m.Name
		switch {
		case m.OnlyData && !m.Kept && !known[id.String()] && !h.forgot:
			fail("the data disks of a clone of %s are at the site, and the ledger has forgotten them", key)
		case !m.OnlyData && !m.Kept && !known[key]:
			fail("%s is at the site, and the ledger has forgotten it", key)
		}
	}
}

// histories lays out the ground on which each history begins: three machines that
// are made, and an older copy of the ledger. What the setup is to be besides is up to prepare.
func histories(t *testing.T, chance *rand.Rand, prepare ...func(dir string)) func() *history {
	t.Helper()
	base := t.TempDir()
	w := served(t, base)
	for _, p := range prepare {
		p(base)
	}
	h := &history{world: w, chance: chance, may: map[uuid.UUID]bool{}, mayData: map[uuid.UUID]bool{}, rows: map[string]row{
		"bms-h-0": {preset: "node", site: "quay", disks: "1GiB"}, "bms-h-1": {preset: "spare", site: "quay"}, "bms-h-2": {preset: "node", site: "vessel"}}}
	require.NoError(t, h.mint(t, fault{}, false))
	content, err := os.ReadFile(filepath.Join(base, "mintbatch.ledger"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(base, "mintbatch.ledger.old"), content, 0o600))
	w.stop()
	return func() *history {
		dir := filepath.Join(t.TempDir(), "w")
		require.NoError(t, os.CopyFS(dir, os.DirFS(base)))
		for _, secret := range []string{"operator.key", "sandbox/key.pem", "sandbox/token", "sandbox/dns.key", "sandbox/records.key"} {
			require.NoError(t, os.Chmod(filepath.Join(dir, secret), 0o600))
		}
		copied := &history{world: served(t, dir), chance: chance, may: map[uuid.UUID]bool{}, mayData: map[uuid.UUID]bool{}, rows: maps.Clone(h.rows)}
		copied.last = copied.machines(t)
		return copied
	}
}

// step does something at random, and says what.
func (h *history) step(t testing.TB) {
	f := fault{}
	trouble := "undisturbed"
	switch h.chance.IntN(6) {
	case 0, 1:
		f.die = &death{at: 1 + h.chance.IntN(60)}
		trouble = fmt.Sprintf("dies at %d", f.die.at)
	case 2:
		f.lose = &death{at: 1 + h.chance.IntN(30)}
		trouble = fmt.Sprintf("loses reply %d", f.lose.at)
	case 3:
		f.refuse = 0.3
		trouble = "is refused at times"
	case 4:
		if h.chance.IntN(3) == 0 {
			f.blind = true
			trouble = "is told of no machines"
		}
	}
	names := slices.Sorted(maps.Keys(h.rows))
	name := names[h.chance.IntN(len(names))]
	what := ""
	var err error
	switch h.chance.IntN(15) {
	case 0, 1:
		what, err = "mint", h.mint(t, f, false)
	case 2:
		what, err = "mint --allow-remake", h.mint(t, f, true)
	case 3:
		what, err = "remake "+strings.Join(names[:2], " "), h.remake(t, f, proof.LoseDataDisks, names[:2]...)
	case 4:
		what, err = "retire "+name, h.retire(t, f, contract.DeleteDisks, name)
	case 5:
		what, err = "retire --keep-disks "+name, h.retire(t, f, contract.KeepDisks, name)
	case 12:
		what, err = "remake --keep-data "+name, h.remake(t, f, proof.KeepDataDisks, name)
	case 13:
		to := fmt.Sprintf("bms-h-%d", h.chance.IntN(9))
		if h.names(to) {
			to = name + "x"
		}
		what, err = "rename "+name+" "+to, h.rename(t, f, name, to)
	case 14:
		what, err = "extend "+name, h.extend(t, f, name)
	case 6:
		what, err = "accept "+name, h.accept(t, f, name)
	case 7:
		r := h.rows[name]
		r.until = "2020-01-01"
		h.rows[name] = r
		what, err = name+" is past its date, sweep --stop", h.sweep(t, f)
	case 8:
		if f.die != nil || f.blind { // a ledger that is not the whole one is rebuilt first of all
			f = fault{}
		}
		h.forget(t)
		trouble = "undisturbed"
		what, err = "the ledger is lost, rebuild", h.rebuild(t, fault{})
		if err != nil && strings.Contains(err.Error(), "no machine that carries") {
			err = nil
		}
	default:
		r := h.rows[name]
		switch h.chance.IntN(4) {
		case 0:
			r.cpus = []string{"1", "2", "3"}[h.chance.IntN(3)]
		case 1:
			r.hostname = []string{name, name + "-x"}[h.chance.IntN(2)]
		case 2:
			r.notes = fmt.Sprint("note ", h.chance.IntN(9))
		case 3:
			added := fmt.Sprintf("bms-h-%d", h.chance.IntN(6))
			if !h.names(added) {
				name, r = added, row{preset: []string{"node", "spare"}[h.chance.IntN(2)], site: "quay"}
			}
		}
		h.rows[name] = r
		what, trouble = fmt.Sprintf("%s is %+v", name, r), ""
	}
	h.told = append(h.told, fmt.Sprintf("%s (%s): %v", what, trouble, err))
	h.held(t)
}

// Random histories of commands, crashes, faults, lost and restored ledgers and
// changes of mind: nothing is lost that was not allowed, nothing is doubled, nothing
// is off that should be on, and the journal is empty at the end.
func TestHistories(t *testing.T) {
	seed := seedOf(t)
	chance := rand.New(rand.NewPCG(seed, 0))
	fresh := histories(t, chance)
	for round := range amount(3, 9, 400) {
		*chance = *rand.New(rand.NewPCG(seed+uint64(round), 7))
		h := fresh()
		h.told = append(h.told, fmt.Sprintf("MINTBATCH_SEED=%d", seed+uint64(round)))
		for range 3 + chance.IntN(8) {
			h.step(t)
		}
		h.settle(t)
		h.stop()
		_ = os.RemoveAll(h.dir)
	}
}

// deeds are the commands that change something, each on the ground of histories.
var deeds = []struct {
	name string
	do   func(h *history, t testing.TB, f fault) error
}{
	{"mint", func(h *history, t testing.TB, f fault) error { h.change(); return h.mint(t, f, false) }},
	{"mint --allow-remake", func(h *history, t testing.TB, f fault) error { h.change(); return h.mint(t, f, true) }},
	{"mint of rows that were taken back", func(h *history, t testing.TB, f fault) error { h.changeBack(); return h.mint(t, f, false) }},
	{"remake", func(h *history, t testing.TB, f fault) error {
		return h.remake(t, f, proof.LoseDataDisks, "bms-h-0", "bms-h-1")
	}},
	{"remake --keep-data", func(h *history, t testing.TB, f fault) error {
		return h.remake(t, f, proof.KeepDataDisks, "bms-h-0", "bms-h-1")
	}},
	{"rename", func(h *history, t testing.TB, f fault) error { return h.rename(t, f, "bms-h-0", "bms-h-9") }},
	{"retire", func(h *history, t testing.TB, f fault) error { return h.retire(t, f, contract.DeleteDisks, "bms-h-0") }},
	{"retire --keep-disks", func(h *history, t testing.TB, f fault) error { return h.retire(t, f, contract.KeepDisks, "bms-h-0") }},
	{"accept", func(h *history, t testing.TB, f fault) error { h.change(); return h.accept(t, f, "bms-h-0", "bms-h-1") }},
	{"sweep --stop", func(h *history, t testing.TB, f fault) error { h.late(); return h.sweep(t, f) }},
	{"extend", func(h *history, t testing.TB, f fault) error { return h.extend(t, f, "bms-h-0", "bms-h-1") }},
	{"rebuild", func(h *history, t testing.TB, f fault) error {
		h.forget(t)
		err := h.rebuild(t, f)
		if f.die != nil { // a ledger that is not the whole one is rebuilt first of all
			err = errors.Join(err, h.rebuild(t, fault{}))
		}
		return err
	}},
}

// change lets the rows ask for an adjust, a remake and something new.
func (h *history) change() {
	h.rows["bms-h-0"] = row{preset: "node", site: "quay", cpus: "2", disks: "1GiB"}
	h.rows["bms-h-1"] = row{preset: "spare", site: "quay", hostname: "renamed"}
	h.rows["bms-h-3"] = row{preset: "node", site: "vessel"}
}

// changeBack lets them ask for what there was.
func (h *history) changeBack() {
	h.rows["bms-h-0"] = row{preset: "node", site: "quay", cpus: "1", disks: "1GiB"}
	h.rows["bms-h-1"] = row{preset: "spare", site: "quay", hostname: "bms-h-1"}
}

func (h *history) late() {
	r := h.rows["bms-h-0"]
	r.until = "2020-01-01"
	h.rows["bms-h-0"] = r
}

// Whatever command is interrupted, wherever, and whichever comes next: the end is the
// same as if each had been left in peace. A sample takes a third of the pairs.
func TestPairs(t *testing.T) {
	seed := seedOf(t)
	chance := rand.New(rand.NewPCG(seed, 1))
	fresh := histories(t, chance)
	for _, a := range deeds {
		count, h := &death{}, fresh()
		_ = a.do(h, t, fault{die: count})
		h.stop()
		for _, b := range deeds {
			if !whole() && chance.IntN(amount(12, 5, 1)) > 0 {
				continue
			}
			for range amount(1, 1, 8) {
				h, d := fresh(), &death{at: 1 + chance.IntN(max(count.count, 1))}
				err := a.do(h, t, fault{die: d})
				h.told = append(h.told, fmt.Sprintf("%s, dead at %d (%s): %v", a.name, d.at, d.where, err))
				h.held(t)
				err = b.do(h, t, fault{})
				h.told = append(h.told, fmt.Sprintf("%s: %v", b.name, err))
				h.held(t)
				h.settle(t)
				h.stop()
				_ = os.RemoveAll(h.dir)
			}
		}
	}
}

// A guest that was started with secrets which the ledger has lost, and that is off, is
// finished with the key that it has.
func TestSecretsThatAreLost(t *testing.T) {
	fresh := histories(t, rand.New(rand.NewPCG(1, 1)))
	count, h := &death{}, fresh()
	require.NoError(t, h.remake(t, fault{die: count}, proof.LoseDataDisks, "bms-h-0"))
	h.stop()
	for at := count.count * 2 / 3; at < count.count*5/6; at++ { // from the start to the mark
		h := fresh()
		h.told = append(h.told, fmt.Sprintf("remake, dead at %d of %d", at, count.count))
		_ = h.remake(t, fault{die: &death{at: at}}, proof.LoseDataDisks, "bms-h-0")
		h.late()
		require.NoError(t, h.sweep(t, fault{}))
		h.forget(t)
		require.NoError(t, h.rebuild(t, fault{}))
		h.settle(t)
		h.stop()
		_ = os.RemoveAll(h.dir)
	}
}
