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
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/enrol"
	"mintbatch/internal/handover"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mint"
	"mintbatch/internal/plan"
	"mintbatch/internal/sandbox"
	"mintbatch/internal/site"
)

// death ends a run at one of its points: before or after a write of the ledger, or
// a call to a site. From then on nothing that the run asks for happens.
type death struct {
	mu    sync.Mutex
	at    int // the point; 0 is none
	count int
	dead  bool
	where string
}

var errDead = errors.New("the run is dead")

// point is reached by the run; it returns an error once the run is dead.
func (d *death) point(where string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.count++; d.count == d.at {
		d.dead, d.where = true, where
	}
	if d.dead {
		return errDead
	}
	return nil
}

// once reports whether this is the one point, and that only once.
func (d *death) once(where string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.count++
	if d.count == d.at {
		d.where = where
	}
	return d.count == d.at
}

// mortal is a site as a run that may die sees it. A reply is lost when the run
// dies after the call.
type mortal struct {
	site.Site
	death *death
	lose  *death // loses the reply of one call, and the run lives on
}

func act[T any](m mortal, name string, call func() (T, error)) (T, error) {
	var none T
	if err := m.death.point("before " + name); err != nil {
		return none, err
	}
	v, err := call()
	if dead := m.death.point("after " + name); dead != nil {
		return none, dead
	}
	if m.lose.once(name) {
		return none, fmt.Errorf("%w: the reply was lost", site.ErrUnreachable)
	}
	return v, err
}

func (m mortal) SideBySide() bool {
	c, ok := m.Site.(site.Concurrent)
	return ok && c.SideBySide()
}

func (m mortal) AwaitReport(ctx context.Context, id uuid.UUID) (*contract.Machine, error) {
	r, ok := m.Site.(site.Reporter)
	if !ok {
		return m.Machine(ctx, id)
	}
	return act(m, "report", func() (*contract.Machine, error) { return r.AwaitReport(ctx, id) })
}

func (m mortal) Specs(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]*machine.Spec, error) {
	return m.Site.(site.SpecSource).Specs(ctx, ids)
}

func (m mortal) Survey(ctx context.Context) (*contract.Survey, error) {
	return act(m, "survey", func() (*contract.Survey, error) { return m.Site.Survey(ctx) })
}

func (m mortal) Clone(ctx context.Context, o contract.CloneOrder) (contract.Task, error) {
	return act(m, "clone", func() (contract.Task, error) {
		if strings.HasPrefix(o.Name, "bms-refused") {
			return contract.Task{}, fmt.Errorf("%w: not this one", site.ErrRefused)
		}
		return m.Site.Clone(ctx, o)
	})
}

func (m mortal) Shape(ctx context.Context, id uuid.UUID, s machine.Shape, r contract.Restart) (contract.Task, error) {
	return act(m, "shape", func() (contract.Task, error) { return m.Site.Shape(ctx, id, s, r) })
}

func (m mortal) Rename(ctx context.Context, id uuid.UUID, name string, mark contract.Mark, r contract.Restart) (contract.Task, error) {
	return act(m, "rename", func() (contract.Task, error) { return m.Site.Rename(ctx, id, name, mark, r) })
}

func (m mortal) Insert(ctx context.Context, id uuid.UUID, image string) (contract.Task, error) {
	return act(m, "insert", func() (contract.Task, error) { return m.Site.Insert(ctx, id, image) })
}

func (m mortal) Carry(ctx context.Context, id uuid.UUID, image contract.Image) (contract.Task, error) {
	return act(m, "carry", func() (contract.Task, error) { return m.Site.Carry(ctx, id, image) })
}

func (m mortal) TellName(ctx context.Context, id uuid.UUID, hostname, fqdn string) (contract.Task, error) {
	return act(m, "tell", func() (contract.Task, error) { return m.Site.(site.Teller).TellName(ctx, id, hostname, fqdn) })
}

func (m mortal) Wire(ctx context.Context, id uuid.UUID, a []machine.Card, r contract.Restart) (contract.Task, error) {
	return act(m, "wire", func() (contract.Task, error) { return m.Site.Wire(ctx, id, a, r) })
}

func (m mortal) Seed(ctx context.Context, id uuid.UUID, image []byte) (contract.Task, error) {
	return act(m, "seed", func() (contract.Task, error) { return m.Site.Seed(ctx, id, image) })
}

