package engine

import (
	"cmp"
	"fmt"
	"slices"

	"timegate/core/calendar"
)

// admit starts a program as soon as its needs hold, its turn has come and no
// run of it is in the way.
func (e *Engine) admit(gs *gateState, req request) {
	if req.byHand() {
		e.place(gs, req)
		return
	}
	why, mends := e.facts.unmet(&gs.gate.Needs, e.now)
	switch wait := gs.gate.Needs.Wait; {
	case why == "":
		e.turn(gs, req)
	case wait == 0:
		e.skip(gs, req, "it needs "+why)
	default:
		if w := gs.waiting; w != nil {
			e.skip(gs, *w, overtaken)
		}
		req.lacked, req.since = why, e.now
		gs.waiting, gs.waitUntil, gs.waitMends = &req, e.now.Add(wait), mends
		e.wait(gs, req, ForNeeds, gs.waitUntil, fmt.Sprintf("it needs %s and waits for that up to %s", why, spanText(wait)))
	}
}

const overtaken = "a later moment has taken its place"

// expect looks again at a start that waits for its needs.
func (e *Engine) expect(gs *gateState) {
	req := gs.waiting
	if req == nil || e.paused {
		return
	}
	why, mends := e.facts.unmet(&gs.gate.Needs, e.now)
	waited := spanText(e.now.Sub(req.since))
	switch {
	case why == "" && e.now <= gs.waitUntil.Add(Tolerance):
		gs.waiting = nil
		req.reason += fmt.Sprintf("; waited %s for %s", waited, req.lacked)
		e.turn(gs, *req)
	case gs.waitUntil <= e.now:
		gs.waiting = nil
		e.skip(gs, *req, fmt.Sprintf("it needs %s, which did not come within %s", cmp.Or(why, req.lacked), spanText(gs.gate.Needs.Wait)))
	default:
		req.lacked, gs.waitMends = why, mends
	}
}

// learn takes over what now holds on the machine, lets starts go on that
// waited for it and ends runs that must not go on without it.
func (e *Engine) learn(f *Facts) {
	idle := e.facts.IdleSince
	e.facts = *f
	e.touched(idle)
	var waiting, losing []*gateState
	for _, gs := range e.gates {
		if gs.waiting != nil {
			waiting = append(waiting, gs)
		}
	}
	for _, r := range e.runs {
		if r.gate.gate.Needs.IfLost == "stop" && !slices.Contains(losing, r.gate) {
			losing = append(losing, r.gate)
		}
	}
	byName := func(a, b *gateState) int { return cmp.Compare(a.gate.Name, b.gate.Name) }
	slices.SortFunc(waiting, byName)
	slices.SortFunc(losing, byName)
	for _, gs := range losing {
		if why, _ := e.facts.unmet(&gs.gate.Needs, e.now); why != "" {
			for _, r := range gs.runs {
				if !r.byHand {
					e.halt(r, Stopped, "what it needs was lost: "+why)
				}
			}
			e.arm(gs)
		}
	}
	for _, gs := range waiting {
		e.expect(gs)
		e.arm(gs)
	}
}

// wait records that a start waits.
func (e *Engine) wait(gs *gateState, req request, what WaitFor, until calendar.Instant, reason string) {
	e.decide(Decision{Kind: Wait, Gate: gs.gate.Name, Opening: req.opening, Due: req.due, Moment: req.moment, Try: req.try,
		For: what, Until: until, Cause: req.cause, Reason: reason})
}

// skip records that a moment passes without a start.
func (e *Engine) skip(gs *gateState, req request, why string) {
	e.decide(Decision{Kind: Skip, Gate: gs.gate.Name, Opening: req.opening, Due: req.due, Moment: req.moment, Try: req.try,
		Result: Skipped, Cause: req.cause, Reason: why})
}
