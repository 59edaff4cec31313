package mint

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMoments(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	now := time.Date(2026, 3, 30, 12, 0, 0, 0, oslo) // a day after the clocks were put forward
	for text, want := range map[string]string{
		"2026-03-29": "2026-03-29 00:00", "2026-03-29 18:30": "2026-03-29 18:30", "90m": "2026-03-30 10:30", "36h": "2026-03-28 23:00", "7d": "2026-03-23 12:00", "0m": "2026-03-30 12:00",
	} {
		at, err := Moment(text, now, false)
		require.NoError(t, err, text)
		assert.Equal(t, want, at.Format("2006-01-02 15:04"), text)
	}
	at, err := Moment("2026-03-29", now, true)
	require.NoError(t, err)
	assert.Equal(t, "2026-03-30 00:00", at.Format("2006-01-02 15:04"), "the day has 23 hours")
	for _, text := range []string{"", "yesterday", "-1h", "-3d", "3dd", "2026-13-01", "12:00"} {
		_, err := Moment(text, now, false)
		assert.Error(t, err, text)
	}
	day := Period{Since: now.AddDate(0, 0, -1), Until: now, User: "anna"}
	assert.True(t, day.Has(now.AddDate(0, 0, -1), "anna"))
	assert.False(t, day.Has(now, "anna"))
	assert.False(t, day.Has(now.Add(-time.Hour), "ben"))
}