func (m mortal) Checkpoint(ctx context.Context, id uuid.UUID, name string) (contract.Task, error) {
	return act(m, "checkpoint", func() (contract.Task, error) { return m.Site.Checkpoint(ctx, id, name) })
}

func (m mortal) Restore(ctx context.Context, id uuid.UUID, name string) (contract.Task, error) {
	return act(m, "restore", func() (contract.Task, error) { return m.Site.Restore(ctx, id, name) })
}

func (m mortal) Detach(ctx context.Context, id uuid.UUID) (contract.Task, error) {
	return act(m, "detach", func() (contract.Task, error) { return m.Site.Detach(ctx, id) })
}

func (m mortal) Drop(ctx context.Context, id uuid.UUID, name string) (contract.Task, error) {
	return act(m, "drop", func() (contract.Task, error) { return m.Site.Drop(ctx, id, name) })
}

func (m mortal) Record(ctx context.Context, id uuid.UUID, mark contract.Mark) (contract.Task, error) {
	return act(m, "record", func() (contract.Task, error) { return m.Site.Record(ctx, id, mark) })
}

func (m mortal) Power(ctx context.Context, id uuid.UUID, p machine.Power) (contract.Task, error) {
	return act(m, "power", func() (contract.Task, error) { return m.Site.Power(ctx, id, p) })
}

func (m mortal) Machine(ctx context.Context, id uuid.UUID) (*contract.Machine, error) {
	return act(m, "machine", func() (*contract.Machine, error) { return m.Site.Machine(ctx, id) })
}

func (m mortal) Remove(ctx context.Context, id uuid.UUID, disks contract.Disks) (contract.Task, error) {
	return act(m, "remove", func() (contract.Task, error) { return m.Site.Remove(ctx, id, disks) })
}

// mortalSystem is a system around machines as a run that may die sees it.
type mortalSystem struct {
	enrol.System
	death, lose *death
}

func (m mortalSystem) Change(ctx context.Context, c entry.Change) error {
	if err := m.death.point("before change"); err != nil {
		return err
	}
	if err := m.System.Change(ctx, c); err != nil {
		return err
	}
	if dead := m.death.point("after change"); dead != nil {
		return dead
	}
	if m.lose.once("change") {
		return fmt.Errorf("%w: the reply was lost", enrol.ErrUnreachable)
	}
	return nil
}

// world is a folder with a setup, its sandbox and its ledger.
type world struct {
	dir  string
	stop func()
	most func(kind string) int // acts that were under way at once
	also func(t testing.TB, s *mint.Desk, d, lose *death)
}

const plainSetup = `
limits: {confirm: 20s}
presets:
  node: {cpus: 1, memory: 1GiB, network: survey, address: pool:nodes}
  carrier: {cpus: 1, memory: 1GiB, network: survey, address: pool:nodes, carry: [tiles.dat]}
  spare: {cpus: 1, memory: 1GiB, network: chart, address: pool, clone: full, checkpoint: fresh}
`

// first is what was made before; then is asked for: one machine stays, one is
// adjusted, one remade, one retired, and new ones come, of which one cannot be made.
const (
	first = "machine,preset,site,cpus,hostname,template\nbms-same,node,quay,,,\nbms-adjust,node,vessel,,,\nbms-remake,node,quay,,,\nbms-gone,spare,quay,,,\nbms-kept,node,quay,,,\n"
	then  = "machine,preset,site,cpus,hostname,template,network.2,address.2,after,clone,media\nbms-same,node,quay,,,,,,,,\nbms-adjust,node,vessel,2,,,chart,pool,,full,\nbms-remake,node,quay,,renamed,,,,bms-full,,\n" +
		"bms-linked,carrier,quay,,,,,,bms-chart-01,,quay-bulk/drivers.iso\nbms-full,spare,vessel,,,,,,,,\nbms-chart-01,desk,quay,,,win-chart,,,vessel/bms-*,,\nbms-refused,node,quay,,,,,,,,\n"
)

// served serves the sandbox of a folder, with some faults.
func served(t testing.TB, dir string, faults ...string) *world {
	t.Helper()
	return servedAt(t, dir, 1e6, faults...)
}

