package ical

import (
	"fmt"
	"io"

	ics "github.com/arran4/golang-ical"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// Recurring days of a calendar are listed for these years.
const (
	firstYear = 1970
	lastYear  = 2100
	maxDays   = 5000
)

// Days reads the days of a calendar of events that last whole days, such as
// holidays. An event with a time of day, or with a recurrence that cannot be
// said, is an error: a day that is left out silently would be a start too
// many.
func Days(r io.Reader) ([]calendar.Item, error) {
	cal, err := parse(r)
	if err != nil {
		return nil, fmt.Errorf("this is not a calendar file: %w", err)
	}
	var out []calendar.Item
	for _, v := range cal.Events() {
		days, err := daysOf(v)
		if err != nil {
			return nil, fmt.Errorf("event %q: %w", v.Id(), err)
		}
		out = append(out, days...)
		if len(out) > maxDays {
			return nil, fmt.Errorf("the calendar has more than %d days", maxDays)
		}
	}
	return out, nil
}

func daysOf(v *ics.VEvent) ([]calendar.Item, error) {
	start := v.GetProperty(ics.ComponentPropertyDtStart)
	if start == nil || len(start.Value) != 8 {
		return nil, fmt.Errorf("it does not last whole days: DTSTART;VALUE=DATE is wanted")
	}
	first, err := parseCivil(start.Value)
	if err != nil {
		return nil, err
	}
	length := calendar.Day(1)
	if end := v.GetProperty(ics.ComponentPropertyDtEnd); end != nil {
		// DTEND is the day after the last (RFC 5545 section 3.6.1).
		last, err := parseCivil(end.Value)
		if err != nil {
			return nil, err
		}
		length = max(1, last.day-first.day)
	}
	item := func(d calendar.Day) calendar.Item { return calendar.Item{Dates: true, From: d, To: d + length - 1} }
	im := &importer{event: v, zone: calendar.UTC}
	begins := []calendar.Day{first.day}
	if text := im.value(ics.ComponentPropertyRrule); text != "" {
		if begins, err = im.recurringDays(text, first); err != nil {
			return nil, fmt.Errorf("RRULE:%s: %w", text, err)
		}
	}
	for _, c := range im.dates(ics.ComponentPropertyRdate) {
		begins = append(begins, c.day)
	}
	if len(im.lost) > 0 {
		return nil, fmt.Errorf("%s", im.lost[0])
	}
	var out []calendar.Item
	for _, d := range begins {
		out = append(out, item(d))
	}
	return out, nil
}

// recurringDays lists the days on which a recurrence begins.
func (im *importer) recurringDays(text string, first civil) ([]calendar.Day, error) {
	r, err := parseRule(text)
	if err != nil {
		return nil, err
	}
	said, err := im.recurring(r, first, 0, "")
	if err != nil {
		return nil, err
	}
	p, err := phrase.Parse(said)
	if err != nil {
		return nil, err
	}
	plan, err := p.Compile(phrase.Env{Zone: calendar.UTC})
	if err != nil {
		return nil, err
	}
	const msPerDay = 86400_000
	from, to := calendar.Instant(calendar.DayOf(firstYear, 1, 1))*msPerDay, calendar.Instant(calendar.DayOf(lastYear, 1, 1))*msPerDay
	var out []calendar.Day
	for at, ok := plan.Rule.Next(from - 1); ok && at < to && len(out) <= maxDays; at, ok = plan.Rule.Next(at) {
		d, _ := calendar.UTC.Local(at)
		out = append(out, d)
	}
	return out, nil
}
