package inspect

import (
	"fmt"
	"sort"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
)

// Away is a time in which the machine was asleep or off.
type Away struct {
	From, To calendar.Instant
	Off      bool
}

// Absence is when a machine has been away, as far as that is known: from Since
// until Until.
type Absence struct {
	Since, Until calendar.Instant
	Spans        []Away // in order
}

// How the past is asked about a moment: on the same weekday of so many weeks
// or, where fewer of those are known, at the same time of so many days. Away
// in half of them is usual.
const (
	weeksBack   = 8
	daysBack    = 14
	leastKnown  = 3
	daysAhead   = 14
	mostStarts  = 2000 // of an opening are looked at
	daysOfAWeek = 7
)

// CheckAbsence finds openings whose moments fall when the machine is usually
// asleep or off. A gate that wakes it does not mind that it sleeps.
func CheckAbsence(g *gate.Gate, a *Absence) []gate.Finding {
	now := a.Until
	var out []gate.Finding
	for _, o := range g.Opens {
		if o.Plan.Rule == nil || !o.Enabled {
			continue
		}
		starts, missed := 0, 0
		until := now.Add(daysAhead * 24 * time.Hour)
		for at, _, ok := o.Plan.Next(now); ok && at <= until && starts < mostStarts; at, _, ok = o.Plan.Next(at) {
			starts++
			if a.usual(at, o.Plan.Zone, g.Rules.Wake > 0) {
				missed++
			}
		}
		if missed == 0 || missed*2 < starts {
			continue
		}
		f := gate.Finding{Severity: gate.Warning, Code: "usually-away",
			Message: fmt.Sprintf("opening %s (%s): the machine is usually asleep or off at %d of its next %d moments", o.Name, o.When, missed, starts),
			Remedy:  `choose another time, let wake in [rules] wake it from sleep, or set missed = "once" to catch up afterwards`}
		if g.Rules.Missed == gate.MissedOnce {
			f.Severity, f.Remedy = gate.Note, "it is caught up with afterwards, once"
		}
		out = append(out, f)
	}
	return out
}

// Odds is how often a machine was away at the same time before.
type Odds struct {
	Away, Known int
	Day         string // the weekday, or "" for all days
}

// Usual reports whether it is usually away then.
func (o Odds) Usual() bool { return o.Known >= leastKnown && o.Away*2 >= o.Known }

// Text says how often it was away.
func (o Odds) Text() string {
	if o.Day == "" {
		return fmt.Sprintf("%d of the last %d days", o.Away, o.Known)
	}
	return fmt.Sprintf("%d of the last %d %ss", o.Away, o.Known, o.Day)
}

// usual reports whether the machine is usually away at an instant that is to
// come.
func (a *Absence) usual(at calendar.Instant, zone *calendar.Zone, woken bool) bool {
	return a.Odds(at, zone, woken).Usual()
}

// Odds returns how often the machine was away at the time of an instant that is to come.
func (a *Absence) Odds(at calendar.Instant, zone *calendar.Zone, woken bool) Odds {
	return a.odds(at, zone, func(then calendar.Instant) bool { return a.away(then, woken) })
}

// odds returns how often something was so at the time of an instant that is to come.
func (a *Absence) odds(at calendar.Instant, zone *calendar.Zone, so func(then calendar.Instant) bool) Odds {
	for _, back := range []struct {
		step  calendar.Day
		count int
	}{{daysOfAWeek, weeksBack}, {1, daysBack}} {
		known, away := 0, 0
		day, ms := zone.Local(at)
		for known < back.count {
			day -= back.step
			then, _ := zone.Resolve(day, ms)
			if a.Since == 0 || then < a.Since { // 0: nothing is known
				break
			}
			if then >= a.Until {
				continue
			}
			known++
			if so(then) {
				away++
			}
		}
		if known >= leastKnown {
			o := Odds{Away: away, Known: known}
			if back.step == daysOfAWeek {
				o.Day = at.Time().In(zone.Location()).Weekday().String()
			}
			return o
		}
	}
	return Odds{}
}

// away reports whether the machine was away at an instant; a machine that
// would have been woken was not asleep.
func (a *Absence) away(at calendar.Instant, woken bool) bool {
	i := sort.Search(len(a.Spans), func(i int) bool { return a.Spans[i].To > at })
	return i < len(a.Spans) && a.Spans[i].From <= at && (a.Spans[i].Off || !woken)
}