// servedAt serves it at a speed.
func servedAt(t testing.TB, dir string, speed float64, faults ...string) *world {
	t.Helper()
	wrong, err := sandbox.ParseFaults(faults, 11)
	require.NoError(t, err)
	s, err := sandbox.Open(sandbox.Options{Dir: filepath.Join(dir, "sandbox"), Plan: sandbox.DemoPlan(), Speed: speed, Faults: wrong})
	require.NoError(t, err)
	if _, err := os.Stat(filepath.Join(dir, "mintbatch.yaml")); err != nil {
		require.NoError(t, handover.WriteDemo(dir, handover.Demo{URL: s.URL, Fingerprint: s.Fingerprint.String(), DNS: s.Names.Address}))
		setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
		require.NoError(t, err)
		text := strings.Replace(string(setup), "\npresets:", plainSetup+"  desk: {clone: full, template: win-chart, network: chart, address: pool, keys: \"\", login: chart}", 1)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "mintbatch.yaml"), []byte(text), 0o600))
	}
	carried := filepath.Join(dir, "tiles.dat") // in each world the same
	require.NoError(t, os.WriteFile(carried, []byte("tiles"), 0o600))
	require.NoError(t, os.Chtimes(carried, time.Time{}, time.Unix(1e9, 0)))
	ctx, end := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { _ = s.Serve(ctx); close(ended) }()
	return &world{dir: dir, stop: func() { end(); <-ended }, most: s.Most}
}

// open opens the desk for one who may die.
func (w *world) open(t testing.TB, d, lose *death) *mint.Desk {
	t.Helper()
	ctx := context.Background()
	s, err := mint.Open(ctx, input.Input{Setups: []string{filepath.Join(w.dir, "mintbatch.yaml")}}, nil)
	require.NoError(t, err)
	for _, name := range []string{"quay", "vessel"} {
		_, err := s.Sites.Site(name)
		require.NoError(t, err)
		s.Sites.Use(name, func(opened site.Site) site.Site { return mortal{opened, d, lose} })
	}
	require.NoError(t, s.Around.Use("office", func(opened enrol.System) enrol.System { return mortalSystem{opened, d, lose} }))
	if w.also != nil {
		w.also(t, s, d, lose)
	}
	s.Ledger.Hook = d.point
	return s
}

// run mints the sheet and retires the strays, as one who may die.
func (w *world) run(t testing.TB, sheet string, d, lose *death) error {
	t.Helper()
	ctx := context.Background()
	path := filepath.Join(w.dir, "machines.csv")
	require.NoError(t, os.WriteFile(path, []byte(sheet), 0o600))
	s := w.open(t, d, lose)
	defer s.Close()
	if err := s.Ledger.Lock(ctx, "test", mint.Everything); err != nil {
		return err
	}
	p, err := s.Make(ctx, plan.Request{Contact: plan.Online})
	if err != nil {
		return err
	}
	_, failed := do(ctx, s)(s.Minting(ctx, "mint", p, plan.AllowRemakes, mint.Order{}))
	var incomplete *mint.Incomplete
	if d.dead || failed != nil && !errors.As(failed, &incomplete) {
		return failed
	}
	retiring, err := s.Retiring(ctx, mint.Which{Strays: true}, plan.DoubtMissing)
	if err != nil {
		return err
	}
	strays := retiring.Works
	for _, disks := range []contract.Disks{contract.DeleteDisks, contract.KeepDisks} {
		some := slices.DeleteFunc(slices.Clone(strays), func(w proof.Work) bool { return (w.Name == "bms-kept") != (disks == contract.KeepDisks) })
		if len(some) > 0 && err == nil {
			_, err = do(ctx, s)(mint.Retirement("retire", some, mint.Order{Disks: disks}), nil)
		}
	}
	return errors.Join(failed, err)
}

// do claims a task and does it.
func do(ctx context.Context, d *mint.Desk) func(mint.Task, error) (*mint.Outcome, error) {
	return func(t mint.Task, err error) (*mint.Outcome, error) {
		if err != nil {
			return nil, err
		}
		r, err := d.Claim(ctx, t)
		if err != nil {
			return nil, err
		}
		return r.Do(ctx, ctx, mint.Sinks{})
	}
}

