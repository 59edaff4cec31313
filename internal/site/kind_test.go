package site

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"mintbatch/internal/core/contract"
)

// An error is of one kind, wherever it comes about: at once, or at the end of a task.
// It says so once.
func TestAnErrorKeepsItsKind(t *testing.T) {
	for _, kind := range []error{ErrFull, ErrNoShutdown, ErrNotFound, ErrUnreachable, ErrRefused} {
		var task contract.Task
		Fail(&task, fmt.Errorf("%w: store fast", kind))
		came := Failure(task)
		for _, other := range []error{ErrFull, ErrNoShutdown, ErrNotFound, ErrUnreachable, ErrRefused} {
			assert.Equal(t, errors.Is(kind, other), errors.Is(came, other), "%s and %s", kind, other)
		}
		assert.Equal(t, kind.Error()+": store fast", came.Error())
		assert.Equal(t, 1, strings.Count(came.Error(), kind.Error()))
	}
	var task contract.Task
	Fail(&task, errors.New("it broke"))
	assert.EqualError(t, Failure(task), "the task at the site failed: it broke")
}
