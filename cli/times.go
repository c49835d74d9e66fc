package cli

import (
	"fmt"
	"time"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// local formats a time with its weekday: "Fri 27 Nov 07:30", with the year
// where it is not this one and the seconds where there are any.
func (a *app) local(t time.Time) string {
	t = t.In(a.zone.Location())
	layout := "Mon 2 Jan "
	if t.Year() != a.now().In(a.zone.Location()).Year() {
		layout += "2006 "
	}
	layout += "15:04"
	if t.Second() != 0 {
		layout += ":05"
	}
	return t.Format(layout)
}

// localFar adds how far off a time is: "Fri 27 Nov 07:30 · in 4 h 12 min".
func (a *app) localFar(t time.Time) string {
	return a.local(t) + a.out.dot() + far(t.Sub(a.now()))
}

// far says how far off a time is, in at most two units.
func far(d time.Duration) string {
	switch {
	case d <= -time.Second:
		return short(-d) + " ago"
	case d < time.Second:
		return "now"
	}
	return "in " + short(d)
}

// short rounds a span to at most two units: "4 h 12 min".
func short(d time.Duration) string {
	const day = 24 * time.Hour
	switch {
	case d < time.Millisecond:
		return "<1 ms"
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return two(d, time.Minute, "min", time.Second, "s")
	case d < day:
		return two(d, time.Hour, "h", time.Minute, "min")
	case d < 60*day:
		return two(d, day, "d", time.Hour, "h")
	case d < 730*day:
		return fmt.Sprintf("%d days", d/day)
	}
	return fmt.Sprintf("%d years", d/(365*day+6*time.Hour))
}

func two(d, big time.Duration, bigName string, small time.Duration, smallName string) string {
	s := fmt.Sprintf("%d %s", d/big, bigName)
	if rest := d % big / small; rest > 0 {
		s += fmt.Sprintf(" %d %s", rest, smallName)
	}
	return s
}

// stamp is an instant in JSON, in the local zone; nil for none.
func (a *app) stamp(at calendar.Instant) *time.Time {
	if at == 0 {
		return nil
	}
	t := at.Time().In(a.zone.Location())
	return &t
}

// parseTime reads what is given to --from and --to: RFC 3339, or a date with
// an optional time in the given zone. last says that a date means its end.
func parseTime(s string, zone *calendar.Zone, last bool) (calendar.Instant, error) {
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return calendar.InstantOf(t), nil
	}
	for _, layout := range []string{time.DateOnly, "2006-01-02 15:04", "2006-01-02 15:04:05", "2006-01-02T15:04", "2006-01-02T15:04:05"} {
		t, err := time.Parse(layout, s)
		if err != nil {
			continue
		}
		day := calendar.DayOf(t.Year(), int(t.Month()), t.Day())
		if layout == time.DateOnly && last {
			next, _ := zone.Start(day + 1)
			return next - 1, nil
		}
		h, m, sec := t.Clock()
		at, _ := zone.Resolve(day, int64(h*3600+m*60+sec)*1000)
		return at, nil
	}
	return 0, usageError("%q is no time: write 2026-11-27, \"2026-11-27 07:30\" or 2026-11-27T07:30:00Z", s)
}

// parseSpan reads a span given as an option.
func parseSpan(option, s string) (time.Duration, error) {
	d, err := phrase.ParseSpan(s)
	if err != nil {
		return 0, usageError("--%s: %w", option, err)
	}
	return d, nil
}