// state is all that a batch comes to, at the sites and in the ledger, without
// what differs between runs that come to the same.
func (w *world) state(t testing.TB) string {
	t.Helper()
	var words []string
	f, err := os.Open(filepath.Join(w.dir, "sandbox", "machines.jsonl"))
	require.NoError(t, err)
	defer f.Close()
	last := map[string]string{}
	for lines := bufio.NewScanner(f); lines.Scan(); {
		var r map[string]any
		require.NoError(t, json.Unmarshal(lines.Bytes(), &r))
		id := r["id"].(string)
		delete(r["mark"].(map[string]any), "run")
		delete(r, "booted")
		delete(r, "first_boot")
		delete(r, "host") // the sandbox takes the one with the most room, and the first lease that is free
		forgetLeases := func(of map[string]any) {
			adapters, _ := of["adapters"].([]any)
			for _, a := range adapters {
				delete(a.(map[string]any), "lease")
			}
		}
		forgetLeases(r)
		states, _ := r["states"].([]any)
		for _, state := range states {
			delete(state.(map[string]any), "taken")
			forgetLeases(state.(map[string]any))
		}
		if report, ok := r["report"].(map[string]any); ok {
			delete(report, "host_key")
		}
		b, err := json.Marshal(r)
		require.NoError(t, err)
		last[id] = string(b)
	}
	for id, text := range last {
		if !strings.Contains(text, `"gone":true`) {
			_, err := os.Stat(filepath.Join(w.dir, "sandbox", "seeds", id+".iso"))
			words = append(words, fmt.Sprint(text, " seed ", err == nil))
		}
		words = append(words, "once made "+id)
	}
	names, err := os.ReadFile(filepath.Join(w.dir, "sandbox", "dns.records"))
	require.NoError(t, err)
	for line := range strings.Lines(string(names)) {
		name, _, fingerprint := strings.Cut(line, "SSHFP")
		words = append(words, fmt.Sprint("entered ", name, fingerprint)) // of whatever key
	}
	words = append(words, w.told(t)...)
	l, err := ledger.Open(t.Context(), filepath.Join(w.dir, "mintbatch.ledger"))
	require.NoError(t, err)
	defer l.Close()
	waiting, err := l.Outbox(t.Context())
	require.NoError(t, err)
	for _, o := range waiting {
		words = append(words, fmt.Sprint("waiting ", o.Notice, o.Key()))
	}
	entered, err := l.AllEntered(t.Context())
	require.NoError(t, err)
	for key, e := range entered {
		for _, item := range e.Items {
			words = append(words, fmt.Sprint("entries ", key, e.Owner, item.Name, len(item.Values)))
		}
	}
	all, err := l.Machines(t.Context())
	require.NoError(t, err)
	for _, m := range all {
		words = append(words, fmt.Sprint(m.Key, m.Generation, m.State, m.Cloned, m.Started, m.Spec().Fingerprint(), m.Store, m.HostKey != ""))
	}
	held, err := l.Reservations(t.Context())
	require.NoError(t, err)
	for _, r := range held {
		words = append(words, fmt.Sprint(r.Network, r.Addr, r.Holder, r.Pool, r.Standing))
	}
	kept, err := l.Kept(t.Context())
	require.NoError(t, err)
	for _, k := range kept {
		words = append(words, fmt.Sprint("kept ", k.Key, k.Generation, k.Disks))
	}
	sealed, err := l.Sealed(t.Context())
	require.NoError(t, err)
	for _, s := range sealed {
		words = append(words, fmt.Sprint("sealed ", s.Key, s.Label))
	}
	faults, err := l.Check(t.Context())
	require.NoError(t, err)
	words = append(words, faults...)
	slices.Sort(words)
	return strings.Join(words, "\n")
}

// told are the items that the keeper of records has, and whether each is open.
func (w *world) told(t testing.TB) (words []string) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(w.dir, "sandbox", "records.jsonl"))
	require.NoError(t, err)
	items := map[string]string{}
	for line := range strings.Lines(string(text)) {
		var r struct {
			Item string
			Open bool
			Body struct{ Subject string }
		}
		require.NoError(t, json.Unmarshal([]byte(line), &r))
		items[r.Item] = fmt.Sprint("item of ", r.Body.Subject, " open ", r.Open)
	}
	return slices.Collect(maps.Values(items))
}

