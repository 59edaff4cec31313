package mint

import (
	"fmt"
	"strings"
	"time"
)

// Period is a stretch of time, and perhaps one user's doings in it; the zero value is everything.
type Period struct {
	Since, Until time.Time // zero means that there is no bound; Until is not part of it
	User         string
}

// Has reports whether something that a user did at a time is in the period.
func (p Period) Has(at time.Time, user string) bool {
	return (p.Since.IsZero() || !at.Before(p.Since)) && (p.Until.IsZero() || at.Before(p.Until)) && (p.User == "" || p.User == user)
}

// Moment reads a day, a time of a day, or how long ago: 2026-11-23, "2026-11-23 18:00", 90m,
// 36h, 7d. Of a day it is the beginning, or if last is set its end.
func Moment(text string, now time.Time, last bool) (time.Time, error) {
	text = strings.TrimSpace(text)
	if day, err := time.ParseInLocation(time.DateOnly, text, now.Location()); err == nil {
		if last {
			day = day.AddDate(0, 0, 1)
		}
		return day, nil
	}
	for _, form := range []string{"2006-01-02 15:04", "2006-01-02 15:04:05", "2006-01-02T15:04:05", time.RFC3339} {
		if at, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return at, nil
		}
	}
	days := 0
	if n, err := fmt.Sscanf(text, "%dd", &days); err == nil && n == 1 && days >= 0 && text == fmt.Sprintf("%dd", days) {
		return now.AddDate(0, 0, -days), nil
	}
	if ago, err := time.ParseDuration(text); err == nil && ago >= 0 {
		return now.Add(-ago), nil
	}
	return time.Time{}, fmt.Errorf("%q is no moment; write 2026-11-23, \"2026-11-23 18:00\", or how long ago: 90m, 36h, 7d", text)
}
