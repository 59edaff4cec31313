package site

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
)

// Tasks are the acts that this process is at, at a site that has no tasks of its own.
type Tasks struct {
	mu  sync.Mutex
	all map[string]*task
}

type task struct {
	mu    sync.Mutex
	info  contract.Task
	ended chan struct{} // closed once the act has
}

// syncWait is how long a caller waits for an act before it is given a task, and
// every time that it asks how that goes.
const syncWait = 700 * time.Millisecond

// Start begins an act. One that ends soon is settled at once, so that its
// error keeps its kind.
func (t *Tasks) Start(ctx context.Context, do func(ctx context.Context, share func(float64)) error) (contract.Task, error) {
	one := &task{info: contract.Task{ID: uuid.NewString(), State: contract.Running}, ended: make(chan struct{})}
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
		one.info.State = contract.Done
		if err != nil {
			Fail(&one.info, err)
		}
		one.mu.Unlock()
		close(one.ended)
		done <- err
	}()
	timer := time.NewTimer(syncWait)
	defer timer.Stop()
	select {
	case err := <-done:
		if err != nil {
			return contract.Task{}, err
		}
		return contract.Task{State: contract.Done}, nil
	case <-timer.C:
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.all == nil {
		t.all = map[string]*task{}
	}
	t.all[one.info.ID] = one
	return one.snapshot(), nil
}

func (t *task) snapshot() contract.Task {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.info
}

// Poll returns the state of a task, after a while, or as soon as it has come to its
// end.
func (t *Tasks) Poll(ctx context.Context, id string) (contract.Task, error) {
	t.mu.Lock()
	one, ok := t.all[id]
	t.mu.Unlock()
	if !ok {
		return contract.Task{}, fmt.Errorf("%w: no task %s", ErrNotFound, id)
	}
	select {
	case <-one.ended:
	case <-ctx.Done():
	case <-time.After(syncWait):
	}
	info := one.snapshot()
	if info.Settled() {
		t.mu.Lock()
		delete(t.all, id)
		t.mu.Unlock()
	}
	return info, nil
}
