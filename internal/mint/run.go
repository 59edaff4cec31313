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

	"mintbatch/internal/callhome"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/notice"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/wave"
	"mintbatch/internal/core/window"
	"mintbatch/internal/ledger"
	"mintbatch/internal/plan"
	"mintbatch/internal/run"
	"mintbatch/internal/runlog"
)

// Order says how to do something to machines.
type Order struct {
	Unstarted    bool           // make all, start none
	KeepHostKey  bool           // a machine that had an SSH host key keeps it
	ForceOff     bool           // power off guests that do not shut down
	Disks        contract.Disks // what becomes of those of machines that are retired
	LeaveEntries bool           // of machines that are retired, in the systems around them
	StopAfter    int
	Checkpoint   machine.Checkpoint // the one that is kept, restored or dropped
	NewName      string             // of a machine that is renamed
	Waves        wave.Sizes
	Window       window.Window // when changes may be begun that restart a machine
}

// Task is something that is to be done to machines.
type Task struct {
	Command string
	Works   []proof.Work
	// Refused are machines that are left alone: their names are taken, or they need a
	// remake or a restart that was not allowed.
	Refused []proof.Work
	Order   Order

	plan *plan.Plan           // nil for what is done whatever the sheet says
	done map[machine.Key]bool // machines that an earlier part of the task has made
	up   bool                 // machines without a plan are started, and not taken down
	also []machine.Key        // what is claimed besides the works
	do   func(*run.Engine, context.Context, context.Context, []proof.Work) []run.Result
}

// Doing is the task of something else that is to be done with what bears a key at a site, while nobody works on
// some other things.
func Doing(command string, works []proof.Work, also []machine.Key, do func(e *run.Engine, ctx, stop context.Context) []run.Result) Task {
	return Task{Command: command, Works: works, also: also, do: func(e *run.Engine, ctx, stop context.Context, _ []proof.Work) []run.Result { return do(e, ctx, stop) }}
}

// Run is a task that was started: its machines and addresses are its own.
type Run struct {
	ledger.Run
	desk *Desk
	task Task
}

// Outcome is what came of a run.
type Outcome struct {
	Run     string
	Results []run.Result
	// LogFailure is why the log of the run is not complete; nil if it is.
	LogFailure error
	// Waiting are notices that could not be sent; the outbox has them.
	Waiting []ledger.Outgoing
	// Kept are machines that were retired and whose disks are still there.
	Kept    []ledger.Kept
	Refused []proof.Work
}

// Incomplete says that some machines are not as asked.
type Incomplete struct {
	Failed  int
	Held    int  // by others, of which some may have failed
	Stopped bool // the run was told to stop
}

// Error counts the machines.
func (i *Incomplete) Error() string {
	switch {
	case i.Stopped:
		return "Interrupted. Run the same command again to continue."
	case i.Failed+i.Held == 1:
		return i.brief() + ". Fix the cause and run the same command again."
	}
	return i.brief() + ". Fix the causes and run the same command again."
}

// brief is the outcome of the run in the ledger.
func (i *Incomplete) brief() string {
	if i.Stopped {
		return "interrupted"
	}
	switch {
	case i.Held == 0:
		return finding.Plural(i.Failed, "machine") + " failed"
	case i.Failed == 0:
		return finding.Plural(i.Held, "machine") + " held back"
	}
	return fmt.Sprintf("%s failed, %d held back", finding.Plural(i.Failed, "machine"), i.Held)
}

// Claim starts a run of a task: its machines and addresses are kept for it, and others
// may plan again where several may work at once.
func (d *Desk) Claim(ctx context.Context, t Task) (*Run, error) {
	r := &Run{desk: d, task: t}
	if len(t.Works) == 0 {
		return r, nil
	}
	var reserved []ledger.Reservation
	claims := make([]ledger.Claim, len(t.Works))
	for i, w := range t.Works {
		claims[i] = ledger.Claim{Key: w.Key, Uses: t.plan.Uses(w)}
		if w.Word == proof.New || w.Word == proof.Remake || w.Changes("network") || w.Changes("lease") || w.Redo || w.Accepted {
			reserved = append(reserved, t.reserved()[w.Key]...)
		}
	}
	claims = append(claims, ledger.Claims(t.also...)...)
	err := d.backUpFirst(ctx)
	if err != nil {
		return nil, err
	}
	if r.Run, err = d.startRun(ctx, t.Command, claims, reserved); err != nil {
		return nil, err
	}
	return r, d.Ledger.Unlock()
}

