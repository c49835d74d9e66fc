package engine

import (
	"cmp"
	"slices"

	"timegate/core/gate"
	"timegate/core/phrase"
)

// checkBusy is the last of the checks that a start passes: where the program
// still runs, its gate's rule for that decides.
func (e *Engine) checkBusy(gs *gateState, req Request) {
	if len(gs.runs) == 0 || gs.gate.Rules.Busy == gate.BusyBeside {
		e.start(gs, req)
		return
	}
	oldest := gs.runs[0]
	busy := Args{Run: oldest.ID, Span: Span(e.now.Sub(oldest.Began))}
	req.At = 0
	switch gs.gate.Rules.Busy {
	case gate.BusyQueue:
		if gs.Queued != nil {
			e.skip(gs, req, "rules.busy", Reason{CodeOneWaits, busy})
			return
		}
		gs.Queued = req.clone()
		e.wait(gs, req, ForRun, "rules.busy", Reason{CodeBusy, busy})
	case gate.BusyReplace:
		if q := gs.Queued; q != nil {
			e.skip(gs, *q, "rules.busy", Reason{Code: CodeOvertaken})
		}
		gs.Queued = req.clone()
		e.wait(gs, req, ForRun, "rules.busy", Reason{CodeReplaces, busy})
		for _, r := range gs.runs {
			e.stopRun(r, ResultStopped, "rules.busy", Reason{Code: CodeReplaced})
		}
	default:
		e.skip(gs, req, "rules.busy", Reason{CodeBusy, busy})
	}
}

func (e *Engine) start(gs *gateState, req Request) {
	r := &run{gate: gs, RunState: RunState{ID: e.NextRun, As: gs.gate.Account(), Opening: req.Opening, Due: req.Due, Began: e.now, KillAt: never, Try: req.Try,
		ByHand: req.byHand(), Cause: req.Cause}}
	e.NextRun++
	e.runs[r.ID] = r
	gs.runs = append(gs.runs, r)
	handed := req.Cause
	if c := req.Cause; c != nil && c.Event == phrase.Change && req.Kind != Repeat {
		handed = e.takeFiles(gs, req.Opening, *c)
		kept := *handed
		kept.Files = nil
		r.Cause = &kept
	}
	e.decide(Decision{Kind: req.Kind, Gate: gs.name, Opening: req.Opening, Due: req.Due, Run: r.ID,
		Moment: req.Moment, Try: req.Try, Cause: handed, Rule: req.Rule, Reason: req.Why})
}

// enforceLimits asks runs to end that have taken too long, and kills those
// that did not when asked.
func (e *Engine) enforceLimits(gs *gateState) {
	for _, r := range gs.runs {
		switch {
		case r.KillAt <= e.now:
			r.KillAt = never
			e.decide(Decision{Kind: StopRun, Gate: gs.name, Opening: r.Opening, Due: r.Due, Run: r.ID, Signal: "KILL", Rule: "limits.grace",
				Reason: Reason{CodeGrace, Args{Span: Span(gs.gate.Limits.Grace)}}})
		case gs.deadline(r) <= e.now:
			e.stopRun(r, ResultOverran, "limits.longest", Reason{CodeLongest, Args{Span: Span(gs.gate.Limits.Longest)}})
		}
	}
}

// stopRun asks a run to end.
func (e *Engine) stopRun(r *run, result Result, rule string, why Reason) {
	if r.Stopping != "" {
		return
	}
	r.Stopping, r.Why = result, why
	r.KillAt = e.now.Add(r.gate.gate.Limits.Grace)
	e.decide(Decision{Kind: StopRun, Gate: r.gate.name, Opening: r.Opening, Due: r.Due, Run: r.ID, Signal: "TERM", Rule: rule, Reason: why})
}

func (e *Engine) stopGate(name string) {
	gs := e.gates[name]
	if gs == nil || gs.gate == nil {
		return
	}
	e.cancelWaiting(gs, ByHand)
	for _, r := range gs.runs {
		if r.Stopping != "" { // once more: what does not end when asked is killed
			r.KillAt = never
			e.decide(Decision{Kind: StopRun, Gate: gs.name, Opening: r.Opening, Due: r.Due, Run: r.ID, Signal: "KILL", Reason: Reason{Code: CodeStopped}})
			continue
		}
		e.stopRun(r, ResultStopped, "", Reason{Code: CodeStopped})
	}
	e.arm(gs)
}

