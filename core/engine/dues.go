package engine

import (
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// Tolerance is how late a tick may bring a moment that still counts as kept.
const Tolerance = time.Minute

// dayLong is longer than any day, clock changes included.
const dayLong = 25 * time.Hour

// findMoment finds an opening's next moment after an instant. What events
// bring stays as it is.
func (e *Engine) findMoment(gs *gateState, o *opening, after calendar.Instant) {
	switch {
	case o.onEvent():
		return
	case !e.on(gs.gate, o):
		o.Moment = never
		return
	case o.phrase().Kind == phrase.AfterSuccess:
		e.findAfterSuccess(gs, o)
		return
	}
	if o.LastDue > after && o.LastDue.Sub(after) <= dayLong {
		after = o.LastDue
	}
	o.Moment = never
	if next, ok := o.plan().NextMoment(after); ok {
		o.Moment = next
	}
}

// afterSkip is how long an opening "after success" rests at least when a start
// of it was skipped: what was in its way may stay there for a while.
const afterSkip = time.Minute

// findAfterSuccess: not while it runs or waits to, and not sooner after a
// failure, or a start that was skipped, than its gate wants.
func (e *Engine) findAfterSuccess(gs *gateState, o *opening) {
	o.Moment = never
	if len(gs.runs) > 0 || gs.Queued != nil || gs.Needing != nil || gs.Retry != nil || len(gs.Held) > 0 {
		return
	}
	due, ok := o.plan().SinceSuccess(gs.LastGood, gs.LastGood != 0, e.now)
	if !ok {
		return
	}
	if gs.LastEnd > gs.LastGood {
		due = max(due, gs.LastEnd.Add(gs.gate.Again.Pause))
	}
	if o.LastDue > gs.LastGood && o.LastDue > gs.LastEnd {
		due = max(due, o.LastDue.Add(max(gs.gate.Again.Pause, afterSkip)))
	}
	o.Moment = due
}

// findRepeat finds an opening's next repeat after an instant.
func (o *opening) findRepeat(after calendar.Instant) {
	o.Repeat = never
	if o.Base == 0 {
		return
	}
	if next, ok := o.plan().NextRepeat(o.Base, max(after, o.LastDue)); ok {
		o.Repeat = next
	}
}

// openDue decides every due of a gate up to now.
func (e *Engine) openDue(gs *gateState) {
	e.settleEvents(gs, e.now)
	e.passMissed(gs)
	e.passTogether(gs)
	for {
		due := gs.earliest()
		if due > e.now {
			break
		}
		gs.Retry = nil // a new moment takes the place of another try
		e.openAt(gs, due)
	}
	if gs.Retry != nil && gs.Retry.At < e.now.Add(-Tolerance) {
		// It was slept through: it comes its pause later, so that a moment of the return,
		// such as a resume, goes before it.
		e.tryIn(gs, *gs.Retry)
	}
	if gs.Retry != nil && gs.Retry.At <= e.now {
		req := *gs.Retry
		gs.Retry = nil
		req.Rule = "again.times"
		req.Why = Reason{CodeTry, Args{Number: int64(req.Try + 1), Of: int64(gs.gate.Again.Times + 1)}}
		e.checkNeeds(gs, req)
	}
}

// earliest returns the first due of a gate's openings.
func (gs *gateState) earliest() calendar.Instant {
	due := calendar.Instant(never)
	for _, o := range gs.opens {
		due = min(due, o.due())
	}
	return due
}

// missedCode says why dues went by, from the event that let it be noticed.
func (e *Engine) missedCode() Code {
	switch b := e.body.(type) {
	case *Begin:
		return CodeNoKeeper
	case *ClockSet:
		if b.By >= calendar.Instant(Tolerance.Milliseconds()) {
			return CodeForward
		}
	}
	return CodeAsleep
}

// passMissed passes over what was slept or off through. Where the gate wants
// it, one start catches up for all of it, unless a start comes now anyway.
func (e *Engine) passMissed(gs *gateState) {
	late := e.now.Add(-Tolerance)
	if gs.earliest() >= late {
		return
	}
	before, code := len(e.out), e.missedCode()
	for _, o := range gs.opens {
		e.passOver(gs, o, late-1, ResultMissed, code, true)
	}
	if gs.gate.Rules.Missed != gate.MissedOnce || gs.earliest() <= e.now {
		return
	}
	// The latest of them is the one that is caught up; the others stay missed.
	last := -1
	var n int64
	for i := before; i < len(e.out); i++ {
		n += max(e.out[i].Count, 1)
		if last < 0 || e.out[i].Due >= e.out[last].Due {
			last = i
		}
	}
	if last < 0 {
		return
	}
	if e.now.Sub(e.out[last].Due) > gs.gate.Rules.MissedWithin {
		for i := before; i < len(e.out); i++ {
			e.out[i].Rule = "rules.missed_within"
		}
		return
	}
	d := e.out[last]
	if d.Count > 1 {
		rest := &e.out[last]
		rest.Count, rest.Due, rest.Args = d.Count-1, d.earlier, Args{}
		if rest.Count > 1 {
			rest.Args = Args{Count: rest.Count, Span: Span(d.earlier.Sub(d.first))}
		} else {
			rest.Count = 0
		}
	} else {
		e.out = append(e.out[:last], e.out[last+1:]...)
	}
	why := Reason{CodeCatchUp, Args{Count: n, Span: Span(e.now.Sub(d.Due))}}
	e.checkNeeds(gs, Request{Opening: d.Opening, Due: d.Due, Kind: CatchUp, Moment: d.Moment, Cause: d.Cause, Rule: "rules.missed", Why: why})
}

// passTogether passes over dues of an opening that come at once, because the keeper comes
// to them late: there is one start for all of them, that of the last, unless starts are to
// be beside each other.
func (e *Engine) passTogether(gs *gateState) {
	if gs.gate.Rules.Busy == gate.BusyBeside {
		return
	}
	for _, o := range gs.opens {
		if o.due() >= e.now || o.phrase().Kind == phrase.AfterSuccess {
			continue
		}
		before, last := o.OpeningState, calendar.Instant(never)
		for due := o.due(); due <= e.now; due = o.due() {
			last = due
			if o.LastDue = max(o.LastDue, due); o.Moment == due {
				o.Base = due
			}
			e.findNext(gs, o, due)
		}
		o.OpeningState = before
		e.passOver(gs, o, last-1, ResultSkipped, CodeTogether, true)
	}
}

// openAt makes one start of all the openings of a gate that are due at an
// instant.
func (e *Engine) openAt(gs *gateState, due calendar.Instant) {
	var first *opening
	req := Request{Due: due, Kind: Repeat}
	for _, o := range gs.opens {
		if o.Moment != due && o.Repeat != due {
			continue
		}
		if first == nil || o.Moment == due && !req.Moment {
			first = o
		}
		if o.Moment == due {
			req.Kind, req.Moment = Start, true
			o.Base = due
		}
		o.LastDue = max(o.LastDue, due)
	}
	req.Opening, req.Cause = first.Name, first.Cause
	req.Why = Reason{CodeDue, Args{Phrase: first.Phrase}}
	if req.Cause != nil && req.Cause.Count > 1 {
		req.Why.Args.Count, req.Why.Args.Kind = req.Cause.Count, req.Cause.Event
	}
	if req.Kind == Repeat {
		number := int64(due-first.Base) / first.phrase().Repeat.Every.Milliseconds()
		req.Why = Reason{CodeRepeat, Args{Phrase: first.Phrase, Number: number}}
	}
	e.checkNeeds(gs, req)
	for _, o := range gs.opens {
		if o.Moment == due || o.Repeat == due {
			e.findNext(gs, o, due)
		}
	}
}

// findNext finds what comes after a due that was decided.
func (e *Engine) findNext(gs *gateState, o *opening, due calendar.Instant) {
	if o.Moment <= due {
		o.Moment = never
		e.findMoment(gs, o, due)
	}
	o.findRepeat(due)
}

// passOver records the dues of an opening up to and including an instant as
// not kept, in one decision.
func (e *Engine) passOver(gs *gateState, o *opening, until calendar.Instant, result Result, code Code, begins bool) {
	if o.phrase().Kind == phrase.AfterSuccess {
		return // it stays due
	}
	first, last, earlier, n := calendar.Instant(0), calendar.Instant(0), calendar.Instant(0), int64(0)
	moment := false
	for {
		due := o.due()
		if due > until {
			break
		}
		if first == 0 {
			first = due
		}
		earlier, last = last, due
		o.LastDue = max(o.LastDue, due)
		isMoment := o.Moment == due
		if isMoment && begins {
			o.Base, moment = due, true
		}
		if isMoment && o.phrase().Repeat == nil {
			// Nothing depends on the single dues: leap to the end.
			if more := o.plan().Count(due, until); more > 1 {
				n += more - 1
				if prev, _, ok := o.plan().Prev(until + 1); ok {
					earlier, last, due = due, prev, prev
					if before, _, ok := o.plan().Prev(prev); ok {
						earlier = before
					}
					o.LastDue = max(o.LastDue, due)
				}
			}
		}
		n++
		if isMoment {
			o.Moment = never
			e.findMoment(gs, o, due)
		}
		o.findRepeat(due)
	}
	if n == 0 {
		return
	}
	rule := ""
	if result == ResultMissed {
		rule = "rules.missed"
	}
	d := Decision{Kind: Skip, Gate: gs.name, Opening: o.Name, Due: last, Result: result, Moment: moment, Cause: o.Cause, Rule: rule,
		Reason: Reason{Code: code}, first: first, earlier: earlier}
	if n > 1 {
		d.Count, d.Args.Count, d.Args.Span = n, n, Span(last.Sub(first))
	}
	e.decide(d)
}
