package gateway

import (
	"context"
	"errors"
	"net/http"
	"sync"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/site"
)

// A gateway that does not wait with its answers is asked about all open tasks and guests in
// one call. One that does not have that call either is asked about each.

// gatherFor is how long questions are gathered before they are sent together.
const gatherFor = 50 * time.Millisecond

const pollPath = "/poll"

// poll is one call about several tasks and machines, and its answer.
type poll struct {
	Tasks    []string    `json:"tasks"`
	Machines []uuid.UUID `json:"machines"`

	answer pollAnswer
	err    error
	done   chan struct{}
}

// pollAnswer is about those that the gateway can tell of.
type pollAnswer struct {
	Tasks    map[string]contract.Task   `json:"tasks"`
	Machines map[uuid.UUID]wholeMachine `json:"machines"`
}

// poller gathers questions.
type poller struct {
	mu        sync.Mutex
	gathering *poll // nil if there is none
}

// ask adds a question to those that are sent next, and returns what came of them all.
func (g *Gateway) ask(ctx context.Context, add func(*poll)) (pollAnswer, error) {
	g.poller.mu.Lock()
	p := g.poller.gathering
	if p == nil {
		p = &poll{Tasks: []string{}, Machines: []uuid.UUID{}, done: make(chan struct{})}
		g.poller.gathering = p
		time.AfterFunc(gatherFor, g.sendPoll)
	}
	add(p)
	g.poller.mu.Unlock()
	select {
	case <-p.done:
		return p.answer, p.err
	case <-ctx.Done():
		return pollAnswer{}, ctx.Err()
	}
}

// sendPoll sends the questions that were gathered. Each of those who ask may leave before
// it is answered.
func (g *Gateway) sendPoll() {
	g.poller.mu.Lock()
	p := g.poller.gathering
	g.poller.gathering = nil
	g.poller.mu.Unlock()
	defer close(p.done)
	p.err = g.call(context.Background(), http.MethodPost, pollPath, p, &p.answer)
	if p.err == nil && (p.answer.Tasks == nil || p.answer.Machines == nil) {
		p.err = errIncomplete(errors.New("it does not list tasks and machines"))
	}
}

// together reports whether a question is to be asked together with others.
func (g *Gateway) together() bool { return !g.waits.Load() && !g.noPoll.Load() }

// lacksPoll reports whether an error means that the gateway does not have the call.
func (g *Gateway) lacksPoll(err error) bool {
	lacks := errors.Is(err, site.ErrNotFound) || errors.Is(err, site.ErrRefused) // such as 405
	if lacks {
		g.noPoll.Store(true)
	}
	return lacks
}

// pollTask asks about a task together with others. It returns false if that told nothing of
// it: then it is asked about by itself.
func (g *Gateway) pollTask(ctx context.Context, id string) (t contract.Task, told bool, err error) {
	answer, err := g.ask(ctx, func(p *poll) { p.Tasks = append(p.Tasks, id) })
	if err != nil {
		return t, !g.lacksPoll(err), err
	}
	t, told = answer.Tasks[id]
	if told {
		t, err = requireFields(t, nil)
	}
	return t, told, err
}

// pollMachine is pollTask for a machine.
func (g *Gateway) pollMachine(ctx context.Context, id uuid.UUID) (m *contract.Machine, told bool, err error) {
	answer, err := g.ask(ctx, func(p *poll) { p.Machines = append(p.Machines, id) })
	if err != nil {
		return nil, !g.lacksPoll(err), err
	}
	w, told := answer.Machines[id]
	if told {
		m, err = w.of(id)
	}
	return m, told, err
}
