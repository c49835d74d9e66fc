package cli

import (
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/workstation/zones"
)

// TestTimes reads times as people give them, on a Monday at half past nine.
func TestTimes(t *testing.T) {
	t.Parallel()
	zone, err := zones.Find("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 11, 30, 9, 30, 0, 0, zone.Location())
	for _, tt := range []struct{ text, back, ahead, end string }{ // RFC 3339 without the zone; "" where it is refused
		{"now", "2026-11-30T09:30:00", "2026-11-30T09:30:00", "2026-11-30T09:30:00"},
		{"today", "2026-11-30T00:00:00", "2026-11-30T00:00:00", "2026-11-30T23:59:59"},
		{"yesterday", "2026-11-29T00:00:00", "2026-11-29T00:00:00", "2026-11-29T23:59:59"},
		{"Tomorrow 07:15", "2026-12-01T07:15:00", "2026-12-01T07:15:00", "2026-12-01T07:15:00"},
		{"tue", "2026-11-24T00:00:00", "2026-12-01T00:00:00", "2026-12-01T23:59:59"},
		{"tuesday 06:00", "2026-11-24T06:00:00", "2026-12-01T06:00:00", "2026-12-01T06:00:00"},
		{"mon", "2026-11-30T00:00:00", "2026-11-30T00:00:00", "2026-11-30T23:59:59"},
		{"boot", "2026-11-30T08:30:00", "2026-11-30T08:30:00", "2026-11-30T08:30:00"},
		{"08:00", "2026-11-30T08:00:00", "2026-11-30T08:00:00", "2026-11-30T08:00:00"},
		{"-2h", "2026-11-30T07:30:00", "2026-11-30T07:30:00", "2026-11-30T07:30:00"},
		{"+1h30m", "2026-11-30T11:00:00", "2026-11-30T11:00:00", "2026-11-30T11:00:00"},
		{"2026-12-24", "2026-12-24T00:00:00", "2026-12-24T00:00:00", "2026-12-24T23:59:59"},
		{"2026-12-24 07:30", "2026-12-24T07:30:00", "2026-12-24T07:30:00", "2026-12-24T07:30:00"},
		{"2026-12-24T07:30:15", "2026-12-24T07:30:15", "2026-12-24T07:30:15", "2026-12-24T07:30:15"},
		{"2026-12-24T08:30:00+01:00", "2026-12-24T07:30:00", "2026-12-24T07:30:00", "2026-12-24T07:30:00"},
		{"noonish", "", "", ""}, {"25:00", "", "", ""}, {"2026-13-01", "", "", ""}, {"", "", "", ""}, {"-", "", "", ""},
	} {
		r := timeReader{zone: zone, now: now, booted: func() (calendar.Instant, error) { return calendar.InstantOf(now.Add(-time.Hour)), nil }}
		ahead := r
		ahead.ahead = true
		for name, got := range map[string]struct {
			read func(string) (calendar.Instant, error)
			want string
		}{"back": {r.read, tt.back}, "ahead": {ahead.read, tt.ahead}, "end": {ahead.end, tt.end}} {
			at, err := got.read(tt.text)
			text := ""
			if err == nil {
				text = at.Time().In(zone.Location()).Format("2006-01-02T15:04:05")
			}
			if text != got.want {
				t.Errorf("%q, %s: %s (%v), want %s", tt.text, name, text, err, got.want)
			}
		}
	}
}
