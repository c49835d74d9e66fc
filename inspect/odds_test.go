package inspect

import (
	"testing"
	"time"

	"timegate/core/calendar"
)

// TestOdds: how often a machine was away at a time is told by weekdays, where enough of
// them are known, else by days; a machine that is woken does not sleep then.
func TestOdds(t *testing.T) {
	at := func(day, hour int) calendar.Instant {
		return calendar.InstantOf(time.Date(2026, time.November, day, hour, 0, 0, 0, time.UTC))
	}
	until := at(27, 0) // a Friday
	nights := Absence{Since: at(1, 0), Until: until}
	for day := 1; day < 27; day++ { // asleep each night, off on Fridays
		nights.Spans = append(nights.Spans, Away{From: at(day, 1), To: at(day, 6), Off: day%7 == 6})
	}
	short := Absence{Since: at(20, 0), Until: until, Spans: nights.Spans[19:]}
	for _, tt := range []struct {
		name  string
		of    *Absence
		at    calendar.Instant
		woken bool
		want  string
		usual bool
	}{
		{"by day", &nights, at(27, 9), false, "0 of the last 3 Fridays", false},
		{"by night", &nights, at(27, 3), false, "3 of the last 3 Fridays", true},
		{"woken from sleep", &nights, at(28, 3), true, "0 of the last 3 Saturdays", false},
		{"off is not woken", &nights, at(27, 3), true, "3 of the last 3 Fridays", true},
		{"few weeks, so by days", &short, at(27, 3), false, "7 of the last 7 days", true},
		{"nothing known", &Absence{Since: until, Until: until}, at(27, 3), false, "0 of the last 0 days", false},
	} {
		if got := tt.of.Odds(tt.at, calendar.UTC, tt.woken); got.Text() != tt.want || got.Usual() != tt.usual {
			t.Errorf("%s: %s, usual %v; want %s, %v", tt.name, got.Text(), got.Usual(), tt.want, tt.usual)
		}
	}
}
