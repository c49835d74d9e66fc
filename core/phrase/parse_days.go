package phrase

import (
	"slices"
	"strconv"
	"strings"

	"timegate/core/calendar"
)

var (
	dayNames   = []string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"}
	monthNames = []string{"january", "february", "march", "april", "may", "june", "july",
		"august", "september", "october", "november", "december"}
	ordinalNames = []string{"first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth"}
)

// nameIndex finds a name written whole or as its first three letters.
func nameIndex(names []string, t token) int {
	if t.kind != word {
		return -1
	}
	return slices.IndexFunc(names, func(n string) bool { return t.lower() == n || t.lower() == n[:3] })
}

// ordinalOf returns the number of "2nd" or "second", or 0.
func ordinalOf(t token) int {
	if t.kind == ordinal {
		n, _ := strconv.Atoi(t.text[:len(t.text)-2])
		return n
	}
	if t.kind == word {
		return slices.Index(ordinalNames, t.lower()) + 1
	}
	return 0
}

// dayList reads the list after "on" or "except".
func (p *parser) dayList() []Days {
	var list []Days
	for {
		list = append(list, p.dayEntry())
		if p.peek().kind != comma || !beginsDay(lex(p.text, p.peek().end)) {
			return mergeDays(list)
		}
		p.take()
	}
}

func beginsDay(t token) bool {
	switch t.lower() {
	case "weekdays", "weekends", "day", "last":
		return t.kind == word
	}
	return t.kind == date || t.kind == ordinal || ordinalOf(t) > 0 || nameIndex(dayNames, t) >= 0
}

func (p *parser) dayEntry() Days {
	d := Days{pos: p.peek().pos}
	d.Items = append(d.Items, p.dayItem())
	for p.accept("and") {
		d.Items = append(d.Items, p.dayItem())
	}
	switch t := p.peek(); {
	case t.kind == plus && p.out.Kind == Event && !wholeDays(lex(p.text, t.end).text):
		// The delay of the event: "unlock on weekdays + 5s".
	case t.kind == plus || t.kind == minus:
		p.take()
		d.Shift = p.shiftDays()
		if t.kind == minus {
			d.Shift = -d.Shift
		}
	case len(d.Items) == 1 && p.accept("or"):
		d.Roll = calendar.NextWeekday
		if p.expect(`"next" or "previous"`, "next", "previous").lower() == "previous" {
			d.Roll = calendar.PrevWeekday
		}
		p.expect(`"weekday"`, "weekday")
	}
	d.end = p.pos
	return d
}

// wholeDays reports whether a text is a number of days, as "+ 1d" moves a day.
func wholeDays(s string) bool {
	n := digits(s)
	return n > 0 && strings.EqualFold(s[n:], "d")
}

// shiftDays reads the days of "+ 1d".
func (p *parser) shiftDays() int {
	t := p.peek()
	n, err := strconv.Atoi(strings.TrimSuffix(t.lower(), "d"))
	if t.kind != span || err != nil || n < 1 {
		p.wanted(t, "a number of days such as 1d")
	}
	if n > 366 {
		p.failAt(t, "a day is moved by 366 days at most")
	}
	p.take()
	return n
}

func (p *parser) dayItem() calendar.Item {
	t := p.peek()
	switch {
	case p.accept("weekdays"):
		return calendar.Item{Weekdays: calendar.Workdays}
	case p.accept("weekends"):
		return calendar.Item{Weekdays: calendar.Weekend}
	case p.accept("day"):
		return calendar.Item{MonthDays: p.monthDays()}
	case t.kind == date:
		return p.dates(t)
	case nameIndex(dayNames, t) >= 0:
		return calendar.Item{Weekdays: p.weekdays()}
	}
	nth := ordinalOf(t)
	if nth > 0 {
		p.take()
	}
	if p.accept("last") {
		nth = -max(nth, 1)
	}
	if nth == 0 {
		p.wanted(t, "a day", slices.Concat(short(dayNames), dayNames, []string{"weekdays", "weekends", "day", "last"})...)
	}
	return p.nthDay(t, nth)
}

// nthDay reads what an ordinal or "last" counts.
func (p *parser) nthDay(t token, nth int) calendar.Item {
	it := calendar.Item{Nth: nth}
	next, most := p.peek(), 5
	switch i := nameIndex(dayNames, next); {
	case i >= 0:
		p.take()
		it.Weekdays = 1 << i
	case p.accept("weekday"):
		it.Weekdays, most = calendar.Workdays, 23
	case nth < 0 && p.accept("day"):
		it.Weekdays, most = calendar.AnyDay, 31
	default:
		p.wanted(next, "a day of the week or \"weekday\"", append(slices.Concat(short(dayNames), dayNames), "weekday")...)
	}
	if max(nth, -nth) > most {
		p.failAt(token{pos: t.pos, end: p.pos}, "%q never comes: no month has so many", p.text[t.pos:p.pos])
	}
	return it
}

// short cuts names to their first three letters.
func short(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = n[:3]
	}
	return out
}

func (p *parser) weekdays() calendar.Weekdays {
	from := nameIndex(dayNames, p.take())
	to := from
	// "fri - 1d" moves a day; "fri-mon" is a range.
	if t := p.peek(); t.kind == minus && lex(p.text, t.end).kind != span {
		p.take()
		t := p.peek()
		if to = nameIndex(dayNames, t); to < 0 {
			p.wanted(t, "a day of the week such as fri", slices.Concat(short(dayNames), dayNames)...)
		}
		p.take()
	}
	var set calendar.Weekdays
	for i := from; ; i = (i + 1) % 7 {
		set |= 1 << i
		if i == to {
			return set
		}
	}
}

func (p *parser) dates(t token) calendar.Item {
	it := calendar.Item{Dates: true, From: p.date()}
	it.To = it.From
	if p.peek().kind == dots {
		p.take()
		if it.To = p.date(); it.To < it.From {
			p.failAt(token{pos: t.pos, end: p.pos}, "the range ends before it begins")
		}
	}
	return it
}

// monthDays reads the numbers after "day". A number before "times" belongs to
// the next tail.
func (p *parser) monthDays() uint32 {
	var set uint32
	for {
		from := p.number("a day of the month", 31)
		to := from
		if t := p.peek(); t.kind == minus && lex(p.text, t.end).kind != span {
			p.take()
			if to = p.number("a day of the month", 31); to < from {
				// Ranges run forward and may wrap over the month's end.
				to += 31
			}
		}
		for i := from; i <= to; i++ {
			set |= 1 << ((i - 1) % 31)
		}
		next := lex(p.text, p.peek().end)
		if p.peek().kind != comma || next.kind != number || strings.HasPrefix(lex(p.text, next.end).lower(), "time") {
			return set
		}
		p.take()
	}
}

// mergeDays joins plain weekdays into one entry, and plain days of the month.
func mergeDays(list []Days) []Days {
	var out []Days
	weekdays, monthDays := -1, -1
	for _, d := range list {
		plain := len(d.Items) == 1 && d.Shift == 0 && d.Roll == calendar.Stay && !d.Items[0].Dates && d.Items[0].Nth == 0
		switch {
		case plain && d.Items[0].MonthDays != 0:
			if monthDays >= 0 {
				out[monthDays].Items[0].MonthDays |= d.Items[0].MonthDays
				continue
			}
			monthDays = len(out)
		case plain:
			if weekdays >= 0 {
				out[weekdays].Items[0].Weekdays |= d.Items[0].Weekdays
				continue
			}
			weekdays = len(out)
		}
		out = append(out, d)
	}
	return out
}
