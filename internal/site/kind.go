package site

import (
	"errors"
	"fmt"
	"strings"

	"mintbatch/internal/core/contract"
)

// full is a refusal for want of room.
type full struct{}

// Error says what every refusal does.
func (full) Error() string { return ErrRefused.Error() }

// Is makes it a refusal.
func (full) Is(target error) bool { return target == ErrRefused }

// ErrFull means that the site refused because a store has no room; it is ErrRefused,
// too.
var ErrFull error = full{}

// kinds are what a failure is of, in a task and as an error, the closer ones first.
var kinds = []struct {
	reason contract.Reason
	err    error
}{{contract.Full, ErrFull}, {contract.NoShutdown, ErrNoShutdown}, {contract.NotFound, ErrNotFound}, {contract.Unreachable, ErrUnreachable}, {contract.Refused, ErrRefused}}

// Fail notes in a task why it has failed: of which kind, and the words without it.
func Fail(t *contract.Task, err error) {
	t.State, t.Error = contract.Failed, err.Error()
	for _, k := range kinds {
		if errors.Is(err, k.err) {
			t.Reason, t.Error = k.reason, strings.TrimPrefix(err.Error(), k.err.Error()+": ")
			return
		}
	}
}

// Failure is why a task has failed, of the kind of which it was where it failed.
func Failure(t contract.Task) error {
	for _, k := range kinds {
		if t.Reason == k.reason {
			return fmt.Errorf("%w: %s", k.err, t.Error)
		}
	}
	return fmt.Errorf("the task at the site failed: %s", t.Error)
}
