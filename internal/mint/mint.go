package mint

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"os"
	"os/user"
	"time"

	"mintbatch/internal/core/proof"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
)

// Order says how to mint.
type Order struct {
	Command     string // as the run is recorded; empty means mint
	AllowRemake bool
	StopAfter   int
	Watch       func(run.Event)
	Boundary    func(run.Boundary) // for tests
}

// Minted is what came of a run.
type Minted struct {
	Run     string
	Results []run.Result
	// Refused are machines that were left alone: their names are taken, or
	// they need a remake that was not allowed.
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
		switch w.Word {
		case proof.New, proof.Adjust:
			todo = append(todo, w)
		case proof.Remake:
			if allowRemake {
				todo = append(todo, w)
			} else {
				refused = append(refused, w)
			}
		case proof.Taken:
			refused = append(refused, w)
		}
	}
	return todo, refused
}

// Mint does the work of a proof that was made while the ledger was held. When
// stop ends, it brings acts under way to their end and begins no others.
func (s *Session) Mint(ctx, stop context.Context, p proof.Proof, o Order) (*Minted, error) {
	todo, refused := Todo(p, o.AllowRemake)
	return s.run(ctx, stop, cmp.Or(o.Command, "mint"), &Minted{Refused: refused}, todo, o, (*run.Engine).Do)
}

// run lets the engine do some work as a run of its own.
func (s *Session) run(ctx, stop context.Context, command string, m *Minted, todo []proof.Work, o Order,
	do func(*run.Engine, context.Context, context.Context, []proof.Work) []run.Result) (*Minted, error) {
	if len(todo) == 0 {
		return m, incomplete(m, stop)
	}
	sealing, err := s.sealing(ctx)
	if err != nil {
		return nil, err
	}
	if m.Run, err = s.startRun(ctx, command); err != nil {
		return nil, err
	}
	slots := map[string]int{}
	for name := range s.sites {
		slots[name] = s.slots(name)
	}
	engine := run.Engine{
		Run: m.Run, Ledger: s.Ledger, Sites: s.sites, Slots: slots, Reserved: s.reserved,
		Sealing: sealing, Random: rand.Reader, Cooling: s.cooling(),
		TaskLimit:    cmp.Or(s.Setup.Limits.Task, 30*time.Minute),
		ConfirmLimit: cmp.Or(s.Setup.Limits.Confirm, 10*time.Minute),
		StopAfter:    o.StopAfter, Watch: o.Watch, Boundary: o.Boundary,
	}
	m.Results = do(&engine, ctx, stop, todo)
	outcome := incomplete(m, stop)
	word := "done"
	if outcome != nil {
		word = outcome.Error()
	}
	if err := s.Ledger.EndRun(context.WithoutCancel(ctx), m.Run, word); err != nil {
		return m, err
	}
	return m, outcome
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

// startRun writes down that a run begins, and returns its id.
func (s *Session) startRun(ctx context.Context, command string) (string, error) {
	r := ledger.Run{ID: newRunID(), Command: command, Sheet: s.sheetDigest, Setup: s.setupDigest}
	r.User, r.Host = operator()
	return r.ID, s.Ledger.StartRun(ctx, r)
}

func incomplete(m *Minted, stop context.Context) error {
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
