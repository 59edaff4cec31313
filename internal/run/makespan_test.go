//go:build unix

package run

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"runtime"
	"sync"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/place"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/sequence"
	"mintbatch/internal/core/step"
	"mintbatch/internal/ledger"
	"mintbatch/internal/site"
)

// office is a simulated site: its acts take the time that they are told to, by
// the clock of the test. It counts for itself what is under way at once.
type office struct {
	site.Site
	copies map[uuid.UUID]time.Duration
	hosts  map[uuid.UUID]string
	boot   time.Duration

	mu    sync.Mutex
	ends  map[string]time.Time
	up    map[uuid.UUID]time.Time
	under map[string]int
	most  map[string]int
}

func (o *office) task(d time.Duration, kinds ...string) contract.Task {
	o.mu.Lock()
	defer o.mu.Unlock()
	id := uuid.NewString()
	o.ends[id] = time.Now().Add(d)
	for _, kind := range kinds {
		o.under[kind]++
		o.most[kind] = max(o.most[kind], o.under[kind])
	}
	time.AfterFunc(d, func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		for _, kind := range kinds {
			o.under[kind]--
		}
	})
	return contract.Task{ID: id, State: contract.Running}
}

func (o *office) Task(_ context.Context, id string) (contract.Task, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if time.Now().Before(o.ends[id]) {
		return contract.Task{ID: id, State: contract.Running}, nil
	}
	return contract.Task{ID: id, State: contract.Done}, nil
}

func (o *office) Clone(_ context.Context, order contract.CloneOrder) (contract.Task, error) {
	return o.task(o.copies[order.Identity], "copies", "copies at "+order.Host), nil
}

func (o *office) Record(context.Context, uuid.UUID, contract.Mark) (contract.Task, error) {
	return contract.Task{State: contract.Done}, nil
}

func (o *office) Wire(context.Context, uuid.UUID, []machine.Card, contract.Restart) (contract.Task, error) {
	return contract.Task{State: contract.Done}, nil
}

func (o *office) Power(_ context.Context, id uuid.UUID, _ machine.Power) (contract.Task, error) {
	o.mu.Lock()
	o.up[id] = time.Now().Add(o.boot)
	o.mu.Unlock()
	return o.task(time.Second, "starts"), nil
}

func (o *office) Machine(_ context.Context, id uuid.UUID) (*contract.Machine, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	m := &contract.Machine{ID: id, Host: o.hosts[id], Store: "store", Power: machine.On}
	if up, on := o.up[id]; on && time.Now().After(up) {
		m.Report = &contract.Report{Finished: true}
	}
	return m, nil
}

// stepsEach is how many steps the machines of a batch go through.
const stepsEach = 6

// batch mints n machines on some hosts with two copies at a time each, their
// copy times heavy-tailed, and tells how long that took against the least that it could.
// Of so many machines each in the order of the sheet comes after the one before it.
func batch(t testing.TB, n, hosts, chained int, seed uint64) (took, least time.Duration, o *office) {
	chance := rand.New(rand.NewPCG(seed, 0))
	o = &office{copies: map[uuid.UUID]time.Duration{}, hosts: map[uuid.UUID]string{}, boot: 12 * time.Second,
		ends: map[string]time.Time{}, up: map[uuid.UUID]time.Time{}, under: map[string]int{}, most: map[string]int{}}
	var works []proof.Work
	var perHost = map[string]time.Duration{}
	var nodes []sequence.Node
	var chain time.Duration // how long the longest takes from the last one's start on
	for i := range n {
		id, host := uuid.New(), fmt.Sprintf("hv%02d", i%hosts)
		// Pareto's distribution with a finite mean, and an end: 30 seconds at least, an hour at most.
		d := time.Duration(min(30*math.Pow(1-chance.Float64(), -1/1.4), 3600) * float64(time.Second))
		o.copies[id], o.hosts[id] = d, host
		perHost[host] += d
		if i < chained {
			chain = max(chain, d) + o.boot
		}
		least = max(least, d+o.boot, chain)
		m := &machine.Machine{Key: machine.Key{Site: "quay", Name: fmt.Sprintf("bms-sonar-%05d", i)},
			Spec: machine.Spec{Clone: machine.Clone{Template: "deb12-base", Kind: machine.Full}, Guest: machine.Guest{Answers: machine.NoAnswers}, Power: machine.On}}
		if i > 0 && i < chained {
			m.After = []string{works[i-1].Name}
		}
		nodes = append(nodes, sequence.NodeOf(m.Key, &m.Spec))
		works = append(works, proof.Work{Key: m.Key, Word: proof.New, Slim: m.Spec.Slim(), Generation: 1, Identity: id, Place: &place.Place{Host: host, Store: "store"}})
	}
	// The copies of a host take half their sum; behind the last of the first k of a chain,
	// whichever that is, all of the chain from the k-th on is yet to come.
	soFar := map[string]time.Duration{}
	for i, w := range works {
		soFar[w.Place.Host] += o.copies[w.Identity]
		if i < chained {
			least = max(least, soFar[w.Place.Host]/2+time.Duration(chained-i)*o.boot)
		}
	}
	for _, all := range perHost {
		least = max(least, all/2)
	}
	l, err := ledger.Open(t.Context(), filepath.Join(t.TempDir(), "l"))
	require.NoError(t, err)
	defer l.Close()
	e := Engine{Run: "r", Ledger: l, Owner: l.ID, Sites: map[string]site.Site{"quay": o}, Expect: func(w proof.Work) time.Duration { return o.copies[w.Identity] },
		Limits: map[string]Limits{"quay": {Site: Parallel{AnyStep: 10 * hosts, Starting: 20, Confirming: 200}, Host: Parallel{FullClone: 2}}},
		Times:  map[Slot]time.Duration{AnyStep: 2 * time.Hour, FullClone: 2 * time.Hour, Starting: time.Hour, Confirming: time.Hour}}
	if chained > 0 {
		keys := make([]machine.Key, n)
		for i, w := range works {
			keys[i] = w.Key
		}
		e.Gates = NewGates(sequence.Of(nodes), keys, nil)
		e.Least = func(_ proof.Work, name step.Name) time.Duration {
			return map[step.Name]time.Duration{step.Start: time.Second, step.Confirm: o.boot - time.Second}[name]
		}
	}
	began := time.Now()
	for _, r := range e.Mint(t.Context(), t.Context(), works) {
		if !assert.NoError(t, r.Err) {
			break
		}
	}
	return time.Since(began), least, o
}

