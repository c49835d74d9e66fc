package phrase

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"timegate/core/calendar"
)

// String returns the phrase in its canonical form.
func (q *Phrase) String() string {
	var b strings.Builder
	switch q.Kind {
	case Clock:
		b.WriteString("at " + joinTimes(q.Times))
	case Event:
		b.WriteString(q.Event.String())
	default:
		b.WriteString("every " + FormatSpan(q.Every))
	}
	switch q.Kind {
	case Since:
		b.WriteString(" since " + q.Since.String())
	case AfterSuccess:
		b.WriteString(" after success")
	}
	if q.Window != nil {
		fmt.Fprintf(&b, " from %s to %s", q.Window.From, q.Window.To)
	}
	if len(q.On) > 0 {
		b.WriteString(" on " + formatDays(q.On))
	}
	if q.In != 0 {
		b.WriteString(" in " + strings.Join(runs(uint32(q.In), 12, short(monthNames)), ", "))
	}
	if s := q.Stride; s.Unit != calendar.NoStride {
		unit := strideUnits[s.Unit-1]
		if s.Every > 1 {
			unit += "s"
		}
		fmt.Fprintf(&b, " every %d %s from %s", s.Every, unit, s.From)
	}
	if q.Delay > 0 {
		delay := FormatSpan(q.Delay)
		if len(q.On) > 0 && wholeDays(delay) {
			delay = fmt.Sprintf("%dh", q.Delay/time.Hour) // "+ 1d" would move the day
		}
		b.WriteString(" + " + delay)
	}
	q.writeTails(&b)
	return b.String()
}

func (q *Phrase) writeTails(b *strings.Builder) {
	if r := q.Repeat; r != nil {
		limit := "ever"
		if !r.Ever {
			limit = FormatSpan(r.For)
		}
		fmt.Fprintf(b, ", then every %s for %s", FormatSpan(r.Every), limit)
	}
	if q.Limit > 0 {
		fmt.Fprintf(b, ", %d times", q.Limit)
	}
	if q.Starting != nil {
		fmt.Fprintf(b, ", starting %s", q.Starting)
	}
	if q.Ending != nil {
		fmt.Fprintf(b, ", ending %s", q.Ending)
	}
	switch q.Zone {
	case "":
	case "UTC":
		b.WriteString(", utc")
	default:
		b.WriteString(", zone " + bareOrQuoted(q.Zone))
	}
	if q.ExceptFile != "" {
		b.WriteString(", except days in " + bareOrQuoted(q.ExceptFile))
	} else if len(q.Except) > 0 {
		b.WriteString(", except " + formatDays(q.Except))
	}
}

// String returns the time as HH:MM, with seconds where there are any.
func (t Time) String() string {
	if t%60 == 0 {
		return fmt.Sprintf("%02d:%02d", t/3600, t/60%60)
	}
	return fmt.Sprintf("%02d:%02d:%02d", t/3600, t/60%60, t%60)
}

// String returns the date, and the time where it has one.
func (d DateTime) String() string {
	if d.HasTime {
		return d.Day.String() + " " + d.Time.String()
	}
	return d.Day.String()
}

// String returns the event as a phrase begins with it.
func (e EventSpec) String() string {
	s := string(e.Kind)
	if e.First {
		s = "first " + s
	}
	switch e.Kind {
	case Logon, Logoff:
		if e.Account != "" {
			s += " of " + bareOrQuoted(e.Account)
		}
	case Idle:
		s += " " + FormatSpan(e.Idle)
	case Device:
		s += " " + bareOrQuoted(e.Glob)
	case Change:
		s += " " + joinBare(e.Paths)
		if e.Glob != "" {
			s += " matching " + bareOrQuoted(e.Glob)
		}
		if e.Quiet > 0 {
			s += " quiet " + FormatSpan(e.Quiet)
		}
	case Line:
		s += " " + quote(e.Regexp) + " in " + joinBare(e.Paths)
	case LowMemory, LowDisk, Mount, Unmount:
		s += strings.TrimRight(" "+joinBare(e.Paths), " ")
		if e.Amount.text != "" {
			s += " " + e.Amount.text
		}
	case EndOf, FailureOf, StartOf, Signal:
		s += " " + bareOrQuoted(e.Name)
	}
	if e.First {
		s += " of the " + e.Period
	}
	return s
}

