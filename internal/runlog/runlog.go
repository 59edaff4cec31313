// Package runlog writes and reads the logs of runs.
package runlog

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"mintbatch/internal/core/event"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/pattern"
	"mintbatch/internal/input"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
)

// usualDays is for how long the logs of runs are kept.
const usualDays = 90

// Recorder writes the log of a run, to its file and to whoever wants it too.
type Recorder struct {
	mu      sync.Mutex
	file    *os.File
	out     *bufio.Writer
	also    io.Writer
	shares  map[machine.Key]float64 // that were reported last
	failure error
}

// Begin begins the log of a run. Logs that are older than the setup says are deleted.
func Begin(b *input.Batch, r ledger.Run, machines int, also io.Writer) (*Recorder, error) {
	dir := b.LogDir()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("cannot write the log of the run: %w; name another folder under logs: in the setup", err)
	}
	rotate(b, dir)
	f, err := os.OpenFile(filepath.Join(dir, r.ID+".jsonl"), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("cannot write the log of the run: %w; name another folder under logs: in the setup", err)
	}
	rec := &Recorder{file: f, out: bufio.NewWriter(f), also: also, shares: map[machine.Key]float64{}}
	rec.write(event.Head{Schema: event.Schema, Run: r.ID, Command: r.Command, User: r.User, Host: r.Host, Started: r.Started.UTC(), Machines: machines})
	return rec, nil
}

// logName is how the log of a run is named: the folder may hold other files.
var logName = pattern.Lazy(`^[0-9]{6}-[0-9]{6}-[0-9a-f]{4}\.jsonl$`)

// rotate removes the logs that are too old. What cannot go stays.
func rotate(b *input.Batch, dir string) {
	oldest := time.Now().AddDate(0, 0, -cmp.Or(b.Setup.Events.Days, usualDays))
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && info.Mode().IsRegular() && logName().MatchString(e.Name()) && info.ModTime().Before(oldest) {
			_ = os.Remove(filepath.Join(dir, e.Name()))
		}
	}
}

func (r *Recorder) write(v any) {
	line, err := json.Marshal(v)
	if err == nil {
		_, err = r.out.Write(append(line, '\n'))
	}
	if err == nil {
		err = r.out.Flush() // so that it can be followed
	}
	if r.also != nil {
		_, _ = r.also.Write(append(line, '\n'))
	}
	if r.failure == nil {
		r.failure = err
	}
}

// watch takes an event of the engine. Of the progress of a task only every
// tenth part is reported.
func (r *Recorder) watch(e run.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e.State == run.Progress {
		if e.Share < r.shares[e.Key]+0.1 {
			return
		}
		r.shares[e.Key] = e.Share
	} else if e.State == run.Begun {
		delete(r.shares, e.Key)
	}
	line := event.Line{At: time.Now().UTC(), Key: e.Key, Step: string(e.Step), State: string(e.State), Share: e.Share, Earlier: e.Earlier, Stage: e.Stage}
	if e.Err != nil {
		line.Error = e.Err.Error()
	}
	r.write(line)
}

// With watches and lets another watch, too.
func (r *Recorder) With(other func(run.Event)) func(run.Event) {
	if other == nil {
		return r.watch
	}
	return func(e run.Event) {
		r.watch(e)
		other(e)
	}
}

// End closes the log. That not all of it could be written is no reason for a run to
// fail, and reported.
func (r *Recorder) End(outcome string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.write(event.Line{At: time.Now().UTC(), State: "ended", Outcome: outcome})
	return errors.Join(r.failure, r.file.Close())
}

// ErrNoRun means that there is no log of a run.
var ErrNoRun = errors.New("no such run")

// Read reads the log of a run; an empty id means the last one.
func Read(ctx context.Context, b *input.Batch, l *ledger.Ledger, id string) (*event.Log, error) {
	runs, err := l.Runs(ctx)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, r := range runs {
		ids = append(ids, r.ID)
	}
	if id == "" && len(ids) > 0 {
		id = ids[len(ids)-1]
	}
	if !slices.Contains(ids, id) {
		return nil, fmt.Errorf("%w: %q (%s)", ErrNoRun, id, finding.DidYouMean(id, ids))
	}
	f, err := os.Open(filepath.Join(b.LogDir(), id+".jsonl"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: the log of %s is not in %s: logs are stored on the computer of the run, for %d days", ErrNoRun, id, b.LogDir(), cmp.Or(b.Setup.Events.Days, usualDays))
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return event.Read(f)
}
