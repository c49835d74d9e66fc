package forecast

import (
	"fmt"
	"slices"
	"strings"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// Week is a grid of seven days by 24 hours with the number of starts in each.
type Week struct {
	From  calendar.Day // the first day
	Zone  *calendar.Zone
	Cells [7][24]int64
	Gates [7][24][]string // which gates open in an hour, by name

	starts []gateStarts // of the gates that open in the week

	// Peak is the largest number of gates that open in one instant, and
	// PeakAt the first such instant; 0 where nothing opens.
	Peak   int
	PeakAt calendar.Instant
}

// NewWeek counts the starts of seven days. Moments that only events bring
// cannot be foretold and are not in it.
func NewWeek(gates []*gate.Gate, host string, from calendar.Day, zone *calendar.Zone) *Week {
	w := &Week{From: from, Zone: zone}
	starts := map[calendar.Instant]int{}
	for _, g := range gates {
		var plans []*phrase.Plan
		for i := range g.Opens {
			if o := &g.Opens[i]; foretold(g, o, host) {
				plans = append(plans, o.Plan)
			}
		}
		own := gateStarts{name: g.Name}
		for d := range w.Cells {
			for h := range w.Cells[d] {
				lo, hi := w.Hour(d, h)
				list, n := dues(plans, lo, hi)
				if n == 0 {
					continue
				}
				w.Cells[d][h] += n
				own.n += n
				own.days |= 1 << (w.From + calendar.Day(d)).Weekday()
				own.hours |= 1 << h
				w.Gates[d][h] = append(w.Gates[d][h], g.Name)
				for _, at := range list {
					starts[at]++
				}
			}
		}
		if own.n > 0 {
			w.starts = append(w.starts, own)
		}
	}
	for at, n := range starts {
		if n > w.Peak || n == w.Peak && at < w.PeakAt {
			w.Peak, w.PeakAt = n, at
		}
	}
	return w
}

// gateStarts are one gate's starts in the week.
type gateStarts struct {
	name  string
	n     int64
	days  uint32 // bit 0 is Monday
	hours uint32 // bit 0 is midnight
}

// GateWeek tells when a gate opens in the week.
type GateWeek struct {
	Name        string
	Starts      int64
	Days, Hours string // such as "Mon-Fri" and "7, 9, 11-13"
}

// ByGate tells when each gate opens that does.
func (w *Week) ByGate() []GateWeek {
	var out []GateWeek
	for _, g := range w.starts {
		out = append(out, GateWeek{g.name, g.n,
			ranges(g.days, 7, func(i int) string { return calendar.Day(4 + i).Noon().Format("Mon") }), // 5 January 1970 was a Monday
			ranges(g.hours, 24, func(i int) string { return fmt.Sprint(i) })})
	}
	return out
}

// ranges prints a set as names and ranges of three or more.
func ranges(set uint32, n int, name func(int) string) string {
	var out []string
	for i := 0; i < n; i++ {
		j := i
		for j < n && set>>j&1 == 1 {
			j++
		}
		switch {
		case j-i >= 3:
			out = append(out, name(i)+"-"+name(j-1))
		case j > i:
			out = append(out, name(i))
			j = i + 1
		default:
			j = i + 1
		}
		i = j - 1
	}
	return strings.Join(out, ", ")
}

// Hour returns the first and the last instant of an hour of the grid. Where a
// clock change leaves the hour out, the last is before the first.
func (w *Week) Hour(day, hour int) (first, last calendar.Instant) {
	const ms = 3600_000
	first, _ = w.Zone.Resolve(w.From+calendar.Day(day), int64(hour)*ms)
	next, _ := w.Zone.Resolve(w.From+calendar.Day(day), int64(hour+1)*ms)
	return first, next - 1
}

// dues lists what several openings of one gate yield; two at one instant are
// one start. A list that would be very long is counted only.
func dues(plans []*phrase.Plan, from, to calendar.Instant) ([]calendar.Instant, int64) {
	const most = 10_000
	var list []calendar.Instant
	var total int64
	for _, p := range plans {
		n := p.Count(from, to)
		total += n
		if n > most {
			continue
		}
		for at, _, ok := p.Next(from - 1); ok && at <= to; at, _, ok = p.Next(at) {
			list = append(list, at)
		}
	}
	if total != int64(len(list)) {
		return nil, total
	}
	slices.Sort(list)
	list = slices.Compact(list)
	return list, int64(len(list))
}

// Quiet is a run of hours in which nothing starts.
type Quiet struct {
	Hour   int // of the day, at which it begins
	Length int // hours
	Times  int // how often it comes in the week
}

// Quiet returns the runs of hours in which nothing starts, over the week's end
// too, the longest first. It is empty where nothing starts at all.
func (w *Week) Quiet() []Quiet {
	const hours = 7 * 24
	at := func(i int) int64 { return w.Cells[i%hours/24][i%24] }
	start := 0
	for start < hours && at(start) == 0 {
		start++
	}
	if start == hours {
		return nil
	}
	var out []Quiet
	for i := start; i < start+hours; i++ {
		n := 0
		for i+n < start+hours && at(i+n) == 0 {
			n++
		}
		if n == 0 {
			continue
		}
		q := Quiet{Hour: i % 24, Length: n, Times: 1}
		if j := slices.IndexFunc(out, func(p Quiet) bool { return p.Hour == q.Hour && p.Length == n }); j >= 0 {
			out[j].Times++
		} else {
			out = append(out, q)
		}
		i += n
	}
	slices.SortStableFunc(out, func(a, b Quiet) int { return b.Length - a.Length })
	return out
}

// Total returns the number of all starts.
func (w *Week) Total() int64 {
	var n int64
	for _, day := range w.Cells {
		for _, c := range day {
			n += c
		}
	}
	return n
}

// Most returns the largest number in a cell.
func (w *Week) Most() int64 {
	var n int64
	for _, day := range w.Cells {
		n = max(n, slices.Max(day[:]))
	}
	return n
}
