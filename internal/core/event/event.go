// Package event is the log of a run: what happened to each machine, and when.
package event

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// Schema is the version of the lines.
const Schema = "mintbatch/events/1"

// Head is the first line of a log.
type Head struct {
	Schema   string    `json:"schema"`
	Run      string    `json:"run"`
	Command  string    `json:"command"`
	User     string    `json:"user"`
	Host     string    `json:"host"`
	Started  time.Time `json:"started"`
	Machines int       `json:"machines"`
}

// Line is any other line: what became of a step, of a machine (without a step)
// or, as the last, of the run (without a machine).
type Line struct {
	At time.Time `json:"at"`
	machine.Key
	Step    string  `json:"step,omitempty"`
	State   string  `json:"state"` // begun, progress, done, skipped, failed, removed, waiting, stage, finished, held back, stopped; of a run: ended
	Share   float64 `json:"share,omitempty"`
	Error   string  `json:"error,omitempty"`
	Earlier string  `json:"earlier,omitempty"` // the run that had begun the step before
	Outcome string  `json:"outcome,omitempty"`
	// Stage is of a guest, in the state `stage`.
	Stage *contract.StageReport `json:"stage,omitempty"`
}

// Span is a step of a machine as it took place.
type Span struct {
	Step     string    `json:"step"`
	From, To time.Time `json:"-"`
	Seconds  float64   `json:"seconds"`
}

// Course is what became of a machine in a run.
type Course struct {
	machine.Key
	Result string                 `json:"result"` // finished, failed, held back, stopped, or under way
	Error  string                 `json:"error,omitempty"`
	Spans  []Span                 `json:"steps"`
	Stages []contract.StageReport `json:"stages,omitempty"` // of its guest
	Ended  time.Time              `json:"-"`
	Waited time.Duration          `json:"-"` // between its steps
}

// Log is a run as its lines tell it.
type Log struct {
	Head
	Courses []Course // in the order in which they began
	Ended   time.Time
	Outcome string // empty if the run was killed, or is under way
}

// ErrLog means that what is read is not the log of a run.
var ErrLog = errors.New("not the log of a run")

// Read reads a log. A last line that was cut short is passed over.
func Read(from io.Reader) (*Log, error) {
	lines := bufio.NewScanner(from)
	lines.Buffer(nil, 4<<20)
	l := &Log{}
	if !lines.Scan() || json.Unmarshal(lines.Bytes(), &l.Head) != nil || l.Schema != Schema {
		return nil, fmt.Errorf("%w: its first line is not {\"schema\": %q, ...}", ErrLog, Schema)
	}
	at := map[machine.Key]int{}
	l.Ended = l.Started
	for lines.Scan() {
		var one Line
		if json.Unmarshal(lines.Bytes(), &one) != nil {
			continue
		}
		if one.At.After(l.Ended) {
			l.Ended = one.At
		}
		if one.Name == "" {
			l.Outcome = one.Outcome
			continue
		}
		i, known := at[one.Key]
		if !known {
			i = len(l.Courses)
			at[one.Key] = i
			l.Courses = append(l.Courses, Course{Key: one.Key, Result: "under way"})
		}
		l.Courses[i].take(one)
	}
	for i := range l.Courses {
		l.Courses[i].close(l.Ended)
	}
	return l, lines.Err()
}

// take takes a line of a machine. Steps may be done at the same time.
func (c *Course) take(one Line) {
	c.Ended = one.At
	switch one.State {
	case "stage":
		if one.Stage != nil {
			c.takeStage(*one.Stage)
		}
	case "begun":
		if idle, since := c.idle(); idle {
			c.Waited += max(0, one.At.Sub(since))
		}
		c.Spans = append(c.Spans, Span{Step: one.Step, From: one.At})
	case "done", "failed", "held back", "stopped", "finished":
		for i := range c.Spans {
			if c.Spans[i].To.IsZero() && (one.Step == "" || one.Step == c.Spans[i].Step || one.State != "done") {
				c.Spans[i].end(one.At)
			}
		}
		if one.State != "done" {
			c.Result, c.Error = one.State, one.Error
		}
	}
}

func (c *Course) takeStage(s contract.StageReport) {
	r := contract.Report{Stages: c.Stages}
	r.TakeStage(s)
	c.Stages = r.Stages
}

// idle reports whether the machine has done something and does nothing now, and since when.
func (c *Course) idle() (idle bool, since time.Time) {
	for _, s := range c.Spans {
		if s.To.IsZero() {
			return false, since
		}
		if s.To.After(since) {
			since = s.To
		}
	}
	return len(c.Spans) > 0, since
}

// end ends a span, which takes no time if the clock was set back meanwhile.
func (s *Span) end(at time.Time) {
	s.To = at
	if at.Before(s.From) {
		s.To = s.From
	}
}

// close ends what has no end.
func (c *Course) close(at time.Time) {
	c.Spans = slices.DeleteFunc(c.Spans, func(s Span) bool { return s.From.After(at) })
	for i := range c.Spans {
		if c.Spans[i].To.IsZero() {
			c.Spans[i].end(at)
		}
		c.Spans[i].Seconds = c.Spans[i].To.Sub(c.Spans[i].From).Round(time.Millisecond).Seconds()
	}
}

// Took is how long a step took, all its tries together.
func (c Course) Took(step string) time.Duration {
	var all time.Duration
	for _, s := range c.Spans {
		if s.Step == step {
			all += s.To.Sub(s.From)
		}
	}
	return all
}
