// Package window is a daily window of time.
package window

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// Window is a time of each day, such as 16:00-18:00, or over midnight, 22:00-04:00. The zero
// value is always open.
type Window struct{ from, to int } // minutes of the day

// ErrWindow is what every failure of Parse unwraps to.
var ErrWindow = errors.New("invalid window")

// Parse reads 16:00-18:00.
func Parse(s string) (Window, error) {
	from, to, _ := strings.Cut(strings.ReplaceAll(s, " ", ""), "-")
	a, errA := time.Parse("15:04", from)
	b, errB := time.Parse("15:04", to)
	w := Window{a.Hour()*60 + a.Minute(), b.Hour()*60 + b.Minute()}
	if errA != nil || errB != nil || w.from == w.to {
		return Window{}, fmt.Errorf("%w: %q is not two times of a day such as 16:00-18:00", ErrWindow, s)
	}
	return w, nil
}

// String writes the window as Parse reads it; nothing for one that is always open.
func (w Window) String() string {
	if w.IsZero() {
		return ""
	}
	return fmt.Sprintf("%02d:%02d-%02d:%02d", w.from/60, w.from%60, w.to/60, w.to%60)
}

// UnmarshalText reads what Parse reads.
func (w *Window) UnmarshalText(text []byte) (err error) {
	*w, err = Parse(string(text))
	return err
}

// Expects describes a window.
func (Window) Expects() string { return "a time of each day, such as 16:00-18:00" }

// IsZero reports whether the window is always open.
func (w Window) IsZero() bool { return w == Window{} }

// Open reports whether the window is open at a moment, by the clock of its time zone, and
// when that changes next.
func (w Window) Open(now time.Time) (open bool, until time.Time) {
	if w.IsZero() {
		return true, time.Time{}
	}
	at := func(day, minute int) time.Time {
		return time.Date(now.Year(), now.Month(), now.Day()+day, minute/60, minute%60, 0, 0, now.Location())
	}
	for day := -1; day <= 1; day++ {
		from, to := at(day, w.from), at(day, w.to)
		if w.to < w.from {
			to = at(day+1, w.to)
		}
		switch {
		case now.Before(from):
			return false, from
		case now.Before(to):
			return true, to
		}
	}
	return false, at(2, w.from)
}