// The whole engine, by a clock that jumps: the batch takes at most 5% longer than
// the largest of each host's work over its slots, the longest machine and the longest chain, and no
// limit is ever exceeded, as the site counts.
func TestMakespan(t *testing.T) {
	for _, c := range []struct{ n, hosts, chained int }{{500, 1, 0}, {500, 5, 0}, {500, 20, 0}, {500, 20, 60}, {500, 20, 120}, {300, 5, 200}, {200, 10, 80}} {
		if testing.Short() && c.hosts != 5 && c.n != 200 {
			continue
		}
		synctest.Test(t, func(t *testing.T) {
			took, least, o := batch(t, c.n, c.hosts, c.chained, 7)
			t.Logf("%d machines, %d hosts, %d in a chain: %s of at least %s", c.n, c.hosts, c.chained, took, least)
			assert.LessOrEqual(t, took.Seconds(), 1.05*least.Seconds(), "%d machines on %d hosts, %d in a chain", c.n, c.hosts, c.chained)
			assert.Equal(t, 2*c.hosts, o.most["copies"], "the slots are used, and no more")
			for host := range c.hosts {
				assert.LessOrEqual(t, o.most[fmt.Sprintf("copies at hv%02d", host)], 2)
			}
			assert.LessOrEqual(t, o.most["starts"], 20)
		})
	}
}

// forgetful is a ledger that keeps nothing, and ready a site that is done at once: what
// is left is the engine's own.
type (
	forgetful struct{}
	ready     struct{ site.Site }
)

func (forgetful) Replacing(context.Context, machine.Key, ledger.Removal) error { return nil }
func (forgetful) Revert(context.Context, string, machine.Key, []ledger.Reservation) error {
	return nil
}
func (forgetful) Rename(context.Context, string, machine.Key, machine.Machine, ...ledger.Outgoing) error {
	return nil
}
func (forgetful) Current() error { return nil }
func (forgetful) Steps(context.Context, machine.Key, int) (map[string]ledger.Step, error) {
	return map[string]ledger.Step{}, nil
}
func (forgetful) Journal(context.Context, ledger.Step) error                  { return nil }
func (forgetful) Fail(context.Context, ledger.Step, string) error             { return nil }
func (forgetful) HostKey(context.Context, machine.Key) (string, error)        { return "", nil }
func (forgetful) SetPlace(context.Context, machine.Key, string, string) error { return nil }
func (forgetful) Finish(context.Context, string, machine.Machine, string, string, ...ledger.Outgoing) error {
	return nil
}
func (forgetful) NoteStage(context.Context, string, machine.Key, string) error { return nil }
func (forgetful) ExpectCall(context.Context, machine.Key, int, string) error   { return nil }
func (forgetful) Called(context.Context, machine.Key, int) (*contract.Report, error) {
	return nil, nil
}
func (forgetful) CloseOwn(context.Context, string, machine.Key, string, string) error { return nil }
func (forgetful) KeepDisks(context.Context, ledger.Kept) error                        { return nil }
func (forgetful) WasKept(context.Context, machine.Key, int) (bool, error)             { return false, nil }
func (forgetful) WasMade(context.Context, machine.Key) (bool, error)                  { return false, nil }
func (forgetful) PutOutbox(context.Context, []ledger.Outgoing) error                  { return nil }
func (forgetful) PutEntered(context.Context, machine.Key, entry.Entered) error        { return nil }
func (forgetful) Begin(context.Context, string, machine.Machine, int, machine.Origin, []ledger.Reservation) error {
	return nil
}
func (forgetful) Reserve(context.Context, machine.Key, []ledger.Reservation) error   { return nil }
func (forgetful) Seal(context.Context, machine.Key, string, map[string]string) error { return nil }
func (forgetful) Forget(context.Context, string, machine.Key, map[string]time.Time, contract.Disks, ...ledger.Outgoing) error {
	return nil
}

