package engine

import (
	"slices"
	"time"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// Pace says how many programs start at once when the machine has booted or
// somebody logs on, so that it stays usable.
type Pace struct {
	AtOnce  int           `json:"at_once"` // so many, then there is Room; 0 for no limit
	Room    time.Duration `json:"room"`
	Calm    int           `json:"calm"`    // and the pressure must be below this percentage; 0 for any
	Longest time.Duration `json:"longest"` // but no start is held back for longer
}

// latest is when a start comes at the latest that was asked for at an instant: after that,
// even where none is to be held back at all, or time would have to stand still.
func (p *Pace) latest(since calendar.Instant) calendar.Instant {
	return max(since.Add(p.Longest), since+1)
}

// paced reports whether an event is one at which many programs start.
func paced(event phrase.EventKind) bool { return event == phrase.Boot || event == phrase.Logon }

// checkTurn is the second of the checks that a start passes: at a boot or
// logon its turn must have come.
func (e *Engine) checkTurn(gs *gateState, req Request) {
	if req.Cause == nil || !paced(req.Cause.Event) || req.Kind == Repeat || e.Pace.AtOnce == 0 {
		e.checkBusy(gs, req)
		return
	}
	if len(e.held) == 0 && e.paceAllows(e.now, e.now) {
		e.countStart()
		e.checkBusy(gs, req)
		return
	}
	e.NextTurn++
	req.Since, req.At, req.Turn = e.now, e.now.Add(e.Pace.Longest), e.NextTurn
	held := req.clone()
	e.held = append(e.held, heldStart{gs, held})
	gs.Held = append(gs.Held, held)
	e.touch(gs)
	why := Reason{CodeTurn, Args{Count: int64(e.Pace.AtOnce)}}
	if e.Pace.Calm > 0 && e.Facts.Pressure >= e.Pace.Calm {
		why = Reason{CodePressure, Args{Percent: e.Facts.Pressure}}
	}
	e.wait(gs, req, ForPace, "pace", why)
}

// paceAllows reports whether one more program may start at an instant that was asked for
// at another.
func (e *Engine) paceAllows(since, at calendar.Instant) bool {
	p := &e.Pace
	switch {
	case p.AtOnce == 0:
		return true
	case at >= p.latest(since):
		return true
	case e.Batch > 0 && e.Batch < p.AtOnce && at < e.BatchAt.Add(p.Room):
		return true
	case e.Batch > 0 && at < e.BatchAt.Add(p.Room):
		return false
	}
	return p.Calm == 0 || e.Facts.Pressure < p.Calm
}

// countStart counts a start among those that come at once.
func (e *Engine) countStart() {
	if e.Batch == 0 || e.now >= e.BatchAt.Add(e.Pace.Room) {
		e.Batch, e.BatchAt = 0, e.now
	}
	e.Batch++
}

// startHeld starts what was held back and may have started by an instant.
func (e *Engine) startHeld(by calendar.Instant) {
	for len(e.held) > 0 && !e.paused() && e.paceAllows(e.held[0].req.Since, by) {
		h := e.held[0]
		e.held = e.held[1:]
		h.gate.Held = slices.DeleteFunc(h.gate.Held, func(r *Request) bool { return r == h.req })
		e.touch(h.gate)
		e.countStart()
		if h.gate.Gone || h.gate.gate == nil {
			continue
		}
		req := *h.req
		req.Why.Args.Waited = &Waited{For: ForPace, Span: Span(e.now.Sub(req.Since))}
		e.checkBusy(h.gate, req)
		e.arm(h.gate)
	}
}

// turnAt is when a start that is held back may come at the latest, or for
// want of room. Calm comes with new facts.
func (e *Engine) turnAt() calendar.Instant {
	if len(e.held) == 0 || e.paused() {
		return never
	}
	at := e.Pace.latest(e.held[0].req.Since)
	if room := e.BatchAt.Add(e.Pace.Room); e.Batch > 0 && room > e.now {
		at = min(at, room)
	}
	return max(at, e.now)
}

// dropHeld gives up the starts of a gate that were held back.
func (e *Engine) dropHeld(gs *gateState, why Reason) {
	if len(gs.Held) == 0 {
		return
	}
	e.held = slices.DeleteFunc(e.held, func(h heldStart) bool {
		if h.gate == gs {
			e.skip(gs, *h.req, "", why)
		}
		return h.gate == gs
	})
	gs.Held = nil
}
