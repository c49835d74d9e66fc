package phrase

import (
	"fmt"
	"slices"
	"strings"

	"timegate/core/calendar"
)

// Words says the phrase in plain words.
func (q *Phrase) Words() string {
	var parts []string
	switch q.Kind {
	case Clock:
		parts = append(parts, "at "+listWords(timeWords(q.Times), "and"))
	case Interval:
		parts = append(parts, everyWords(q.Every))
		if q.Window == nil {
			parts = append(parts, "counted from midnight")
		}
	case Since:
		parts = append(parts, everyWords(q.Every)+" of elapsed time, first on "+q.Since.words())
	case AfterSuccess:
		parts = append(parts, SpanWords(q.Every)+" after the last run that succeeded, or at once if none has")
	case Event:
		parts = append(parts, q.eventWords())
	}
	if w := q.Window; w != nil {
		s := fmt.Sprintf("from %s up to and including %s", w.From, w.To)
		if w.To <= w.From {
			s += " the next day"
			if w.To == 0 {
				s = fmt.Sprintf("from %s up to and including midnight", w.From)
			}
		}
		parts = append(parts, s)
	}
	if days := q.dayWords(); strings.HasPrefix(days, "on ") && q.Stride.Unit == calendar.NoStride {
		parts[len(parts)-1] += " " + days
	} else if days != "" {
		parts = append(parts, days)
	}
	if q.In != 0 {
		parts = append(parts, "in "+listWords(monthWords(q.In), "and"))
	}
	return strings.Join(append(parts, q.tailWords()...), ", ")
}

func (q *Phrase) dayWords() string {
	s := q.Stride
	switch {
	case s.Unit != calendar.NoStride:
		unit := strideUnits[s.Unit-1]
		every := "every " + unit
		if s.Every > 1 {
			every = fmt.Sprintf("every %d %ss", s.Every, unit)
		}
		every += ", counted from " + dateWords(s.From)
		if len(q.On) > 0 {
			every = "on " + daysWords(q.On) + ", " + every
		}
		return every
	case len(q.On) > 0:
		return "on " + daysWords(q.On)
	case q.Kind == Clock && q.In == 0:
		return "every day"
	}
	return ""
}

func (q *Phrase) tailWords() []string {
	var parts []string
	if r := q.Repeat; r != nil {
		s := "then again " + everyWords(r.Every)
		if r.Ever {
			s += " until the next moment"
		} else {
			s += " for " + SpanWords(r.For)
		}
		parts = append(parts, s)
	}
	if q.Limit > 0 {
		parts = append(parts, count(q.Limit, "time")+" in all")
	}
	if q.Starting != nil {
		parts = append(parts, "not before "+q.Starting.words())
	}
	if e := q.Ending; e != nil {
		s := "not after " + e.words()
		parts = append(parts, s)
	}
	if q.Zone != "" {
		parts = append(parts, "by the clock of "+q.Zone)
	}
	if q.ExceptFile != "" {
		parts = append(parts, "except on the days listed in "+q.ExceptFile)
	} else if len(q.Except) > 0 {
		parts = append(parts, "except on "+daysWords(q.Except))
	}
	return parts
}

// Words says when the plan's phrase comes, with the name of whose logon or lock is
// meant.
func (p *Plan) Words() string {
	q := *p.Phrase
	q.Event.Account = p.Account
	return q.Words()
}

// ofPeople reports whether it happens to the session of a person.
func (e EventSpec) ofPeople() bool {
	return e.Kind == Logon || e.Kind == Logoff || e.Kind == Lock || e.Kind == Unlock
}

// OfGate reports whether the event is one of another gate, which Name names.
func (e EventSpec) OfGate() bool { return e.Kind == EndOf || e.Kind == FailureOf || e.Kind == StartOf }