func (t Task) reserved() map[machine.Key][]ledger.Reservation {
	if t.plan == nil {
		return nil
	}
	return t.plan.Reserved()
}

// callsHome reports whether guests do a first boot that are to report by themselves.
func (t Task) callsHome() bool {
	return slices.ContainsFunc(t.Works, func(w proof.Work) bool {
		first := w.Word == proof.New || w.Word == proof.Remake || t.plan == nil && t.Order.Checkpoint.Name != "" && w.Slim != nil && w.Machine().KeepsAt(true)
		return first && w.Spec().Guest.Confirm == machine.CallHome
	})
}

func (t Task) gates() *run.Gates {
	if t.plan == nil {
		return plan.GatesAmong(t.Works, t.up)
	}
	return t.plan.Gates(t.Works, t.done)
}

// startRun writes down that a run begins. An id that another run of the same second has
// drawn is drawn again.
func (d *Desk) startRun(ctx context.Context, command string, works []ledger.Claim, reserved []ledger.Reservation) (ledger.Run, error) {
	r := ledger.Run{Command: command, Sheet: d.SheetDigest, Setup: d.SetupDigest, Started: time.Now()}
	r.User, r.Host = Operator()
	for {
		r.ID = newRunID()
		if err := d.Ledger.StartRun(ctx, r, works, reserved); !errors.Is(err, ledger.ErrRunExists) {
			return r, err
		}
	}
}

// Release gives back what was claimed: nothing is to be done.
func (r *Run) Release(ctx context.Context) error {
	if r.ID == "" {
		return nil
	}
	return r.desk.Ledger.DropRun(context.WithoutCancel(ctx), r.ID)
}

// Sinks are what watches a run.
type Sinks struct {
	Watch    func(run.Event)
	Log      io.Writer          // gets a copy of the log of the run; nil for none
	Boundary func(run.Boundary) // for tests
}

// Do does the task. When stop ends, it brings steps in progress to their end and begins
// no others. What was refused counts as not done.
func (r *Run) Do(ctx, stop context.Context, to Sinks) (*Outcome, error) {
	t, d := r.task, r.desk
	o := &Outcome{Run: r.ID, Refused: t.Refused}
	if len(t.Works) == 0 {
		return o, o.Err(stop)
	}
	for _, w := range t.Works {
		if w.Site == "" { // it is about nothing at a site
			continue
		}
		if _, err := d.Sites.Site(w.Site); err != nil {
			return nil, errors.Join(err, r.Release(ctx))
		}
	}
	sealing := d.Vault.Sealing(ctx)
	if t.Order.KeepHostKey {
		sealing.PreviousHostKey = func(key machine.Key) (string, error) { return d.Vault.Unseal(ctx, key, run.SealedHostKey) }
	}
	log, err := runlog.Begin(d.Batch, r.Run, len(t.Works), to.Log)
	if err != nil {
		return nil, errors.Join(err, r.Release(ctx))
	}
	engine := run.Engine{
		Run: r.ID, Ledger: d.Ledger, Owner: d.Ledger.ID, Sites: d.Sites.Opened(), Limits: plan.Limits(d.Batch), Times: plan.Times(d.Batch), Reserved: t.reserved(),
		Sealing: sealing, Random: rand.Reader, Cooling: d.cooling(), Disks: t.Order.Disks,
		Gates: t.gates(), Window: t.Order.Window, Checkpoint: t.Order.Checkpoint, NewName: t.Order.NewName, StopAfter: t.Order.StopAfter, Unstarted: t.Order.Unstarted, ForceOff: t.Order.ForceOff, Watch: log.With(to.Watch), Boundary: to.Boundary,
	}
	entered, err := d.enteredOf(ctx, t.Works)
	if err != nil {
		return nil, errors.Join(err, log.End("not begun"), r.Release(ctx))
	}
	if engine.Requested, err = d.Ledger.Requested(ctx); err != nil {
		return nil, errors.Join(err, log.End("not begun"), r.Release(ctx))
	}
	engine.Around = run.Around{System: d.Around.System, Entries: d.Setup.Entries, Entered: entered, Leave: t.Order.LeaveEntries}
	if t.callsHome() {
		calls, err := callhome.Listen(d.Setup.CallHome.Listen.AddrPort, d.Ledger.TakeCall, d.log)
		if err != nil {
			return nil, errors.Join(err, log.End("not begun"), r.Release(ctx))
		}
		defer calls.Close()
		engine.Home = d.Setup.CallHome.Base()
	}
	var others *sender
	if len(d.Setup.Notices) > 0 {
		others = d.startSender(ctx)
		engine.Around.Tell, engine.Around.Told = d.tell(r.Run), others.told
	}
	if t.plan != nil {
		engine.Expect, engine.Least = t.plan.Expected, t.plan.Least
	}
	o.Results = inWaves(t, stop, func(works []proof.Work) []run.Result { return t.do(&engine, ctx, stop, works) })
	outcome := o.Err(stop)
	word := "done"
	var incomplete *Incomplete
	if errors.As(outcome, &incomplete) {
		word = incomplete.brief()
	}
	err = d.Ledger.EndRun(context.WithoutCancel(ctx), r.ID, word)
	if others != nil {
		ended := engine.Around.Tell(notice.Event{Kind: notice.RunEnded, Outcome: word, Machines: len(t.Works)})
		err = errors.Join(err, d.Ledger.PutOutbox(context.WithoutCancel(ctx), ended))
		left, failed := others.end(ctx)
		o.Waiting, err = left, errors.Join(err, failed)
	}
	o.LogFailure = log.End(word)
	if err != nil {
		return o, err
	}
	o.Kept, err = d.keptDisks(ctx, o, t.Order.Disks)
	return o, errors.Join(outcome, err)
}

