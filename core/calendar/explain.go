package calendar

import (
	"fmt"
	"strings"
)

// Explain says what a clock change did to a due of the rule, or "" where it
// did nothing.
func (r *Rule) Explain(due Instant) string {
	var notes []string
	if r.kind == elapsedSince {
		return r.secondTime(due)
	}
	day, _ := r.zone.Local(due)
	var wanted []string // local times that became this due
	for d := day - 2; d <= day+1; d++ {
		if !r.days.Has(d) {
			continue
		}
		if _, exists := r.zone.Start(d); !exists {
			continue
		}
		for _, t := range r.namedTimes() {
			at, change := r.zone.Resolve(d, t)
			if at != due {
				continue
			}
			wanted = append(wanted, clockText(t))
			switch change {
			case Moved:
				notes = append(notes, r.gap(due, t))
			case Doubled:
				notes = append(notes, fmt.Sprintf("%s comes twice that day; this is the first", clockText(t)))
			}
		}
	}
	if len(wanted) > 1 {
		notes = append(notes, strings.Join(wanted, " and ")+" meet here")
	}
	if len(notes) == 0 && r.kind == elapsedSteps {
		return r.secondTime(due)
	}
	return strings.Join(notes, "; ")
}

// namedTimes are the local times that a day's dues are computed from.
func (r *Rule) namedTimes() []int64 {
	if r.kind == elapsedSteps {
		return []int64{r.lo}
	}
	return r.times
}

// gap tells of the clock change that left a local time out.
func (r *Rule) gap(due Instant, t int64) string {
	before := int64(due) + r.zone.offset(int64(due)-1)
	after := int64(due) + r.zone.offset(int64(due))
	if after-before >= msPerDay {
		return fmt.Sprintf("moved: the day on which %s would be does not exist here", clockText(t))
	}
	return fmt.Sprintf("moved: %s does not exist that day, the clock goes from %s to %s", clockText(t),
		clockText(floorMod(before, msPerDay)), clockText(floorMod(after, msPerDay)))
}

// secondTime tells of an elapsed due whose local time has been once already.
func (r *Rule) secondTime(due Instant) string {
	day, ms := r.zone.Local(due)
	if first, change := r.zone.Resolve(day, ms); change == Doubled && first != due {
		return fmt.Sprintf("%s for the second time: the clock went back", clockText(ms))
	}
	return ""
}

// clockText prints a local time of day, HH:MM or HH:MM:SS.
func clockText(ms int64) string {
	s := floorMod(ms, msPerDay) / msPerSecond
	if s%60 == 0 {
		return fmt.Sprintf("%02d:%02d", s/3600, s/60%60)
	}
	return fmt.Sprintf("%02d:%02d:%02d", s/3600, s/60%60, s%60)
}

// Dropped returns the days of the rule within [from, to] that the zone leaves
// out, so that they have no dues.
func (r *Rule) Dropped(from, to Instant) []Day {
	var out []Day
	if r.kind == elapsedSince {
		return nil
	}
	for _, change := range r.zone.Changes(max(from, r.first), min(to, r.last)) {
		day, _ := r.zone.Local(change - 1)
		for d := day; d <= day+3; d++ {
			if _, exists := r.zone.Start(d); !exists && r.days.Has(d) {
				out = append(out, d)
			}
		}
	}
	return out
}

// WindowEnds returns the first and the last due of the first window that
// begins after an instant, and false where the rule has no window.
func (r *Rule) WindowEnds(after Instant) (first, last Instant, ok bool) {
	if r.every == 0 || r.kind == elapsedSince || r.lo == 0 && r.hi >= msPerDay-1 {
		return 0, 0, false
	}
	from, _ := r.zone.Local(after)
	for day, ok := r.days.Next(from); ok; day, ok = r.days.Next(day + 1) {
		begin, _ := r.zone.Resolve(day, r.lo)
		if begin <= after || begin < r.first {
			continue
		}
		first, ok1 := r.nextOn(day, begin-1)
		last, ok2 := r.prevOn(day, r.last+1)
		return first, last, ok1 && ok2
	}
	return 0, 0, false
}