// runStarted records that the program of a run has started.
func (e *Engine) runStarted(b *RunStarted) {
	r := e.runs[b.Run]
	if r == nil {
		return
	}
	r.Began, r.PID, r.Born = cmp.Or(b.StartedAt, e.now), b.PID, b.Born
	e.arm(r.gate)
	e.occur(Cause{Event: phrase.StartOf, Subject: r.gate.name}, r.gate.name)
}

// runOver records what became of a run.
func (e *Engine) runOver(id int64, body Body) {
	r := e.runs[id]
	if r == nil {
		return
	}
	gs := r.gate
	kind, result, why := r.outcome(body)
	e.decide(Decision{Kind: kind, Gate: gs.name, Opening: r.Opening, Due: r.Due, Run: r.ID, Result: result, Reason: why})
	delete(e.runs, r.ID)
	gs.runs = slices.DeleteFunc(gs.runs, func(o *run) bool { return o == r })
	gs.LastEnd = e.now
	if result == ResultOK {
		gs.LastGood = e.now
	}
	if gs.gate == nil { // a gate that rests: nobody knows its rules
		e.arm(gs)
		e.dropIfOver(gs)
		return
	}
	if q := gs.Queued; q != nil && len(gs.runs) == 0 {
		gs.Queued = nil
		q.Why = Reason{CodeAfter, Args{Run: r.ID, Span: Span(e.now.Sub(q.Due))}}
		e.checkNeeds(gs, *q)
	}
	if result == ResultFailed && gs.Queued == nil && !gs.Gone {
		e.scheduleRetry(gs, r)
	}
	if r.Why.Code == CodeNeedLost && gs.gate.Needs.IfLost == gate.LostAgain && gs.Queued == nil && gs.Needing == nil && len(gs.runs) == 0 && !gs.Gone {
		e.takeUpAgain(gs, r)
	}
	for _, o := range gs.opens {
		if o.phrase().Kind == phrase.AfterSuccess {
			e.findMoment(gs, o, e.now)
		}
	}
	e.arm(gs)
	e.occur(Cause{Event: phrase.EndOf, Subject: gs.name}, gs.name)
	if result == ResultFailed || result == ResultOverran || result == ResultRefused {
		e.occur(Cause{Event: phrase.FailureOf, Subject: gs.name}, gs.name)
	}
	e.dropIfOver(gs)
}

// scheduleRetry lets a run that failed be tried once more after a pause.
func (e *Engine) scheduleRetry(gs *gateState, r *run) {
	if r.Try >= gs.gate.Again.Times || len(gs.runs) > 0 {
		return
	}
	e.tryIn(gs, Request{Opening: r.Opening, Due: r.Due, Kind: Retry, Try: r.Try + 1, Cause: r.Cause})
}

// tryIn lets a further try come after the gate's pause from now.
func (e *Engine) tryIn(gs *gateState, req Request) {
	a := gs.gate.Again
	req.At = e.now.Add(a.Pause)
	gs.Retry = &req
	e.wait(gs, req, ForRetry, "again.times",
		Reason{CodeTryIn, Args{Span: Span(a.Pause), Number: int64(req.Try + 1), Of: int64(a.Times + 1)}})
}

// outcome judges how a run ended.
func (r *run) outcome(body Body) (DecisionKind, Result, Reason) {
	switch b := body.(type) {
	case *StartFailed:
		return End, ResultFailed, Reason{CodeNotStarted, Args{Detail: b.Detail}}
	case *StartUnsafe:
		return Refuse, ResultRefused, Reason{CodeUnsafe, Args{Hazard: &b.Hazard}}
	case *RunLost:
		if r.Stopping == "" || r.Stopping == ResultOverran && r.PID == 0 { // it is not known to have begun at all
			return End, ResultLost, Reason{CodeUnseen, Args{Detail: string(b.Why)}}
		}
	case *RunEnded:
		status := Reason{CodeExit, Args{Status: b.Exit}}
		if b.Signal != "" {
			status = Reason{CodeSignal, Args{Signal: b.Signal}}
		}
		switch {
		case r.Stopping != "":
		case b.Overran && r.gate.gate != nil:
			return End, ResultOverran, Reason{CodeLongest, Args{Span: Span(r.gate.gate.Limits.Longest)}}
		case b.Signal == "" && r.gate.succeeds(b.Exit):
			return End, ResultOK, status
		default:
			return End, ResultFailed, status
		}
	}
	return End, r.Stopping, r.Why // asked to end, even where nobody saw how it did
}

func (gs *gateState) succeeds(exit int) bool {
	if gs.gate == nil {
		return exit == 0
	}
	return gs.gate.Succeeds(exit)
}