// inWaves does one wave after the other, for as long as none has failures: more
// than there may be, if the order says how many.
func inWaves(t Task, stop context.Context, do func([]proof.Work) []run.Result) []run.Result {
	var all []run.Result
	failures := 0
	for _, some := range wave.Split(t.Order.Waves, t.Works) {
		if failures >= max(t.Order.StopAfter, 1) || stop.Err() != nil {
			for _, w := range some {
				all = append(all, run.Result{Work: w, Err: run.ErrStopped})
			}
			continue
		}
		for _, r := range do(some) {
			all = append(all, r)
			if r.Err != nil && !errors.Is(r.Err, run.ErrStopped) {
				failures++
			}
		}
	}
	return all
}

// usualCooling is how long an address cools down after its machine was retired,
// where the setup does not say.
const usualCooling = time.Hour

func (d *Desk) cooling() map[string]time.Duration {
	all := map[string]time.Duration{}
	for name, n := range d.Setup.Networks {
		all[name] = usualCooling
		if n.Cooling != nil {
			all[name] = *n.Cooling
		}
	}
	return all
}

// Merge returns the outcome with what came of trying some machines again in place of what
// had come of them before.
func (o *Outcome) Merge(later *Outcome) *Outcome {
	merged := &Outcome{Run: later.Run, Results: slices.Clone(o.Results), LogFailure: errors.Join(o.LogFailure, later.LogFailure),
		Kept: append(slices.Clone(o.Kept), later.Kept...), Refused: o.Refused, Waiting: later.Waiting}
	for _, again := range later.Results {
		i := slices.IndexFunc(merged.Results, func(r run.Result) bool { return r.Key == again.Key })
		merged.Results[i] = again
	}
	return merged
}

// Err is an *Incomplete unless every machine is as asked; stop reports whether
// the run was told to stop.
func (o *Outcome) Err(stop context.Context) error {
	i := &Incomplete{Failed: len(o.Refused), Stopped: stop.Err() != nil}
	for _, r := range o.Results {
		var held *run.HeldBack
		switch {
		case errors.As(r.Err, &held):
			i.Held++
		case r.Err != nil:
			i.Failed++
		}
	}
	if i.Failed+i.Held == 0 {
		return nil
	}
	return i
}

// newRunID is short enough to type and sorts by time.
func newRunID() string {
	var b [2]byte
	_, _ = rand.Read(b[:])
	return time.Now().UTC().Format("060102-150405-") + hex.EncodeToString(b[:])
}

// Operator returns who runs this program, and where.
func Operator() (name, host string) {
	name, host = "?", "?"
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	if h, err := os.Hostname(); err == nil {
		host = h
	}
	return name, host
}
