package phrase

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"
)

// randomNaive makes a phrase up around a date.
func randomNaive(r *rand.Rand, around civil) *naive {
	n := &naive{from: -1}
	pick := func(list ...int) int { return list[r.IntN(len(list))] }
	if r.IntN(2) == 0 {
		for range 1 + r.IntN(3) {
			n.times = append(n.times, pick(0, 15, 29, 60, 90, 120, 121, 150, 179, 180, 720, 1380, 1410, 1439, r.IntN(1440)))
		}
	} else {
		n.every = pick(5, 10, 15, 20, 30, 45, 60, 90, 120, 180, 360, 720)
		if r.IntN(2) == 0 {
			n.from, n.to = pick(0, 30, 60, 120, 150, 540, 1320, 1410), pick(0, 45, 60, 120, 150, 180, 1020, 1439)
			if n.from == n.to {
				n.to = (n.to + 61) % 1440
			}
			n.every += pick(0, 0, 1, 7)
		}
	}
	if r.IntN(3) > 0 {
		for range 1 + r.IntN(2) {
			n.on = append(n.on, randomDay(r, around))
		}
	}
	if r.IntN(4) == 0 {
		n.months = []time.Month{time.Month(around.m), time.Month(1 + around.m%12)}
	}
	if r.IntN(3) == 0 {
		n.stride, n.unit, n.anchor = 1+r.IntN(3), []string{"day", "week", "month", "year"}[r.IntN(4)], around.add(-r.IntN(40))
		n.complete()
	}
	if r.IntN(5) == 0 {
		n.except = []naiveDay{randomDay(r, around)}
	}
	if r.IntN(5) == 0 {
		n.starting = around.add(-r.IntN(3))
	}
	if r.IntN(5) == 0 {
		n.ending = around.add(1 + r.IntN(3))
	}
	if r.IntN(5) == 0 {
		n.repeat[0] = pick(1, 7, 20, 50)
		n.repeat[1] = min(n.repeat[0]*pick(1, 2, 9, 60), 1440) // less than what is cut off the walk
	}
	return n
}

// complete supplies from the anchor what a stride leaves open.
func (n *naive) complete() {
	if n.unit == "year" && len(n.months) == 0 {
		n.months = []time.Month{time.Month(n.anchor.m)}
	}
	if len(n.on) > 0 || n.unit == "day" {
		return
	}
	if n.unit == "week" {
		w := n.anchor.time().Weekday()
		n.on = []naiveDay{{strings.ToLower(w.String()[:3]), weekdayIn(w)}}
		return
	}
	d := n.anchor.d
	n.on = []naiveDay{{fmt.Sprintf("day %d", d), func(c civil) bool { return c.d == d }}}
}

func randomDay(r *rand.Rand, around civil) naiveDay {
	w := time.Weekday(r.IntN(7))
	name := strings.ToLower(w.String()[:3])
	is := func(x time.Weekday) bool { return x == w }
	working := func(x time.Weekday) bool { return x != time.Saturday && x != time.Sunday }
	k := 1 + r.IntN(4)
	var d naiveDay
	switch r.IntN(10) {
	case 0:
		d = naiveDay{name, weekdayIn(w)}
	case 1:
		d = naiveDay{"fri-mon", weekdayIn(5, 6, 0, 1)}
	case 2:
		d = naiveDay{"weekdays", weekdayIn(1, 2, 3, 4, 5)}
	case 3:
		to := around.add(2)
		d = naiveDay{around.String() + ".." + to.String(), func(c civil) bool { return c == around || c == around.add(1) || c == to }}
	case 4:
		d = naiveDay{fmt.Sprintf("day %d", around.d), func(c civil) bool { return c.d == around.d }}
	case 5:
		d = nth(fmt.Sprintf("%s %s", Ordinal(k), name), k, is)
	case 6:
		d = nth(fmt.Sprintf("%s last %s", Ordinal(k), name), -k, is)
	case 7:
		d = nth(fmt.Sprintf("%s weekday", Ordinal(k)), k, working)
	case 8:
		d = nth("last weekday", -1, working)
	case 9:
		d = nth(fmt.Sprintf("%s last day", Ordinal(k)), -k, func(time.Weekday) bool { return true })
	}
	switch r.IntN(6) {
	case 0:
		return shifted(d, 1+r.IntN(3))
	case 1:
		return shifted(d, -1-r.IntN(3))
	case 2:
		return rolled(d, r.IntN(2) == 0)
	case 3:
		other := naiveDay{"weekdays", weekdayIn(1, 2, 3, 4, 5)}
		return naiveDay{d.text + " and " + other.text, func(c civil) bool { return d.has(c) && other.has(c) }}
	}
	return d
}