func (q *Phrase) eventWords() string {
	e := q.Event
	var s string
	switch e.Kind {
	case Boot:
		s = "when the machine has booted"
	case Shutdown:
		s = "before the machine shuts down"
	case Logon, Logoff:
		who := e.Account
		if who == "" {
			who = "anybody"
		}
		s = fmt.Sprintf("when %s logs %s", who, strings.TrimPrefix(string(e.Kind), "log"))
	case Lock, Unlock:
		s = fmt.Sprintf("when the desktop is %sed", e.Kind)
		if e.Account != "" {
			s = fmt.Sprintf("when %s %ss the desktop", e.Account, e.Kind)
		}
	case Sleep:
		s = "before the machine goes to sleep"
	case Resume:
		s = "when the machine comes back from sleep"
	case Mains, Battery:
		s = fmt.Sprintf("when the machine changes to %s power", e.Kind)
	case Online, Offline:
		s = fmt.Sprintf("when the machine goes %s", e.Kind)
	case Idle:
		s = "when nobody has touched keyboard or mouse for " + SpanWords(e.Idle)
	case Active:
		s = "when somebody comes back to keyboard or mouse"
	case Mount, Unmount:
		s = fmt.Sprintf("when %s is %sed", e.Paths[0], e.Kind)
	case Device:
		s = "when a device " + e.Glob + " appears"
	case Change:
		s = "when files change in " + listWords(e.Paths, "or")
		if e.Glob != "" {
			s += " whose names match " + e.Glob
		}
		if e.Quiet > 0 {
			s += ", once they have been quiet for " + SpanWords(e.Quiet)
		}
	case Line:
		s = fmt.Sprintf("when a line that matches %s is written to %s", quote(e.Regexp), e.Paths[0])
	case LowMemory:
		s = "when less than " + e.Amount.String() + " of memory is free"
	case LowDisk:
		s = fmt.Sprintf("when less than %s is free on %s", e.Amount, e.Paths[0])
	case EndOf:
		s = "when " + e.Name + " has ended"
	case FailureOf:
		s = "when " + e.Name + " has failed"
	case StartOf:
		s = "when " + e.Name + " has started"
	case Signal:
		s = "when the signal " + e.Name + " is sent"
	}
	if e.First {
		s += ", the first time of the " + e.Period
	}
	if q.Delay > 0 {
		s = SpanWords(q.Delay) + " after this: " + s
		if e.Kind == Boot {
			s = SpanWords(q.Delay) + " after the machine has booted"
		}
	}
	return s
}

func (d DateTime) words() string {
	if d.HasTime {
		return dateWords(d.Day) + " at " + d.Time.String()
	}
	return dateWords(d.Day)
}

// dateWords says a date: "Fri 27 Nov 2026".
func dateWords(d calendar.Day) string { return d.Noon().Format("Mon 2 Jan 2006") }

func timeWords(times []Time) []string {
	out := make([]string, len(times))
	for i, t := range times {
		out[i] = t.String()
	}
	return out
}

func monthWords(m calendar.Months) []string { return rangeWords(uint32(m), 12, monthNames) }

// rangeWords is like runs, in whole words.
func rangeWords(set uint32, n int, names []string) []string {
	list := runs(set, n, short(names))
	for i, r := range list {
		ends := strings.Split(r, "-")
		for j, e := range ends {
			full := names[slices.IndexFunc(names, func(name string) bool { return name[:3] == e })]
			ends[j] = strings.ToUpper(full[:1]) + full[1:]
		}
		list[i] = strings.Join(ends, " to ")
	}
	return list
}

func daysWords(list []Days) string {
	var out []string
	for _, d := range list {
		out = append(out, d.words())
	}
	return listWords(out, "and")
}

func (d Days) words() string {
	items := make([]string, len(d.Items))
	for i, it := range d.Items {
		items[i] = itemWords(it)
	}
	s := strings.Join(items, " that are also ")
	switch {
	case d.Shift > 0:
		s = fmt.Sprintf("%s after %s", count(int64(d.Shift), "day"), s)
	case d.Shift < 0:
		s = fmt.Sprintf("%s before %s", count(int64(-d.Shift), "day"), s)
	case d.Roll == calendar.NextWeekday:
		s += " or, if that is a weekend, on the next weekday"
	case d.Roll == calendar.PrevWeekday:
		s += " or, if that is a weekend, on the weekday before"
	}
	return s
}

func itemWords(it calendar.Item) string {
	switch {
	case it.Dates && it.From == it.To:
		return dateWords(it.From)
	case it.Dates:
		return dateWords(it.From) + " to " + dateWords(it.To)
	case it.MonthDays != 0:
		return "day " + listWords(runs(it.MonthDays, 31, nil), "and") + " of the month"
	case it.Nth != 0:
		return "the " + nthWords(it) + " of the month"
	case it.Weekdays == calendar.Workdays:
		return "weekdays"
	case it.Weekdays == calendar.Weekend:
		return "weekends"
	}
	list := rangeWords(uint32(it.Weekdays), 7, dayNames)
	for i, name := range list {
		if !strings.Contains(name, " ") {
			list[i] = name + "s"
		}
	}
	return listWords(list, "and")
}

func nthWords(it calendar.Item) string {
	s := formatNth(it)
	if i := strings.LastIndexByte(s, ' '); it.Weekdays != calendar.Workdays && it.Weekdays != calendar.AnyDay {
		return s[:i+1] + rangeWords(uint32(it.Weekdays), 7, dayNames)[0]
	}
	return s
}

// listWords joins words: "a, b and c".
func listWords(list []string, and string) string {
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " " + and + " " + list[len(list)-1]
}