var done = contract.Task{State: contract.Done}

func (ready) Clone(context.Context, contract.CloneOrder) (contract.Task, error) { return done, nil }
func (ready) Wire(context.Context, uuid.UUID, []machine.Card, contract.Restart) (contract.Task, error) {
	return done, nil
}
func (ready) Record(context.Context, uuid.UUID, contract.Mark) (contract.Task, error) {
	return done, nil
}
func (ready) Power(context.Context, uuid.UUID, machine.Power) (contract.Task, error) {
	return done, nil
}
func (ready) Machine(_ context.Context, id uuid.UUID) (*contract.Machine, error) {
	return &contract.Machine{ID: id, Power: machine.On, Report: &contract.Report{Finished: true}}, nil
}

// BenchmarkEngine reports what a step costs the engine itself, against the limit
// of 100 µs of processor time.
func BenchmarkEngine(b *testing.B) {
	const n = 5000
	works := make([]proof.Work, n)
	for i := range works {
		m := &machine.Machine{Key: machine.Key{Site: "quay", Name: fmt.Sprintf("bms-sonar-%05d", i)},
			Spec: machine.Spec{Clone: machine.Clone{Template: "deb12-base", Kind: machine.Full}, Guest: machine.Guest{Answers: machine.NoAnswers}, Power: machine.On}}
		works[i] = proof.Work{Key: m.Key, Word: proof.New, Slim: m.Spec.Slim(), Generation: 1, Identity: uuid.New(), Place: &place.Place{Host: "hv", Store: "store"}}
	}
	e := Engine{Run: "r", Ledger: forgetful{}, Sites: map[string]site.Site{"quay": ready{}},
		Limits: map[string]Limits{"quay": {Site: Parallel{AnyStep: 20, Starting: 20, Confirming: 200}, Host: Parallel{FullClone: 2}}},
		Times:  map[Slot]time.Duration{AnyStep: time.Hour, FullClone: time.Hour, Starting: time.Hour, Confirming: time.Hour}}
	before := busy()
	for b.Loop() {
		for _, r := range e.Mint(b.Context(), b.Context(), works) {
			require.NoError(b, r.Err)
		}
	}
	b.ReportMetric(float64((busy()-before).Microseconds())/float64(b.N*n*stepsEach), "µs/step")
	b.ReportMetric(100, "limit-µs/step")
}

// How near a batch comes to the least that it could take, what a step costs with
// the ledger, the simulated site and its clock, and what memory a machine needs
// that waits.
func BenchmarkMakespan(b *testing.B) {
	for _, n := range []int{500, 5000} {
		for _, hosts := range []int{1, 5, 20} {
			b.Run(fmt.Sprintf("machines=%d/hosts=%d", n, hosts), func(b *testing.B) {
				var ratio float64
				before := busy()
				for b.Loop() {
					inBubble(func(t testing.TB) {
						took, least, _ := batch(t, n, hosts, 0, 7)
						ratio = took.Seconds() / least.Seconds()
					})
				}
				b.ReportMetric(ratio, "of-least")
				b.ReportMetric(float64((busy()-before).Microseconds())/float64(b.N*n*stepsEach), "all-µs/step")
			})
		}
	}
	b.Run("waiting", func(b *testing.B) {
		const n = 100_000
		for b.Loop() {
			var m runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&m)
			had := m.HeapAlloc
			line := newSchedule(nil)
			results, jobs := make([]Result, n), make([]*job, n)
			for i := range n {
				line.add(demand{site: "quay", host: fmt.Sprintf("hv%d", i%20), slot: FullClone}, waiter{index: i})
			}
			runtime.GC()
			runtime.ReadMemStats(&m)
			b.ReportMetric(float64(m.HeapAlloc-had)/n, "B/machine")
			runtime.KeepAlive(line)
			runtime.KeepAlive(results)
			runtime.KeepAlive(jobs)
		}
	})
}

// inBubble lets a benchmark run by a clock that jumps.
func inBubble(do func(testing.TB)) {
	testing.RunTests(func(_, _ string) (bool, error) { return true, nil }, []testing.InternalTest{{Name: "bubble", F: func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) { do(t) })
	}}})
}

// busy is the processor time that the process has used.
func busy() time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		panic(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
