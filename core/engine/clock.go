package engine

import (
	"timegate/core/calendar"
	"timegate/core/phrase"
)

// clockSet computes every due anew from the time that now holds. What is
// elapsed time, such as a delay that is under way, goes on as if nothing had
// happened.
func (e *Engine) clockSet(by calendar.Instant) {
	for _, at := range []*calendar.Instant{&e.batchAt, &e.facts.IdleSince} {
		shift(at, by)
	}
	for i := range e.held {
		shift(&e.held[i].since, by)
	}
	for _, gs := range e.gates {
		for _, at := range []*calendar.Instant{&gs.retryAt, &gs.waitUntil, &gs.waitMends, &gs.lastGood, &gs.lastEnd} {
			shift(at, by)
		}
		gs.lastGood = min(gs.lastGood, e.now)
		for _, o := range gs.opens {
			e.clockSetFor(gs, o, by)
		}
		for _, r := range gs.runs {
			shift(&r.killAt, by)
			shift(&r.began, by)
			r.began = min(r.began, e.now)
		}
		e.arm(gs)
	}
}

func (e *Engine) clockSetFor(gs *gateState, o *opening, by calendar.Instant) {
	if o.Plan.Phrase.Kind == phrase.Event {
		for _, at := range []*calendar.Instant{&o.moment, &o.repeat, &o.base, &o.lastDue, &o.ripe} {
			shift(at, by)
		}
		return
	}
	if o.moment != never && o.moment <= e.now {
		return // set forward over it: decided as late or missed
	}
	e.schedule(gs, o, e.now)
	if o.base > e.now {
		o.base, o.repeat = 0, never
	} else if o.base != 0 {
		o.repeat = nextRepeat(o, e.now)
	}
}

// shift moves an instant that is known.
func shift(at *calendar.Instant, by calendar.Instant) {
	if *at != 0 && *at != never {
		*at += by
	}
}