// bareOrQuoted quotes what could not be read back as a bare word.
func bareOrQuoted(s string) string {
	if s == "" || strings.ContainsAny(s, blanks+`,"`) {
		return quote(s)
	}
	return s
}

func joinBare(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = bareOrQuoted(s)
	}
	return strings.Join(out, ", ")
}

func joinTimes(times []Time) string {
	out := make([]string, len(times))
	for i, t := range times {
		out[i] = t.String()
	}
	return strings.Join(out, ", ")
}

func formatDays(list []Days) string {
	out := make([]string, len(list))
	for i, d := range list {
		out[i] = d.String()
	}
	return strings.Join(out, ", ")
}

// String returns the entry as it is written after "on".
func (d Days) String() string {
	items := make([]string, len(d.Items))
	for i, it := range d.Items {
		items[i] = formatItem(it)
	}
	s := strings.Join(items, " and ")
	switch {
	case d.Shift > 0:
		s += fmt.Sprintf(" + %dd", d.Shift)
	case d.Shift < 0:
		s += fmt.Sprintf(" - %dd", -d.Shift)
	case d.Roll == calendar.NextWeekday:
		s += " or next weekday"
	case d.Roll == calendar.PrevWeekday:
		s += " or previous weekday"
	}
	return s
}

func formatItem(it calendar.Item) string {
	switch {
	case it.Dates && it.From == it.To:
		return it.From.String()
	case it.Dates:
		return it.From.String() + ".." + it.To.String()
	case it.MonthDays != 0:
		return "day " + strings.Join(runs(it.MonthDays, 31, nil), ", ")
	case it.Nth != 0:
		return formatNth(it)
	case it.Weekdays == calendar.Workdays:
		return "weekdays"
	case it.Weekdays == calendar.Weekend:
		return "weekends"
	}
	return strings.Join(runs(uint32(it.Weekdays), 7, short(dayNames)), ", ")
}

func formatNth(it calendar.Item) string {
	var what string
	switch it.Weekdays {
	case calendar.Workdays:
		what = "weekday"
	case calendar.AnyDay:
		what = "day"
	default:
		what = runs(uint32(it.Weekdays), 7, short(dayNames))[0]
	}
	switch {
	case it.Nth == -1:
		return "last " + what
	case it.Nth < 0:
		return Ordinal(-it.Nth) + " last " + what
	}
	return Ordinal(it.Nth) + " " + what
}

// Ordinal returns 1st, 2nd, 3rd, 4th and so on.
func Ordinal(n int) string {
	suffix := "th"
	if n%100/10 != 1 {
		switch n % 10 {
		case 1:
			suffix = "st"
		case 2:
			suffix = "nd"
		case 3:
			suffix = "rd"
		}
	}
	return strconv.Itoa(n) + suffix
}

// runs prints a set as names and ranges of three or more. Where the names go
// round, as those of weekdays and months do, a range may wrap.
func runs(set uint32, n int, names []string) []string {
	name := func(i int) string {
		if names == nil {
			return strconv.Itoa(i%n + 1)
		}
		return names[i%n]
	}
	in := func(i int) bool { return set>>(i%n)&1 == 1 }
	if set == 1<<n-1 {
		return []string{name(0) + "-" + name(n-1)}
	}
	start := 0
	if names != nil && in(0) && in(n-1) {
		// Begin after the first gap, so that the run over the end stays whole.
		for in(start) {
			start++
		}
	}
	var out []string
	for i := start; i < start+n; i++ {
		if !in(i) {
			continue
		}
		j := i
		for j+1 < start+n && in(j+1) {
			j++
		}
		switch {
		case j-i >= 2:
			out = append(out, name(i)+"-"+name(j))
		case j > i:
			out = append(out, name(i), name(j))
		default:
			out = append(out, name(i))
		}
		i = j
	}
	return out
}
