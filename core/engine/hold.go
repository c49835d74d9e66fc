package engine

import (
	"slices"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// Hold is that the machine waits, before it sleeps or shuts down, until the
// programs have ended that are to run before it.
type Hold struct {
	Event phrase.EventKind `json:"event"`
	Since calendar.Instant `json:"since"`
}

// releaseMachine lets the machine sleep or shut down once nothing of what it
// waits for is left: neither a run, nor a start that waits, nor a moment that
// comes after a delay.
func (e *Engine) releaseMachine() {
	h := e.Hold
	if h == nil || e.holds() {
		return
	}
	e.Hold, e.changed = nil, true
	e.decide(Decision{Kind: Release, Cause: &Cause{Event: h.Event}, Reason: Reason{CodeMachineWaited, Args{Event: string(h.Event), Span: Span(e.now.Sub(h.Since))}}})
}

// holds reports whether the machine must still wait.
func (e *Engine) holds() bool {
	h := e.Hold
	of := func(c *Cause, due calendar.Instant) bool { return c != nil && c.Event == h.Event && due >= h.Since }
	for _, r := range e.runs {
		if of(r.Cause, r.Due) {
			return true
		}
	}
	for _, l := range e.allListenersTo(h.Event) {
		o, gs := l.opening, l.gate
		if o.Moment != never && of(o.Cause, o.Moment) {
			return true
		}
		for _, req := range []*Request{gs.Queued, gs.Retry, gs.Needing} {
			if req != nil && of(req.Cause, req.Due) {
				return true
			}
		}
	}
	return slices.ContainsFunc(e.held, func(h heldStart) bool { return of(h.req.Cause, h.req.Due) })
}

// allListenersTo returns the openings that listen to an event, whatever name
// they give.
func (e *Engine) allListenersTo(event phrase.EventKind) []listener {
	e.index()
	var out []listener
	for s, list := range e.listeners {
		if s.event == event {
			out = append(out, list...)
		}
	}
	return out
}
