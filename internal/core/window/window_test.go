package window

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOpen(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	moment := func(text string) time.Time {
		at, err := time.ParseInLocation("2006-01-02 15:04", text, oslo)
		require.NoError(t, err)
		return at
	}
	for _, c := range []struct {
		window, now string
		open        bool
		until       string
	}{
		{"16:00-18:00", "2026-11-27 15:59", false, "2026-11-27 16:00"},
		{"16:00-18:00", "2026-11-27 16:00", true, "2026-11-27 18:00"},
		{"16:00-18:00", "2026-11-27 17:59", true, "2026-11-27 18:00"},
		{"16:00-18:00", "2026-11-27 18:00", false, "2026-11-28 16:00"},
		{"16:00-18:00", "2026-12-31 20:00", false, "2027-01-01 16:00"},
		{"22:00-04:00", "2026-11-27 23:00", true, "2026-11-28 04:00"},
		{"22:00-04:00", "2026-11-28 03:59", true, "2026-11-28 04:00"},
		{"22:00-04:00", "2026-11-28 04:00", false, "2026-11-28 22:00"},
		{"01:00-04:00", "2026-10-25 00:30", false, "2026-10-25 01:00"}, // the night on which clocks go back
		{"0:00-23:59", "2026-11-27 23:59", false, "2026-11-28 00:00"},
	} {
		w, err := Parse(c.window)
		require.NoError(t, err)
		open, until := w.Open(moment(c.now))
		assert.Equal(t, c.open, open, "%s at %s", c.window, c.now)
		assert.Equal(t, moment(c.until), until, "%s at %s", c.window, c.now)
		again, err := Parse(w.String())
		require.NoError(t, err)
		assert.Equal(t, w, again)
	}
	for _, wrong := range []string{"", "16-18", "16:00", "16:00-16:00", "24:00-25:00", "16:00-18:00-20:00", "x-y"} {
		_, err := Parse(wrong)
		assert.ErrorIs(t, err, ErrWindow, wrong)
	}
}
