package engine

import (
	"cmp"
	"slices"
	"time"

	"timegate/core/gate"
)

// DesktopWait is how long a program on a desktop waits at least for that: a
// person is logged on some time before the desktop is there.
const DesktopWait = 2 * time.Minute

// waitFor is how long a gate waits for a need; no key stands for one that
// came too late.
func waitFor(g *gate.Gate, key string) time.Duration {
	if g.As.Desktop && (key == keyDesktop || key == "") {
		return max(g.Needs.Wait, DesktopWait)
	}
	return g.Needs.Wait
}

// checkNeeds is the first of the checks that a start passes: its needs must
// hold. Its turn and a run that is in the way come after. A start by hand asks
// for none but the last.
func (e *Engine) checkNeeds(gs *gateState, req Request) {
	if req.byHand() {
		e.checkBusy(gs, req)
		return
	}
	missing := e.Facts.unmet(gs.gate, e.now)
	switch wait := waitFor(gs.gate, missing.key); {
	case missing.need == nil:
		e.checkTurn(gs, req)
	case wait == 0:
		e.skip(gs, req, missing.key, Reason{CodeUnmet, Args{Need: missing.need}})
	default:
		e.waitForNeeds(gs, req, missing, wait, missing.key)
	}
}

// waitForNeeds lets a start wait for what is missing, in place of one that waits already.
func (e *Engine) waitForNeeds(gs *gateState, req Request, missing lack, wait time.Duration, rule string) {
	if w := gs.Needing; w != nil {
		e.skip(gs, *w, "needs.wait", Reason{Code: CodeOvertaken})
	}
	req.Lacks, req.Since, req.At, req.Mends = missing.need, e.now, e.now.Add(wait), missing.mends
	gs.Needing = req.clone()
	e.needing(gs)
	e.wait(gs, req, ForNeeds, rule, Reason{CodeNeeds, Args{Need: missing.need, Span: Span(wait)}})
}

// ruleLost is the key that says what a need that is lost means for a run.
const ruleLost = "needs.if_lost"

// lostWait is how long a run that its needs ended waits for them, where its gate does not
// say how long a start waits.
const lostWait = 24 * time.Hour

// takeUpAgain starts a run once more that ended because a need was lost: at once where all
// holds again already.
func (e *Engine) takeUpAgain(gs *gateState, r *run) {
	req := Request{Opening: r.Opening, Due: r.Due, Kind: Retry, Try: r.Try, Cause: r.Cause, Rule: ruleLost, Why: Reason{CodeFoundAgain, Args{Run: r.ID}}}
	missing := e.Facts.unmet(gs.gate, e.now)
	if missing.need == nil {
		e.checkTurn(gs, req)
		return
	}
	e.waitForNeeds(gs, req, missing, cmp.Or(gs.gate.Needs.Wait, lostWait), ruleLost)
}

// needing notes whether a gate waits for its needs.
func (e *Engine) needing(gs *gateState) {
	if gs.Needing == nil {
		delete(e.needers, gs)
	} else {
		e.needers[gs] = struct{}{}
	}
}

// recheckNeeds looks again at a start that waits for its needs.
func (e *Engine) recheckNeeds(gs *gateState) {
	req := gs.Needing
	if req == nil || e.paused() || gs.gate == nil {
		return
	}
	missing := e.Facts.unmet(gs.gate, e.now)
	switch {
	case missing.need == nil && e.now <= req.At.Add(Tolerance):
		gs.Needing = nil
		e.needing(gs)
		req.Why.Args.Waited = &Waited{For: ForNeeds, Span: Span(e.now.Sub(req.Since)), Need: req.Lacks}
		e.checkTurn(gs, *req)
	case req.At <= e.now:
		gs.Needing = nil
		e.needing(gs)
		rule := "needs.wait"
		if waitFor(gs.gate, missing.key) > gs.gate.Needs.Wait {
			rule = keyDesktop
		}
		if req.Rule == ruleLost && gs.gate.Needs.Wait == 0 {
			rule = ruleLost
		}
		e.skip(gs, *req, rule, Reason{CodeNeverCame, Args{Need: cmp.Or(missing.need, req.Lacks), Span: Span(req.At.Sub(req.Since))}})
	default:
		req.Lacks, req.Mends = missing.need, missing.mends
	}
}

// updateFacts records what now holds on the machine, lets starts go on that
// waited for it and ends runs that must not go on without it.
func (e *Engine) updateFacts(f *Facts) {
	idle := e.Facts.IdleSince
	e.Facts, e.changed = f.Clone(), true
	e.idleChanged(idle)
	var waiting, losing []*gateState
	for gs := range e.needers {
		waiting = append(waiting, gs)
	}
	for _, r := range e.runs {
		if gs := r.gate; gs.gate != nil && gs.gate.Needs.IfLost != gate.LostCarryOn && !slices.Contains(losing, gs) {
			losing = append(losing, gs)
		}
	}
	byName := func(a, b *gateState) int { return cmp.Compare(a.name, b.name) }
	slices.SortFunc(waiting, byName)
	slices.SortFunc(losing, byName)
	for _, gs := range losing {
		if missing := e.Facts.unmet(gs.gate, e.now); missing.need != nil {
			for _, r := range gs.runs {
				if !r.ByHand {
					e.stopRun(r, ResultStopped, ruleLost, Reason{CodeNeedLost, Args{Need: missing.need}})
				}
			}
			e.arm(gs)
		}
	}
	for _, gs := range waiting {
		e.recheckNeeds(gs)
		e.arm(gs)
	}
}

// wait records that a start waits, at most until its At.
func (e *Engine) wait(gs *gateState, req Request, what WaitKind, rule string, why Reason) {
	e.decide(Decision{Kind: Wait, Gate: gs.name, Opening: req.Opening, Due: req.Due, Moment: req.Moment, Try: req.Try,
		For: what, Until: req.At, Cause: req.Cause, Rule: rule, Reason: why})
}

// skip records that a moment passes without a start.
func (e *Engine) skip(gs *gateState, req Request, rule string, why Reason) {
	e.decide(Decision{Kind: Skip, Gate: gs.name, Opening: req.Opening, Due: req.Due, Moment: req.Moment, Try: req.Try,
		Result: ResultSkipped, Cause: req.Cause, Rule: rule, Reason: why})
}

// Attention is what the engine must be told of while something waits for it,
// and what would cost too much otherwise: nothing tells when a desktop is
// there, or the machine calm.
type Attention struct {
	Desktops bool
	Pressure bool
}

// Attention returns what a start waits for now.
func (e *Engine) Attention() Attention {
	a := Attention{Pressure: len(e.held) > 0 && e.Pace.Calm > 0}
	for gs := range e.needers {
		if l := gs.Needing.Lacks; l != nil && l.Kind == NeedDesktop {
			a.Desktops = true
		}
	}
	return a
}
