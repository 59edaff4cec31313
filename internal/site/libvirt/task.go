package libvirt

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/survey"
	"mintbatch/internal/site"
)

// tasks are the acts that this process is at.
type tasks struct {
	mu  sync.Mutex
	all map[string]*task
}

type task struct {
	mu    sync.Mutex
	info  survey.Task
	ended chan struct{} // closed once the act has
}

// soon is how long a caller waits for an act before it is given a task, and
// every time that it asks how that goes.
const soon = 700 * time.Millisecond

// start begins an act. One that ends soon is settled at once, so that its
// error keeps its kind.
func (t *tasks) start(ctx context.Context, do func(ctx context.Context, share func(float64)) error) (survey.Task, error) {
	one := &task{info: survey.Task{ID: uuid.NewString(), State: survey.Running}, ended: make(chan struct{})}
	done := make(chan error, 1)
	// The act outlives the caller's limit for one answer, not the program.
	whole := context.WithoutCancel(ctx)
	if deadline, ok := ctx.Deadline(); ok {
		var cancel context.CancelFunc
		whole, cancel = context.WithDeadline(whole, deadline)
		context.AfterFunc(whole, cancel)
	}
	go func() {
		err := do(whole, func(share float64) {
			one.mu.Lock()
			one.info.Share = share
			one.mu.Unlock()
		})
		one.mu.Lock()
		one.info.State = survey.Done
		if err != nil {
			one.info.State, one.info.Error = survey.Failed, err.Error()
			switch {
			case errors.Is(err, site.ErrDeaf):
				one.info.Reason = survey.Deaf
			case errors.Is(err, site.ErrRefused):
				one.info.Reason = survey.Refused
			}
		}
		one.mu.Unlock()
		close(one.ended)
		done <- err
	}()
	timer := time.NewTimer(soon)
	defer timer.Stop()
	select {
	case err := <-done:
		if err != nil {
			return survey.Task{}, err
		}
		return survey.Task{State: survey.Done}, nil
	case <-timer.C:
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.all == nil {
		t.all = map[string]*task{}
	}
	t.all[one.info.ID] = one
	return one.look(), nil
}

func (t *task) look() survey.Task {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.info
}

// look tells how a task goes, after a while, or as soon as it has come to its
// end.
func (t *tasks) look(ctx context.Context, id string) (survey.Task, error) {
	t.mu.Lock()
	one, ok := t.all[id]
	t.mu.Unlock()
	if !ok {
		return survey.Task{}, fmt.Errorf("%w: no task %s", site.ErrNotFound, id)
	}
	select {
	case <-one.ended:
	case <-ctx.Done():
	case <-time.After(soon):
	}
	info := one.look()
	if info.Settled() {
		t.mu.Lock()
		delete(t.all, id)
		t.mu.Unlock()
	}
	return info, nil
}