// before lays out the world from which all begin; again returns a fresh copy of it, whose
// sandbox may have faults.
func before(t *testing.T) (again func(faults ...string) *world) {
	base := t.TempDir()
	w := served(t, base)
	require.NoError(t, w.run(t, first, &death{}, &death{}))
	w.stop()
	return copies(t, base)
}

// copies makes fresh copies of a world.
func copies(t *testing.T, base string) (again func(faults ...string) *world) {
	return func(faults ...string) *world {
		dir := filepath.Join(t.TempDir(), "w")
		require.NoError(t, os.CopyFS(dir, os.DirFS(base)))
		for _, secret := range []string{"operator.key", "sandbox/key.pem", "sandbox/token", "sandbox/dns.key", "sandbox/records.key"} {
			require.NoError(t, os.Chmod(filepath.Join(dir, secret), 0o600))
		}
		return served(t, dir, faults...)
	}
}

// crashes is before, with what an undisturbed run comes to.
func crashes(t *testing.T) (again func(...string) *world, want string, points int) {
	again = before(t)
	w := again()
	count := &death{}
	var incomplete *mint.Incomplete
	require.ErrorAs(t, w.run(t, then, count, &death{}), &incomplete)
	require.Equal(t, 1, incomplete.Failed)
	w.stop()
	return again, w.state(t), count.count
}

// settled runs the batch to its end, after whatever happened to it, and holds
// that against what an undisturbed run comes to.
func (w *world) settled(t *testing.T, want, what string) {
	t.Helper()
	var err error
	for range 3 {
		var incomplete *mint.Incomplete
		if err = w.run(t, then, &death{}, &death{}); errors.As(err, &incomplete) && incomplete.Failed == 1 {
			break
		}
	}
	w.stop()
	assert.Equal(t, want, w.state(t), "%s; the last run: %v", what, err)
	_ = os.RemoveAll(w.dir)
}

// A mixed batch is ended at every single point of it, and run again: it comes to
// what an undisturbed run comes to, with no second clone and no other address.
func TestEveryCrashPoint(t *testing.T) {
	again, want, points := crashes(t)
	t.Logf("%d points", points)
	require.Greater(t, points, 150)
	step := amount(67, 29, 1)
	for at := 1; at <= points; at += step {
		w := again()
		d := &death{at: at}
		_ = w.run(t, then, d, &death{})
		w.settled(t, want, fmt.Sprintf("dead at %d, %s", at, d.where))
	}
}

// The reply of each call is lost once, and the run lives on.
func TestEveryLostReply(t *testing.T) {
	again, want, _ := crashes(t)
	step := amount(67, 29, 1)
	for at := 1; ; at += step {
		w := again()
		lose := &death{at: at}
		_ = w.run(t, then, &death{}, lose)
		w.settled(t, want, fmt.Sprintf("reply %d was lost, of %s", at, lose.where))
		if lose.count < at {
			break
		}
	}
}

// Ended twice, at random points, the batch still comes to the same.
func TestDoubleCrashes(t *testing.T) {
	again, want, points := crashes(t)
	seed := seedOf(t)
	chance := rand.New(rand.NewPCG(seed, 3))
	for round := range amount(3, 8, 400) {
		w := again()
		one, two := &death{at: 1 + chance.IntN(points)}, &death{at: 1 + chance.IntN(points)}
		_ = w.run(t, then, one, &death{})
		_ = w.run(t, then, two, &death{})
		w.settled(t, want, fmt.Sprintf("round %d: dead at %d (%s), then at %d (%s)", round, one.at, one.where, two.at, two.where))
		if t.Failed() {
			break
		}
	}
}

// The acts on machines that are made, on the machines of the first batch.
var everyday = map[string]func(context.Context, *mint.Desk) (mint.Task, error){
	"power off":     powering(mint.PowerOff),
	"power on":      powering(mint.PowerOn),
	"power restart": powering(mint.PowerRestart),
	"keep":          checkpointing(mint.KeepCheckpoint, machine.Checkpoint{Name: "late"}, "bms-*"),
	"keep off":      checkpointing(mint.KeepCheckpoint, machine.Checkpoint{Name: "late", Moment: machine.ConfirmedOff}, "bms-*"),
	"restore":       checkpointing(mint.RestoreCheckpoint, machine.Checkpoint{Name: "fresh"}, "bms-gone"),
	"drop":          checkpointing(mint.DropCheckpoint, machine.Checkpoint{Name: "fresh"}, "bms-gone"),
	"extend": func(ctx context.Context, d *mint.Desk) (mint.Task, error) {
		return d.Extending(ctx, []string{"bms-*"}, mint.Dates{Until: "2100-01-01"}, mint.Order{})
	},
	"rename": func(ctx context.Context, d *mint.Desk) (mint.Task, error) {
		return d.Renaming(ctx, "bms-same", "bms-other", mint.Order{})
	},
}

