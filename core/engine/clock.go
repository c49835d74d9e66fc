package engine

import "timegate/core/calendar"

// setClock computes every due anew from the time that now holds. What is
// elapsed time, such as a delay that is under way, goes on as if nothing had
// happened.
func (e *Engine) setClock(by calendar.Instant) {
	e.changed = true
	shift(by, &e.Ahead, &e.BatchAt, &e.Facts.IdleSince)
	if e.Hold != nil {
		shift(by, &e.Hold.Since)
	}
	for _, h := range e.held {
		shift(by, &h.req.Since, &h.req.At)
	}
	for _, gs := range e.gates {
		shift(by, &gs.LastGood, &gs.LastEnd)
		gs.LastGood = min(gs.LastGood, e.now)
		for _, req := range []*Request{gs.Queued, gs.Retry, gs.Needing} {
			if req != nil {
				shift(by, &req.Since, &req.At, &req.Mends)
			}
		}
		if gs.gate != nil {
			for _, o := range gs.opens {
				e.setClockFor(gs, o, by)
			}
		}
		for _, r := range gs.runs {
			shift(by, &r.KillAt, &r.Began)
			r.Began = min(r.Began, e.now)
		}
		e.arm(gs)
	}
}

func (e *Engine) setClockFor(gs *gateState, o *opening, by calendar.Instant) {
	if o.onEvent() {
		shift(by, &o.Moment, &o.Repeat, &o.Base, &o.LastDue, &o.Settles)
		return
	}
	if o.Moment != never && o.Moment <= e.now {
		return // set forward over it: decided as late or missed
	}
	e.findMoment(gs, o, e.now)
	if o.Base > e.now {
		o.Base, o.Repeat = 0, never
	} else if o.Base != 0 {
		o.findRepeat(e.now)
	}
}

// shift moves instants that are known.
func shift(by calendar.Instant, list ...*calendar.Instant) {
	for _, at := range list {
		if *at != 0 && *at != never {
			*at += by
		}
	}
}
