package mint

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"mintbatch/internal/announce"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/notice"
	"mintbatch/internal/ledger"
)

// mostTold is about how many machines others are told at the same time.
const mostTold = 8

// tell makes the notices of an event of a run.
func (d *Desk) tell(r ledger.Run) func(notice.Event) []ledger.Outgoing {
	return func(e notice.Event) []ledger.Outgoing {
		e.Run = notice.Run{ID: r.ID, Command: r.Command, User: r.User, Host: r.Host}
		preset := ""
		if e.Machine != nil {
			preset = e.Machine.Preset
		}
		var all []ledger.Outgoing
		for _, name := range d.Setup.Told(e.Kind, preset) {
			all = append(all, ledger.Outgoing{Notice: name, Data: e})
		}
		return all
	}
}

// SendOutbox sends what is waiting and chosen, each once, and returns what could not be sent. What is about one machine is sent in
// order: nothing of a later event before all of an earlier one, and no notice before those that it comes after.
func (d *Desk) SendOutbox(ctx context.Context, chosen func(ledger.Outgoing) bool) (sent int, left []ledger.Outgoing, err error) {
	all, err := d.Ledger.Outbox(ctx)
	if err != nil {
		return 0, nil, err
	}
	var order []machine.Key
	of := map[machine.Key][]ledger.Outgoing{}
	for _, o := range all {
		if key := o.Key(); len(of[key]) == 0 {
			order = append(order, key)
		}
		of[o.Key()] = append(of[o.Key()], o)
	}
	var mu sync.Mutex
	silent := &silent{of: map[string]bool{}}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(mostTold)
	for _, key := range order {
		group.Go(func() error {
			n, rest, err := d.sendOne(ctx, of[key], chosen, silent)
			mu.Lock()
			defer mu.Unlock()
			sent, left = sent+n, append(left, rest...)
			return err
		})
	}
	err = group.Wait()
	slices.SortFunc(left, func(a, b ledger.Outgoing) int { return a.At.Compare(b.At) })
	return sent, left, err
}

// silent are the notices whose receivers gave no answer: they are not asked again in the same go.
type silent struct {
	mu sync.Mutex
	of map[string]bool
}

func (s *silent) is(name string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.of[name]
}

func (s *silent) add(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.of[name] = true
}

// sendOne sends what is waiting about one machine.
func (d *Desk) sendOne(ctx context.Context, all []ledger.Outgoing, chosen func(ledger.Outgoing) bool, silent *silent) (sent int, left []ledger.Outgoing, err error) {
	for i, o := range all {
		if err := ctx.Err(); err != nil {
			return sent, left, err
		}
		waits := slices.ContainsFunc(left, func(before ledger.Outgoing) bool {
			sameEvent := before.Data.Kind == o.Data.Kind && before.Data.Run.ID == o.Data.Run.ID
			return !sameEvent || slices.Contains(d.Setup.Notices[o.Notice].After, before.Notice)
		})
		if waits || silent.is(o.Notice) || !chosen(o) {
			left = append(left, o)
			continue
		}
		if lacks := d.Setup.Notices[o.Notice].Lacks(o.Data.Taken); lacks != "" {
			if err := d.Ledger.NothingToTell(context.WithoutCancel(ctx), o, lacks); err != nil {
				return sent, left, err
			}
			continue
		}
		taken, failed := d.send(ctx, o)
		if failed == nil {
			failed = d.Ledger.Sent(context.WithoutCancel(ctx), o, taken)
			if failed != nil {
				return sent, left, failed
			}
			sent++
			o.Learn(all[i+1:], taken)
			continue
		}
		if ctx.Err() != nil {
			return sent, left, ctx.Err()
		}
		if errors.Is(failed, announce.ErrSilent) {
			silent.add(o.Notice)
		}
		o.Tries, o.Error = o.Tries+1, failed.Error()
		left = append(left, o)
		if err := d.Ledger.NotSent(context.WithoutCancel(ctx), o, failed); err != nil {
			return sent, left, err
		}
	}
	return sent, left, nil
}

// send sends one notice.
func (d *Desk) send(ctx context.Context, o ledger.Outgoing) (map[string]string, error) {
	r, take, err := d.Around.Receiver(o.Notice)
	if err != nil {
		return nil, err
	}
	answer, err := r.Tell(ctx, notice.Wrap(o.Data, o.ID, d.Ledger.ID.String(), o.At))
	if err != nil {
		return nil, err
	}
	return notice.Take(answer, take)
}

// Chosen are the notices of the outbox that are meant by some words: the beginnings of their ids, names of notices, or machines. No
// word means all.
func Chosen(all []ledger.Outgoing, words []string) (func(ledger.Outgoing) bool, error) {
	is := func(o ledger.Outgoing, word string) bool {
		return len(word) >= 4 && strings.HasPrefix(o.ID, word) || o.Notice == word || o.Data.Machine != nil && glob.Match([]string{word}, o.Data.Machine.Name)
	}
	for _, word := range words {
		if !slices.ContainsFunc(all, func(o ledger.Outgoing) bool { return is(o, word) }) {
			return nil, fmt.Errorf("nothing in the outbox is %q; `mintbatch outbox list` lists what is", word)
		}
	}
	return func(o ledger.Outgoing) bool {
		return len(words) == 0 || slices.ContainsFunc(words, func(word string) bool { return is(o, word) })
	}, nil
}

// sender sends notices while a run goes on.
type sender struct {
	desk  *Desk
	wake  chan struct{}
	ended chan struct{}
	tried map[string]bool
}

func (d *Desk) startSender(ctx context.Context) *sender {
	s := &sender{d, make(chan struct{}, 1), make(chan struct{}), map[string]bool{}}
	go func() {
		defer close(s.ended)
		for range s.wake {
			_, _, _ = s.pass(ctx) // what fails is waiting, and tried again at the end
		}
	}()
	return s
}

// told lets be sent what was kept.
func (s *sender) told() {
	select {
	case s.wake <- struct{}{}:
	default: // it is about to look
	}
}

// pass sends what this run has not tried yet.
func (s *sender) pass(ctx context.Context) (int, []ledger.Outgoing, error) {
	var mu sync.Mutex
	return s.desk.SendOutbox(ctx, func(o ledger.Outgoing) bool {
		mu.Lock()
		defer mu.Unlock()
		before := s.tried[o.ID]
		s.tried[o.ID] = true
		return !before
	})
}

// end tries everything once more and returns what is left waiting.
func (s *sender) end(ctx context.Context) ([]ledger.Outgoing, error) {
	close(s.wake)
	<-s.ended
	clear(s.tried)
	_, left, err := s.pass(ctx)
	if errors.Is(err, context.Canceled) {
		err = nil // it is waiting
	}
	return left, err
}
