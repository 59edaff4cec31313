package event

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const log = `{"schema":"mintbatch/events/1","run":"r1","command":"mint","user":"ann","host":"hv","started":"2026-11-23T18:00:00Z","machines":2}
{"at":"2026-11-23T18:00:01Z","site":"quay","name":"a","step":"clone","state":"begun"}
{"at":"2026-11-23T18:00:02Z","site":"quay","name":"b","step":"clone","state":"begun"}
{"at":"2026-11-23T18:00:03Z","site":"quay","name":"a","step":"clone","state":"progress","share":0.5}
{"at":"2026-11-23T18:00:05Z","site":"quay","name":"a","step":"clone","state":"done"}
{"at":"2026-11-23T18:00:05Z","site":"quay","name":"a","step":"clone","state":"waiting"}
{"at":"2026-11-23T18:00:07Z","site":"quay","name":"b","step":"clone","state":"failed","error":"full"}
{"at":"2026-11-23T18:00:08Z","site":"quay","name":"a","step":"start","state":"begun"}
{"at":"2026-11-23T18:00:09.5Z","site":"quay","name":"a","step":"start","state":"done"}
{"at":"2026-11-23T18:00:09.5Z","site":"quay","name":"a","state":"finished"}
`

// What a log contains of each machine, also where the run was killed in the middle of a line.
func TestRead(t *testing.T) {
	l, err := Read(strings.NewReader(log + `{"at":"2026-11-23T18:00:10Z","state":"ended","outcome":"one failed"}`))
	require.NoError(t, err)
	assert.Equal(t, "r1 one failed 10s", l.Run+" "+l.Outcome+" "+l.Ended.Sub(l.Started).String())
	a, b := l.Courses[0], l.Courses[1]
	assert.Equal(t, "finished failed full", a.Result+" "+b.Result+" "+b.Error)
	assert.Equal(t, []time.Duration{4 * time.Second, 1500 * time.Millisecond, 3 * time.Second, 5 * time.Second}, []time.Duration{a.Took("clone"), a.Took("start"), a.Waited, b.Took("clone")})

	killed, err := Read(strings.NewReader(log[:strings.Index(log, `{"at":"2026-11-23T18:00:05Z"`)+20]))
	require.NoError(t, err)
	assert.Empty(t, killed.Outcome)
	assert.Equal(t, "under way", killed.Courses[0].Result)
	assert.Equal(t, 2*time.Second, killed.Courses[0].Took("clone"), "up to the last word")

	_, err = Read(strings.NewReader(`{"schema":"mintbatch/mint/1"}`))
	assert.ErrorIs(t, err, ErrLog)
}

// Steps that are done at the same time end each at its own time.
func TestStepsSideBySide(t *testing.T) {
	line := func(second, step, state string) string {
		return `{"at":"2026-11-23T18:00:` + second + `Z","site":"quay","name":"a","step":"` + step + `","state":"` + state + `"}` + "\n"
	}
	head, _, _ := strings.Cut(log, "\n")
	l, err := Read(strings.NewReader(head + "\n" + line("01", "seed", "begun") + line("02", "wire", "begun") + line("03", "seed", "done") + line("05", "wire", "done") +
		line("06", "start", "begun") + line("07", "start", "done") + line("30", "", "finished")))
	require.NoError(t, err)
	a := l.Courses[0]
	assert.Equal(t, []time.Duration{2 * time.Second, 3 * time.Second, time.Second, time.Second}, []time.Duration{a.Took("seed"), a.Took("wire"), a.Took("start"), a.Waited})
}

func FuzzRead(f *testing.F) {
	f.Add(log)
	f.Add(strings.Replace(log, "18:00:05Z", "12:00:05Z", 2)) // the clock was set back
	f.Fuzz(func(t *testing.T, text string) {
		l, err := Read(strings.NewReader(text))
		if err != nil {
			return
		}
		for _, c := range l.Courses {
			assert.GreaterOrEqual(t, c.Waited, time.Duration(0))
			for _, s := range c.Spans {
				assert.False(t, s.To.Before(s.From) || s.Seconds < 0, "%v", s)
			}
		}
	})
}
