package mint

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
	"regexp"
	"slices"
	"sync"
	"time"

	"mintbatch/internal/core/event"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/ledger"
	"mintbatch/internal/run"
)

// usualDays is for how long the logs of runs are kept.
const usualDays = 90

// eventsDir is where the logs of runs are.
func (b *Batch) eventsDir() string { return b.path(cmp.Or(b.Setup.Events.Dir, "mintbatch.runs")) }

// recorder writes the log of a run, to its file and to whoever wants it too.
type recorder struct {
	mu      sync.Mutex
	file    *os.File
	out     *bufio.Writer
	also    io.Writer
	shares  map[machine.Key]float64 // that were told last
	failure error
}

// record begins the log of a run. Logs that are older than the setup wants go.
func (s *Session) record(r ledger.Run, machines int, also io.Writer) (*recorder, error) {
	dir := s.eventsDir()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the log of the run cannot be written: %w; name another folder under events: in the setup", err)
	}
	s.rotate(dir)
	f, err := os.OpenFile(filepath.Join(dir, r.ID+".jsonl"), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the log of the run cannot be written: %w; name another folder under events: in the setup", err)
	}
	rec := &recorder{file: f, out: bufio.NewWriter(f), also: also, shares: map[machine.Key]float64{}}
	rec.write(event.Head{Schema: event.Schema, Run: r.ID, Command: r.Command, User: r.User, Host: r.Host, Started: r.Started.UTC(), Machines: machines})
	return rec, nil
}

// logName is how the log of a run is named: the folder may hold other files.
var logName = regexp.MustCompile(`^[0-9]{6}-[0-9]{6}-[0-9a-f]{4}\.jsonl$`)

// rotate removes the logs that are too old. What cannot go stays.
func (s *Session) rotate(dir string) {
	oldest := time.Now().AddDate(0, 0, -cmp.Or(s.Setup.Events.Days, usualDays))
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && info.Mode().IsRegular() && logName.MatchString(e.Name()) && info.ModTime().Before(oldest) {
			_ = os.Remove(filepath.Join(dir, e.Name()))
		}
	}
}

func (r *recorder) write(v any) {
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
// tenth part is told.
func (r *recorder) watch(e run.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e.State == run.Goes {
		if e.Share < r.shares[e.Key]+0.1 {
			return
		}
		r.shares[e.Key] = e.Share
	} else if e.State == run.Begun {
		delete(r.shares, e.Key)
	}
	line := event.Line{At: time.Now().UTC(), Key: e.Key, Step: string(e.Step), State: string(e.State), Share: e.Share, Earlier: e.Earlier}
	if e.Err != nil {
		line.Error = e.Err.Error()
	}
	r.write(line)
}

// with watches and lets another watch, too.
func (r *recorder) with(other func(run.Event)) func(run.Event) {
	if other == nil {
		return r.watch
	}
	return func(e run.Event) {
		r.watch(e)
		other(e)
	}
}

// end closes the log. That not all of it could be written is no reason for a run to
// fail, and told.
func (r *recorder) end(outcome string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.write(event.Line{At: time.Now().UTC(), State: "ended", Outcome: outcome})
	return errors.Join(r.failure, r.file.Close())
}

// ErrNoRun means that there is no log of a run.
var ErrNoRun = errors.New("no such run")

// Run reads the log of a run; an empty id means the last one.
func (s *Session) Run(ctx context.Context, id string) (*event.Log, error) {
	runs, err := s.Ledger.Runs(ctx)
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
	f, err := os.Open(filepath.Join(s.eventsDir(), id+".jsonl"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: the log of %s is not in %s: it is kept where the run took place, for %d days", ErrNoRun, id, s.eventsDir(), cmp.Or(s.Setup.Events.Days, usualDays))
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return event.Read(f)
}
