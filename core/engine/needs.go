package engine

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
)

// DesktopWait is how long a program on a desktop waits at least for that: a
// person is logged on some time before the desktop is there.
const DesktopWait = 2 * time.Minute

// patience is how long a gate waits for a need; no key stands for one that
// came too late.
func patience(g *gate.Gate, key string) time.Duration {
	if g.As.Desktop && (key == keyDesktop || key == "") {
		return max(g.Needs.Wait, DesktopWait)
	}
	return g.Needs.Wait
}

// admit starts a program as soon as its needs hold, its turn has come and no
// run of it is in the way.
func (e *Engine) admit(gs *gateState, req request) {
	if req.byHand() {
		e.place(gs, req)
		return
	}
	missing := e.facts.unmet(gs.gate, e.now)
	switch wait := patience(gs.gate, missing.key); {
	case missing.what == "":
		e.turn(gs, req)
	case wait == 0:
		e.skip(gs, req, missing.key, "it needs "+missing.what)
	default:
		if w := gs.waiting; w != nil {
			e.skip(gs, *w, "needs.wait", overtaken)
		}
		req.lacked, req.since = missing.what, e.now
		gs.waiting, gs.waitUntil, gs.waitMends = &req, e.now.Add(wait), missing.mends
		e.wait(gs, req, ForNeeds, gs.waitUntil, missing.key, fmt.Sprintf("it needs %s and waits for that up to %s", missing.what, spanText(wait)))
	}
}

const overtaken = "a later moment has taken its place"

// expect looks again at a start that waits for its needs.
func (e *Engine) expect(gs *gateState) {
	req := gs.waiting
	if req == nil || e.paused {
		return
	}
	missing := e.facts.unmet(gs.gate, e.now)
	waited := spanText(e.now.Sub(req.since))
	switch {
	case missing.what == "" && e.now <= gs.waitUntil.Add(Tolerance):
		gs.waiting = nil
		req.reason += fmt.Sprintf("; waited %s for %s", waited, req.lacked)
		e.turn(gs, *req)
	case gs.waitUntil <= e.now:
		gs.waiting = nil
		rule := "needs.wait"
		if patience(gs.gate, missing.key) > gs.gate.Needs.Wait {
			rule = keyDesktop
		}
		e.skip(gs, *req, rule, fmt.Sprintf("it needs %s, which did not come within %s", cmp.Or(missing.what, req.lacked), spanText(patience(gs.gate, missing.key))))
	default:
		req.lacked, gs.waitMends = missing.what, missing.mends
	}
}

// WaitsForDesktop reports whether a start waits for somebody's desktop.
func (e *Engine) WaitsForDesktop() bool {
	for _, gs := range e.gates {
		if gs.waiting != nil && gs.gate.As.Desktop && e.facts.unmet(gs.gate, e.now).key == keyDesktop {
			return true
		}
	}
	return false
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
		if missing := e.facts.unmet(gs.gate, e.now); missing.what != "" {
			for _, r := range gs.runs {
				if !r.byHand {
					e.halt(r, Stopped, "needs.if_lost", "what it needs was lost: "+missing.what)
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
func (e *Engine) wait(gs *gateState, req request, what WaitFor, until calendar.Instant, rule, reason string) {
	e.decide(Decision{Kind: Wait, Gate: gs.gate.Name, Opening: req.opening, Due: req.due, Moment: req.moment, Try: req.try,
		For: what, Until: until, Cause: req.cause, Rule: rule, Reason: reason})
}

// skip records that a moment passes without a start.
func (e *Engine) skip(gs *gateState, req request, rule, why string) {
	e.decide(Decision{Kind: Skip, Gate: gs.gate.Name, Opening: req.opening, Due: req.due, Moment: req.moment, Try: req.try,
		Result: Skipped, Cause: req.cause, Rule: rule, Reason: why})
}
