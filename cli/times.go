package cli

import (
	"strings"
	"time"

	"timegate/core/calendar"
	"timegate/core/phrase"
	"timegate/core/words"
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
func short(d time.Duration) string { return words.Duration(d) }

// stamp is an instant in JSON, in the local zone; nil for none.
func (a *app) stamp(at calendar.Instant) *time.Time {
	if at == 0 {
		return nil
	}
	t := at.Time().In(a.zone.Location())
	return &t
}

// whenForms are how a time can be given in an option.
const whenForms = `write now, boot, today, yesterday, tomorrow, tue, "tue 06:00", 08:00, -2h, 2026-11-27, "2026-11-27 07:30" or 2026-11-27T07:30:00Z`

// timeReader reads times that are given in options.
type timeReader struct {
	zone  *calendar.Zone
	now   time.Time
	ahead bool // a weekday is the next one, and not the last
	last  bool // a date means its end
	// booted returns when the machine has booted, 0 where that is not known.
	booted func() (calendar.Instant, error)
}

// timeAhead reads times that are mostly to come.
func (a *app) timeAhead() timeReader {
	r := a.timeBack()
	r.ahead = true
	return r
}

// timeBack reads times that are mostly past.
func (a *app) timeBack() timeReader {
	return timeReader{zone: a.zone, now: a.now(), booted: a.booted}
}

// end reads the end of a span: a date is over then.
func (r timeReader) end(s string) (calendar.Instant, error) {
	r.last = true
	return r.read(s)
}

// read reads RFC 3339; a date, or a word for one, with an optional time of day; a
// time of today; or a span before or after now.
func (r timeReader) read(s string) (calendar.Instant, error) {
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return calendar.InstantOf(t), nil
	}
	text := strings.ToLower(strings.TrimSpace(s))
	switch {
	case text == "now":
		return calendar.InstantOf(r.now), nil
	case text == "boot" && r.booted != nil:
		return r.booted()
	}
	if sign := strings.IndexAny(text, "+-"); sign == 0 {
		if d, err := phrase.ParseSpan(text[1:]); err == nil {
			if text[0] == '-' {
				d = -d
			}
			return calendar.InstantOf(r.now.Add(d)), nil
		}
	}
	if date, clock, ok := strings.Cut(text, "t"); ok && len(date) == len(time.DateOnly) { // as in ISO 8601
		text = date + " " + clock
	}
	date, clock, _ := strings.Cut(text, " ")
	local := r.now.In(r.zone.Location())
	today := calendar.DayOf(local.Year(), int(local.Month()), local.Day())
	day, ok := dayNamed(date, today, r.ahead)
	if !ok && clock == "" && date != "" { // a time alone is today's
		day, clock, ok = today, date, true
	}
	if ok && clock == "" {
		if r.last {
			next, _ := r.zone.Start(day + 1)
			return next - 1, nil
		}
		at, _ := r.zone.Resolve(day, 0)
		return at, nil
	}
	for _, layout := range []string{"15:04", "15:04:05"} {
		if t, err := time.Parse(layout, clock); err == nil && ok {
			h, m, sec := t.Clock()
			at, _ := r.zone.Resolve(day, int64(h*3600+m*60+sec)*1000)
			return at, nil
		}
	}
	return 0, usageError("%q is no time: %s", s, whenForms)
}

// dayNamed returns the day of a date, or of a word for one.
func dayNamed(name string, today calendar.Day, ahead bool) (calendar.Day, bool) {
	switch name {
	case "today":
		return today, true
	case "yesterday":
		return today - 1, true
	case "tomorrow":
		return today + 1, true
	}
	if t, err := time.Parse(time.DateOnly, name); err == nil {
		return calendar.DayOf(t.Year(), int(t.Month()), t.Day()), true
	}
	step := calendar.Day(-1)
	if ahead {
		step = 1
	}
	for n := range calendar.Day(7) {
		day := today + n*step
		weekday := strings.ToLower(day.Noon().Weekday().String())
		if name == weekday || name == weekday[:3] {
			return day, true
		}
	}
	return 0, false
}

// parseSpan reads a span given as an option.
func parseSpan(option, s string) (time.Duration, error) {
	d, err := phrase.ParseSpan(s)
	if err != nil {
		return 0, usageError("--%s: %w", option, err)
	}
	return d, nil
}
