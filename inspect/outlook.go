package inspect

import (
	"time"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// Night is when a start is counted as one at night: from 22:00 to 06:00.
const (
	NightFrom = 22
	NightTo   = 6
)

// Outlook tells where the starts of an opening will fall.
type Outlook struct {
	Days    int // how many days were looked at, from the first whole one
	Starts  int64
	AtNight int64
	Weekend int64
	HasEnds bool // the opening has a window
	First   calendar.Instant
	Last    calendar.Instant // the last start of the window that begins with First
	Moved   []calendar.Instant
	Missing []calendar.Day // days that the zone leaves out
}

// Look counts the starts of the days after an instant, and finds those that
// a clock change moves within a year.
func Look(plan *phrase.Plan, after calendar.Instant, days int) Outlook {
	o := Outlook{Days: days}
	if plan.Rule == nil {
		return o
	}
	zone := plan.Zone
	today, _ := zone.Local(after)
	for d := today + 1; d <= today+calendar.Day(days); d++ {
		hour := func(h int) calendar.Instant {
			at, _ := zone.Resolve(d, int64(h)*3600_000)
			return at
		}
		n := plan.Count(hour(0), hour(24)-1)
		o.Starts += n
		o.AtNight += plan.Count(hour(0), hour(NightTo)-1) + plan.Count(hour(NightFrom), hour(24)-1)
		if d.Weekday() >= 5 {
			o.Weekend += n
		}
	}
	o.First, o.Last, o.HasEnds = plan.Rule.WindowEnds(after)
	for range 3 {
		// The usual window, not one of a clock change.
		if !o.HasEnds || plan.Rule.Explain(o.First) == "" && plan.Rule.Explain(o.Last) == "" {
			break
		}
		o.First, o.Last, o.HasEnds = plan.Rule.WindowEnds(o.First)
	}
	const year = 366 * 24 * time.Hour
	o.Moved, o.Missing = Changed(plan, after, after.Add(year)), plan.Rule.Dropped(after, after.Add(year))
	return o
}

// Changed lists the dues within [from, to] to which a clock change has done
// something. It looks near the changes alone.
func Changed(plan *phrase.Plan, from, to calendar.Instant) []calendar.Instant {
	var out []calendar.Instant
	for _, change := range plan.Zone.Changes(from, to) {
		lo, hi := max(from, change.Add(-26*time.Hour)), min(to, change.Add(26*time.Hour))
		for at, _, ok := plan.Next(lo - 1); ok && at <= hi; at, _, ok = plan.Next(at) {
			if plan.Explain(at) != "" {
				out = append(out, at)
			}
		}
	}
	return out
}
