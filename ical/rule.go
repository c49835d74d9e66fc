package ical

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

const (
	minute = 60_000 // ms
	hour   = 60 * minute
	day    = 24 * hour
)

var dayCodes = []string{"MO", "TU", "WE", "TH", "FR", "SA", "SU"}

// daysRule says the days of a phrase as the parts of a recurrence rule
// (RFC 5545 section 3.3.10) and reports whether that is possible. onePos tells
// that the rule picks by position, so that it must not name several times.
func daysRule(q *phrase.Phrase) (parts []string, onePos, ok bool) {
	if len(q.On) > 1 {
		return nil, false, false
	}
	var items []calendar.Item
	if len(q.On) == 1 {
		t := q.On[0].Term
		if t.Shift != 0 || t.Roll != calendar.Stay {
			return nil, false, false
		}
		items = t.Items
	}
	freq, by, onePos, ok := itemsRule(items)
	if !ok {
		return nil, false, false
	}
	freq, ok = strideFreq(freq, q.Stride.Unit, onePos)
	if !ok {
		return nil, false, false
	}
	parts = append(parts, "FREQ="+freq)
	if q.Stride.Every > 1 {
		parts = append(parts, fmt.Sprintf("INTERVAL=%d", q.Stride.Every))
	}
	if freq == "WEEKLY" {
		parts = append(parts, "WKST=MO")
	}
	if q.In != 0 {
		var months []string
		for m := 1; m <= 12; m++ {
			if q.In.Has(m) {
				months = append(months, strconv.Itoa(m))
			}
		}
		parts = append(parts, "BYMONTH="+strings.Join(months, ","))
	}
	return append(parts, by...), onePos, true
}

// itemsRule says an entry of "on" by itself.
func itemsRule(items []calendar.Item) (freq string, by []string, onePos, ok bool) {
	if len(items) == 0 {
		return "DAILY", nil, false, true
	}
	freq = "WEEKLY"
	for _, it := range items {
		switch {
		case it.Dates:
			return "", nil, false, false
		case it.MonthDays != 0:
			freq = "MONTHLY"
			by = append(by, "BYMONTHDAY="+joinBits(it.MonthDays, 31, func(i int) string { return strconv.Itoa(i + 1) }))
		case it.Nth == 0:
			by = append(by, "BYDAY="+codes(it.Weekdays))
		case len(items) > 1:
			return "", nil, false, false
		case it.Weekdays == calendar.AnyDay:
			freq, by = "MONTHLY", append(by, fmt.Sprintf("BYMONTHDAY=%d", it.Nth))
		case it.Weekdays == calendar.Workdays:
			freq, by, onePos = "MONTHLY", append(by, "BYDAY="+codes(it.Weekdays), fmt.Sprintf("BYSETPOS=%d", it.Nth)), true
		default:
			freq, by = "MONTHLY", append(by, fmt.Sprintf("BYDAY=%d%s", it.Nth, codes(it.Weekdays)))
		}
	}
	kinds := map[string]bool{}
	for _, b := range by {
		name, _, _ := strings.Cut(b, "=")
		if kinds[name] {
			return "", nil, false, false // both of two sets: a rule takes one of each kind
		}
		kinds[name] = true
	}
	return freq, by, onePos, true
}

// strideFreq finds the frequency that has a stride's unit.
func strideFreq(freq string, unit calendar.Unit, onePos bool) (string, bool) {
	switch unit {
	case calendar.DayUnit:
		return "DAILY", freq != "MONTHLY"
	case calendar.WeekUnit:
		return "WEEKLY", freq == "WEEKLY"
	case calendar.MonthUnit:
		return "MONTHLY", true
	case calendar.YearUnit:
		return "YEARLY", !onePos // and its months are always named
	}
	return freq, true
}

func codes(w calendar.Weekdays) string {
	return joinBits(uint32(w), 7, func(i int) string { return dayCodes[i] })
}

func joinBits(set uint32, n int, name func(int) string) string {
	var out []string
	for i := range n {
		if set>>i&1 == 1 {
			out = append(out, name(i))
		}
	}
	return strings.Join(out, ",")
}

// timesOf lists a phrase's local times of the day in ms, and reports whether
// they are all of one day.
func timesOf(q *phrase.Phrase) ([]int64, bool) {
	var out []int64
	switch q.Kind {
	case phrase.Clock:
		for _, t := range q.Times {
			out = append(out, int64(t)*1000)
		}
	case phrase.Interval:
		from, to, every := int64(0), int64(day-1), q.Every.Milliseconds()
		if q.Window != nil {
			from, to = int64(q.Window.From)*1000, int64(q.Window.To)*1000
		}
		if to <= from || every%1000 != 0 {
			return nil, false
		}
		for t := from; t <= to; t += every {
			out = append(out, t)
		}
	}
	return out, len(out) > 0
}

// A timeGroup are times that one rule names: all its minutes in each of its
// hours.
type timeGroup struct {
	hours   []int64
	minutes []int64
	second  int64
}

func (g timeGroup) first() int64 { return g.hours[0]*hour + g.minutes[0]*minute + g.second*1000 }

func (g timeGroup) parts() []string {
	if len(g.hours) == 1 && len(g.minutes) == 1 {
		return nil
	}
	return []string{"BYHOUR=" + joinInts(g.hours), "BYMINUTE=" + joinInts(g.minutes)}
}

func joinInts(list []int64) string {
	var out []string
	for _, n := range list {
		out = append(out, strconv.FormatInt(n, 10))
	}
	return strings.Join(out, ",")
}

// groupTimes splits times into as few groups as it takes, or one each.
func groupTimes(times []int64, each bool) []timeGroup {
	var out []timeGroup
	perHour := map[[2]int64][]int64{} // hour, second -> minutes
	var order [][2]int64
	for _, t := range times {
		k := [2]int64{t / hour, t % minute / 1000}
		if each {
			out = append(out, timeGroup{[]int64{k[0]}, []int64{t % hour / minute}, k[1]})
			continue
		}
		if perHour[k] == nil {
			order = append(order, k)
		}
		perHour[k] = append(perHour[k], t%hour/minute)
	}
	for _, k := range order {
		i := slices.IndexFunc(out, func(g timeGroup) bool { return g.second == k[1] && slices.Equal(g.minutes, perHour[k]) })
		if i < 0 {
			out = append(out, timeGroup{minutes: perHour[k], second: k[1]})
			i = len(out) - 1
		}
		out[i].hours = append(out[i].hours, k[0])
	}
	return out
}
