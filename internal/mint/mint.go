package mint

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"slices"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/survey"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
)

// Order says how to mint.
type Order struct {
	Unstarted   bool         // make all, start none
	KeepHostKey bool         // a machine that had an SSH host key keeps it
	ForceOff    bool         // cut the power of guests that do not shut down
	Disks       survey.Disks // what becomes of those of machines that are retired
	StopAfter   int
	Waves       proof.Waves
	Watch       func(run.Event)
	Events      io.Writer          // gets a copy of the log of the run; nil for none
	Boundary    func(run.Boundary) // for tests
}

// Minted is what came of a run.
type Minted struct {
	Run     string
	Results []run.Result
	// LogFailure is why the log of the run is not complete; nil if it is.
	LogFailure error
	// Kept are machines that were retired and whose disks are still there.
	Kept []ledger.Kept
	// Refused are machines that were left alone: their names are taken, or
	// they need a remake or a restart that was not allowed.
	Refused []proof.Work
}

// Incomplete says that some machines are not as asked.
type Incomplete struct {
	Failed  int
	Stopped bool // the run was told to stop
}

// Error counts the machines.
func (i *Incomplete) Error() string {
	if i.Stopped {
		return "stopped; nothing is lost: the same command goes on where this run ended"
	}
	if i.Failed == 1 {
		return "one machine is not as asked; once the cause is mended, the same command goes on with it"
	}
	return fmt.Sprintf("%d machines are not as asked; once the causes are mended, the same command goes on with them", i.Failed)
}

// Todo splits the proof into the work to do and the machines to leave alone.
func Todo(p proof.Proof, allowRemake bool) (todo, refused []proof.Work) {
	for _, w := range p.Works {
		switch {
		case w.Word == proof.Taken, w.Word == proof.Remake && !allowRemake, w.Barred():
			refused = append(refused, w)
		case w.Word == proof.New, w.Word == proof.Adjust, w.Word == proof.Remake:
			todo = append(todo, w)
		}
	}
	return todo, refused
}

// Mint does works that were claimed. When stop ends, it brings acts under way to
// their end and begins no others. What was refused counts as not done.
func (s *Session) Mint(ctx, stop context.Context, todo, refused []proof.Work, o Order) (*Minted, error) {
	return s.run(ctx, stop, &Minted{Run: s.claimed.ID, Refused: refused}, todo, o, (*run.Engine).Do)
}

// run lets the engine do the work that was claimed.
func (s *Session) run(ctx, stop context.Context, m *Minted, todo []proof.Work, o Order,
	do func(*run.Engine, context.Context, context.Context, []proof.Work) []run.Result) (*Minted, error) {
	if len(todo) == 0 {
		return m, m.Outcome(stop)
	}
	sealing, err := s.sealing(ctx)
	if err != nil {
		return nil, errors.Join(err, s.Disclaim(ctx))
	}
	if o.KeepHostKey {
		sealing.Kept = func(key machine.Key) (string, error) { return s.unseal(ctx, key, run.SealedHostKey) }
	}
	log, err := s.record(s.claimed, len(todo), o.Events)
	if err != nil {
		return nil, errors.Join(err, s.Disclaim(ctx))
	}
	engine := run.Engine{
		Run: m.Run, Ledger: s.Ledger, Owner: s.Ledger.ID, Sites: s.sites, Limits: s.limits(), Times: s.times(), Reserved: s.reserved,
		Sealing: sealing, Random: rand.Reader, Cooling: s.cooling(), Disks: o.Disks,
		Expect:    s.expected,
		StopAfter: o.StopAfter, Unstarted: o.Unstarted, ForceOff: o.ForceOff, Watch: log.with(o.Watch), Boundary: o.Boundary,
	}
	m.Results = inWaves(o, todo, stop, func(wave []proof.Work) []run.Result { return do(&engine, ctx, stop, wave) })
	outcome := m.Outcome(stop)
	word := "done"
	if outcome != nil {
		word = outcome.Error()
	}
	err = s.Ledger.EndRun(context.WithoutCancel(ctx), m.Run, word)
	if failed := log.end(word); failed != nil {
		m.LogFailure = failed
	}
	if err != nil {
		return m, err
	}
	return m, outcome
}

// inWaves does one wave after the other, for as long as none has failures: more
// than there may be, if the order says how many.
func inWaves(o Order, todo []proof.Work, stop context.Context, do func([]proof.Work) []run.Result) []run.Result {
	var all []run.Result
	failures := 0
	for _, wave := range o.Waves.Split(todo) {
		if failures >= max(o.StopAfter, 1) || stop.Err() != nil {
			for _, w := range wave {
				all = append(all, run.Result{Work: w, Err: run.ErrStopped})
			}
			continue
		}
		for _, r := range do(wave) {
			all = append(all, r)
			if r.Err != nil && !errors.Is(r.Err, run.ErrStopped) {
				failures++
			}
		}
	}
	return all
}

// usualCooling is how long an address rests after its machine was retired,
// where the setup does not say.
const usualCooling = time.Hour

func (s *Session) cooling() map[string]time.Duration {
	all := map[string]time.Duration{}
	for name, n := range s.Setup.Networks {
		all[name] = usualCooling
		if n.Cooling != nil {
			all[name] = *n.Cooling
		}
	}
	return all
}

// Amend puts what came of trying some machines again in place of what had come of
// them before.
func (m *Minted) Amend(later *Minted) {
	m.Run, m.LogFailure = later.Run, errors.Join(m.LogFailure, later.LogFailure)
	m.Kept = append(m.Kept, later.Kept...)
	for _, again := range later.Results {
		i := slices.IndexFunc(m.Results, func(r run.Result) bool { return r.Key == again.Key })
		m.Results[i] = again
	}
}

// Outcome is an *Incomplete unless every machine is as asked; stop tells whether
// the run was told to stop.
func (m *Minted) Outcome(stop context.Context) error {
	failed := len(m.Refused)
	for _, r := range m.Results {
		if r.Err != nil {
			failed++
		}
	}
	if failed == 0 {
		return nil
	}
	return &Incomplete{Failed: failed, Stopped: stop.Err() != nil}
}

// newRunID is short enough to type and sorts by time.
func newRunID() string {
	var b [2]byte
	_, _ = rand.Read(b[:])
	return time.Now().UTC().Format("060102-150405-") + hex.EncodeToString(b[:])
}

// operator tells who runs this, and where.
func operator() (name, host string) {
	name, host = "?", "?"
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	if h, err := os.Hostname(); err == nil {
		host = h
	}
	return name, host
}
