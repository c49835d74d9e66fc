package cli

import (
	"strconv"
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
	// booted returns when the machine has booted, or an error where that is not known.
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
	if at, ok := r.reckoned(text); ok {
		return at, nil
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
	forms := whenForms
	if !r.ahead {
		forms += `; or "last night", "last month", "3 weeks"`
	}
	return 0, usageError("%q is no time: %s", s, forms)
}

// reckoned reads what is said of a night, a week, a month or a year, and how many of them
// ago. What is last or this has a beginning and an end; a night is from 18:00 to 06:00.
func (r timeReader) reckoned(text string) (calendar.Instant, bool) {
	local := r.now.In(r.zone.Location())
	today := calendar.DayOf(local.Year(), int(local.Month()), local.Day())
	var from, to calendar.Day // the first day, and the one after the last
	switch words := strings.Fields(strings.TrimSuffix(text, " ago")); {
	case text == "last night":
		const evening, morning = 18 * 3600_000, 6 * 3600_000
		day, clock := today-1, int64(evening)
		if r.last {
			day, clock = today, morning
		}
		at, _ := r.zone.Resolve(day, clock)
		return at, true
	case len(words) == 2 && (words[0] == "last" || words[0] == "this"):
		back := map[string]int{"last": 1, "this": 0}[words[0]]
		switch words[1] {
		case "week": // begins on Monday (ISO 8601, 3.1.1.23)
			from = today - calendar.Day((int(local.Weekday())+6)%7+7*back)
			to = from + 7
		case "month":
			first := time.Date(local.Year(), local.Month()-time.Month(back), 1, 0, 0, 0, 0, time.UTC)
			from, to = dayOf(first), dayOf(first.AddDate(0, 1, 0))
		case "year":
			from, to = calendar.DayOf(local.Year()-back, 1, 1), calendar.DayOf(local.Year()-back+1, 1, 1)
		default:
			return 0, false
		}
	case len(words) == 2:
		n, err := strconv.Atoi(words[0])
		if err != nil || n < 1 || n > 1000 || r.ahead {
			return 0, false
		}
		switch strings.TrimSuffix(words[1], "s") {
		case "minute":
			return calendar.InstantOf(r.now.Add(-time.Duration(n) * time.Minute)), true
		case "hour":
			return calendar.InstantOf(r.now.Add(-time.Duration(n) * time.Hour)), true
		case "day":
			return calendar.InstantOf(local.AddDate(0, 0, -n)), true
		case "week":
			return calendar.InstantOf(local.AddDate(0, 0, -7*n)), true
		case "month":
			return calendar.InstantOf(local.AddDate(0, -n, 0)), true
		case "year":
			return calendar.InstantOf(local.AddDate(-n, 0, 0)), true
		}
		return 0, false
	default:
		return 0, false
	}
	if r.last {
		at, _ := r.zone.Start(to)
		return at - 1, true
	}
	at, _ := r.zone.Start(from)
	return at, true
}

func dayOf(t time.Time) calendar.Day { return calendar.DayOf(t.Year(), int(t.Month()), t.Day()) }

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
