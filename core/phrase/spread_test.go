package phrase

import (
	"testing"
	"time"

	"timegate/core/calendar"
)

// TestWatch: openings that differ only in when the event counts, and in how
// long files must be quiet, share what is watched.
func TestWatch(t *testing.T) {
	for _, tt := range []struct{ phrase, want string }{
		{"change in /srv/proofs, ~/in matching *.pdf quiet 5s from 06:00 to 12:00", "change in /srv/proofs, ~/in matching *.pdf"},
		{"first line \"low on glue\" in /var/log/press.log of the day", `line "low on glue" in /var/log/press.log`},
		{"low disk /home 2GB + 1m", "low disk /home 2GB"},
		{"device ttyUSB*, 3 times", "device ttyUSB*"},
		{"mount /media/vault", "mount /media/vault"},
		{"unlock", ""},
		{"idle 10m", ""},
	} {
		p, err := Parse(tt.phrase)
		if err != nil {
			t.Fatal(err)
		}
		if got := p.Event.Watch(); got != tt.want {
			t.Errorf("%q watches %q, want %q", tt.phrase, got, tt.want)
		}
	}
}

// TestSpread: a plan that is spread has every due that much later, whichever
// way it is asked for.
func TestSpread(t *testing.T) {
	for _, text := range []string{"at 08:15 on weekdays", "every 20m from 09:00 to 16:00", "at 23:59, then every 20s for 1m, ending 2026-11-30"} {
		p, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		plan, err := p.Compile(testEnv(t))
		if err != nil {
			t.Fatal(err)
		}
		const by = 7*time.Minute + 13*time.Second
		later, from := plan.Spread(by), calendar.InstantOf(time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC))
		to := from.Add(9 * 24 * time.Hour)
		var n int64
		for at, again, ok := plan.Next(from); ok && at <= to; at, again, ok = plan.Next(at) {
			n++
			if got, r, ok := later.Next(at.Add(by) - 1); got != at.Add(by) || r != again || !ok {
				t.Fatalf("%q: next is %v, want %v", text, got.Time(), at.Add(by).Time())
			}
			if got, r, ok := later.Prev(at.Add(by) + 1); got != at.Add(by) || r != again || !ok {
				t.Fatalf("%q: previous is %v, want %v", text, got.Time(), at.Add(by).Time())
			}
		}
		if got := later.Count((from + 1).Add(by), to.Add(by)); got != n || n == 0 {
			t.Errorf("%q: %d dues are counted, want %d", text, got, n)
		}
	}
}
