package rehearsal

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"timegate/core/calendar"
)

// What is usual is looked at by the quarter of an hour.
const (
	slotMS   = 15 * 60 * 1000
	slotsDay = 24 * 60 * 60 * 1000 / slotMS
	dayNames = "mon tue wed thu fri sat sun"
)

// leastDays is of how many days something must be known to be called usual.
const leastDays = 3

// Usual writes a day file of a week from what held on a machine: whatever held at most of
// the same weekdays, at each quarter of an hour, where that weekday is known at all. days is
// of how many days it is; with fewer than three there is no text.
func Usual(states []State, zone *calendar.Zone, from calendar.Day) (text string, days int) {
	var seen [7][slotsDay]map[string]int // how often a state was held, by weekday and time
	known := map[calendar.Day]bool{}
	for _, s := range states {
		key := usualKey(&s)
		for at := s.From - s.From%slotMS; at < s.To; at += slotMS {
			if at < s.From {
				continue
			}
			day, ms := zone.Local(at)
			slot := ms / slotMS
			w := day.Weekday()
			if seen[w][slot] == nil {
				seen[w][slot] = map[string]int{}
			}
			seen[w][slot][key]++
			known[day] = true
		}
	}
	if days = len(known); days < leastDays {
		return "", days
	}
	when := map[string][]int{} // the days on which something happens at a time
	before := usualKey(&State{})
	for w := range 7 { // what a week ends with, the next begins with
		for slot := range slotsDay {
			if key := most(seen[w][slot]); key != "" {
				before = key
			}
		}
	}
	for w := range 7 {
		for slot := range slotsDay {
			key := most(seen[w][slot])
			if key == "" || key == before {
				continue
			}
			for _, verb := range leadsTo(before, key) {
				text := fmt.Sprintf("%02d:%02d %s", slot*slotMS/3_600_000, slot*slotMS/60_000%60, verb)
				when[text] = append(when[text], w)
			}
			before = key
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# A usual week of this machine, made of %d days: at each quarter of an hour, what held on most of the same weekdays.\nabout  = \"a usual week\"\nfrom   = %q\nto     = %q\nevents = [\n", days, from.String(), (from + 6).String())
	for _, text := range slices.SortedFunc(maps.Keys(when), inTurn) {
		fmt.Fprintf(&b, "  %q,\n", weekdays(when[text])+" "+text)
	}
	b.WriteString("]\n")
	return b.String(), days
}

// inTurn orders what happens at times of day: at one time a machine is there before
// anything else happens, and goes down after it.
func inTurn(a, b string) int {
	const clock = len("07:00")
	rank := func(text string) int {
		switch verb, _, _ := strings.Cut(text[clock+1:], " "); verb {
		case "boot", "resume":
			return 0
		case "sleep", "shutdown":
			return 2
		}
		return 1
	}
	return cmp.Or(strings.Compare(a[:clock], b[:clock]), cmp.Compare(rank(a), rank(b)), strings.Compare(a, b))
}

// usualKey is what holds, as a text: off, asleep, or the power and who is logged on.
func usualKey(s *State) string {
	switch {
	case s.Off:
		return "off"
	case s.Asleep:
		return "asleep"
	}
	power := "mains"
	if s.OnBattery {
		power = "battery"
	}
	return strings.Join(append([]string{power}, s.People...), " ")
}

// most returns what was held most often, or "".
func most(counts map[string]int) string {
	best := ""
	for _, key := range slices.Sorted(maps.Keys(counts)) {
		if best == "" || counts[key] > counts[best] {
			best = key
		}
	}
	return best
}

// leadsTo are the events that lead from one thing that holds to another.
func leadsTo(from, to string) []string {
	if to == "off" {
		return []string{"shutdown"}
	}
	if to == "asleep" {
		if from == "off" {
			return []string{"boot", "sleep"}
		}
		return []string{"sleep"}
	}
	var out []string
	power, people := "mains", []string{}
	switch from {
	case "off":
		out = append(out, "boot")
	case "asleep":
		out = append(out, "resume")
	default:
		f := strings.Fields(from)
		power, people = f[0], f[1:]
	}
	f := strings.Fields(to)
	if f[0] != power {
		out = append(out, f[0])
	}
	for _, p := range f[1:] {
		if !slices.Contains(people, p) {
			out = append(out, "logon "+p)
		}
	}
	for _, p := range people {
		if !slices.Contains(f[1:], p) {
			out = append(out, "logoff "+p)
		}
	}
	return out
}

// weekdays names weekdays as a phrase does: three and more that follow each other as a range.
func weekdays(days []int) string {
	names := strings.Fields(dayNames)
	var out []string
	for i := 0; i < len(days); {
		k := i
		for k+1 < len(days) && days[k+1] == days[k]+1 {
			k++
		}
		if k-i >= 2 {
			out = append(out, names[days[i]]+"-"+names[days[k]])
		} else {
			for _, d := range days[i : k+1] {
				out = append(out, names[d])
			}
		}
		i = k + 1
	}
	return strings.Join(out, ", ")
}