func powering(a mint.PowerAct) func(context.Context, *mint.Desk) (mint.Task, error) {
	return func(ctx context.Context, d *mint.Desk) (mint.Task, error) {
		return d.Powering(ctx, a, []string{"bms-*"}, mint.Order{})
	}
}

func checkpointing(a mint.CheckpointAct, c machine.Checkpoint, names ...string) func(context.Context, *mint.Desk) (mint.Task, error) {
	return func(ctx context.Context, d *mint.Desk) (mint.Task, error) {
		return d.Checkpointing(ctx, a, c, names, mint.Order{})
	}
}

// act does one of them, as one who may die.
func (w *world) act(t *testing.T, task func(context.Context, *mint.Desk) (mint.Task, error), d, lose *death) error {
	t.Helper()
	ctx := context.Background()
	s := w.open(t, d, lose)
	defer s.Close()
	err := s.Ledger.Lock(ctx, "test", mint.Everything)
	if err == nil {
		var made mint.Task
		if made, err = task(ctx, s); err == nil {
			_, err = do(ctx, s)(made, nil)
		}
	}
	return err
}

// endedAnywhere lets something be ended at points of it, every so many, or lets a reply be lost there;
// each time in a world of its own, in which then is what is done and held after that.
func endedAnywhere(t *testing.T, again func(...string) *world, points, every int, do func(w *world, d, lose *death), then func(w *world, what string)) {
	t.Helper()
	for at := 1; at <= points; at += every {
		for _, kind := range []string{"dead", "lost"} {
			w, point, fine := again(), &death{at: at}, &death{}
			d, lose := point, fine
			if kind == "lost" {
				d, lose = fine, point
			}
			do(w, d, lose)
			then(w, fmt.Sprintf("%s at %d, %s", kind, at, point.where))
			_ = os.RemoveAll(w.dir)
			if t.Failed() {
				return
			}
		}
	}
}

// untilDone does something again, a few times, until it succeeds.
func untilDone(do func() error) (err error) {
	for range 3 {
		if err = do(); err == nil {
			break
		}
	}
	return err
}

// Each act on made machines is ended at points of it, or a reply is lost, and done again: it
// comes to what an undisturbed one comes to, and a mint has nothing to add.
func TestEverydayCrashPoints(t *testing.T) {
	again := before(t)
	for name, task := range everyday {
		t.Run(name, func(t *testing.T) {
			w, count := again(), &death{}
			require.NoError(t, w.act(t, task, count, &death{}))
			w.stop()
			want := w.state(t)
			endedAnywhere(t, again, count.count, amount(97, 31, 1), func(w *world, d, lose *death) { _ = w.act(t, task, d, lose) }, func(w *world, what string) {
				err := untilDone(func() error { return w.act(t, task, &death{}, &death{}) })
				what = fmt.Sprintf("%s; the last act: %v", what, err)
				if !slices.Contains([]string{"keep", "keep off", "drop", "rename"}, name) { // which refuse what is done already
					assert.NoError(t, err, what)
				}
				w.stop()
				assert.Equal(t, want, w.state(t), what)
			})
		})
	}
}

// At a site where much goes wrong, each act comes to what an undisturbed one comes to, if it is
// only asked for often enough.
func TestEverydayFaults(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: it runs with the other tests")
	}
	again := before(t)
	for name, task := range everyday {
		t.Run(name, func(t *testing.T) {
			w := again()
			require.NoError(t, w.act(t, task, &death{}, &death{}))
			w.stop()
			want := w.state(t)
			w = again("lose:10%", "fail:20%", "refuse:10%", "slow:10%")
			var err error
			for range 40 {
				if err = w.act(t, task, &death{}, &death{}); err == nil || w.state(t) == want {
					break
				}
			}
			w.stop()
			assert.Equal(t, want, w.state(t), "the last act: %v", err)
		})
	}
}
