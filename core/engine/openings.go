package engine

import (
	"fmt"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// open decides every due of a gate up to now.
func (e *Engine) open(gs *gateState) {
	e.ripen(gs, e.now)
	e.missed(gs)
	for {
		due := gs.earliest()
		if due > e.now {
			break
		}
		gs.retry = nil // a new moment takes the place of another try
		e.openAt(gs, due)
	}
	if gs.retry != nil && gs.retryAt <= e.now {
		req := *gs.retry
		gs.retry = nil
		req.rule, req.reason = "again.times", fmt.Sprintf("try %d of %d", req.try+1, gs.gate.Again.Times+1)
		e.admit(gs, req)
	}
}

// earliest returns the first due of a gate's openings.
func (gs *gateState) earliest() calendar.Instant {
	due := calendar.Instant(never)
	for _, o := range gs.opens {
		due = min(due, o.moment, o.repeat)
	}
	return due
}

// missedWhy says why dues went by, from the event that let it be noticed.
func (e *Engine) missedWhy() string {
	switch {
	case e.event == Begin:
		return "no keeper ran"
	case e.event == ClockSet && e.setBy >= calendar.Instant(Tolerance.Milliseconds()):
		return "the clock was set forward over it"
	}
	return "the machine was asleep or stood still"
}

// missed passes over what was slept or off through. Where the gate wants it,
// one start catches up for all of it, unless a start comes now anyway.
func (e *Engine) missed(gs *gateState) {
	late := e.now.Add(-Tolerance)
	if gs.earliest() >= late {
		return
	}
	before, why := len(e.out), e.missedWhy()
	for _, o := range gs.opens {
		e.passOver(gs, o, late-1, Missed, why, true)
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
	if last < 0 || e.now.Sub(e.out[last].Due) > gs.gate.Rules.MissedWithin {
		return
	}
	d := e.out[last]
	if d.Count > 1 {
		rest := &e.out[last]
		rest.Count, rest.Due, rest.Reason = d.Count-1, d.earlier, why
		if rest.Count > 1 {
			rest.Reason = manyDues(why, rest.Count, d.earlier.Sub(d.first))
		} else {
			rest.Count = 0
		}
	} else {
		e.out = append(e.out[:last], e.out[last+1:]...)
	}
	reason := fmt.Sprintf("caught up for %d missed, the last %s ago", n, spanText(e.now.Sub(d.Due)))
	e.admit(gs, request{opening: d.Opening, due: d.Due, kind: CatchUp, moment: d.Moment, cause: d.Cause, rule: "rules.missed", reason: reason})
}

// openAt makes one start of all the openings of a gate that are due at an
// instant.
func (e *Engine) openAt(gs *gateState, due calendar.Instant) {
	var first *opening
	req := request{due: due, kind: Repeat}
	for _, o := range gs.opens {
		if o.moment != due && o.repeat != due {
			continue
		}
		if first == nil || o.moment == due && !req.moment {
			first = o
		}
		if o.moment == due {
			req.kind, req.moment = Start, true
			o.base = due
		}
		o.lastDue = max(o.lastDue, due)
	}
	req.opening, req.cause = first.Name, first.cause
	req.reason = "due: " + first.When
	if req.cause != nil && req.cause.Count > 1 {
		noun := "files"
		if req.cause.Event == phrase.Line {
			noun = "lines"
		}
		req.reason += fmt.Sprintf("; %d %s", req.cause.Count, noun)
	}
	if req.kind == Repeat {
		req.reason = fmt.Sprintf("repeat %d: %s", (due-first.base)/calendar.Instant(first.Plan.Phrase.Repeat.Every.Milliseconds()), first.When)
	}
	e.admit(gs, req)
	for _, o := range gs.opens {
		if o.moment == due || o.repeat == due {
			e.follow(gs, o, due)
		}
	}
}

// follow finds what comes after a due that was decided.
func (e *Engine) follow(gs *gateState, o *opening, due calendar.Instant) {
	if o.moment <= due {
		e.schedule(gs, o, due)
	}
	o.repeat = never
	if o.base != 0 {
		o.repeat = nextRepeat(o, due)
	}
}

// passOver records the dues of an opening up to and including an instant as
// not kept, in one decision.
func (e *Engine) passOver(gs *gateState, o *opening, until calendar.Instant, result Result, why string, begins bool) {
	if o.Plan.Phrase.Kind == phrase.AfterSuccess {
		return // it stays due
	}
	first, last, earlier, n := calendar.Instant(0), calendar.Instant(0), calendar.Instant(0), int64(0)
	moment := false
	for {
		due := min(o.moment, o.repeat)
		if due > until {
			break
		}
		if first == 0 {
			first = due
		}
		earlier, last = last, due
		o.lastDue = max(o.lastDue, due)
		isMoment := o.moment == due
		if isMoment && begins {
			o.base, moment = due, true
		}
		if !begins || o.Plan.Phrase.Repeat == nil {
			// Nothing depends on the single dues: leap to the end.
			if more := o.Plan.Count(due, until); isMoment && o.Plan.Phrase.Repeat == nil && more > 1 {
				n += more - 1
				if prev, _, ok := o.Plan.Prev(until + 1); ok {
					earlier, last, due = due, prev, prev
					if before, _, ok := o.Plan.Prev(prev); ok {
						earlier = before
					}
					o.lastDue = max(o.lastDue, due)
				}
			}
		}
		n++
		if isMoment {
			o.moment = never
			e.schedule(gs, o, due)
		}
		o.repeat = never
		if o.base != 0 {
			o.repeat = nextRepeat(o, due)
		}
	}
	if n == 0 {
		return
	}
	rule := ""
	if result == Missed {
		rule = "rules.missed"
	}
	d := Decision{Kind: Skip, Gate: gs.gate.Name, Opening: o.Name, Due: last, Result: result, Moment: moment, Cause: o.cause, Rule: rule, Reason: why, first: first, earlier: earlier}
	if n > 1 {
		d.Count, d.Reason = n, manyDues(why, n, last.Sub(first))
	}
	e.decide(d)
}

// manyDues words a decision that stands for several dues.
func manyDues(why string, n int64, within time.Duration) string {
	return fmt.Sprintf("%s: %d dues in %s", why, n, phrase.FormatSpan(within))
}

// place starts the program, unless it still runs: then its gate's rule for
// that decides.
func (e *Engine) place(gs *gateState, req request) {
	if len(gs.runs) == 0 || gs.gate.Rules.Busy == gate.BusyBeside {
		e.start(gs, req)
		return
	}
	oldest := gs.runs[0]
	still := fmt.Sprintf("run %d is still going after %s", oldest.id, spanText(e.now.Sub(oldest.began)))
	switch gs.gate.Rules.Busy {
	case gate.BusyQueue:
		if gs.queued != nil {
			e.skip(gs, req, "rules.busy", still+", and one start waits already")
			return
		}
		gs.queued = &req
		e.wait(gs, req, ForRun, 0, "rules.busy", still)
	case gate.BusyReplace:
		if q := gs.queued; q != nil {
			e.skip(gs, *q, "rules.busy", overtaken)
		}
		gs.queued = &req
		e.wait(gs, req, ForRun, 0, "rules.busy", still+" and is replaced")
		for _, r := range gs.runs {
			e.halt(r, Stopped, "rules.busy", "replaced by a new start")
		}
	default:
		e.skip(gs, req, "rules.busy", still)
	}
}

// spanText leaves out milliseconds where they say nothing.
func spanText(d time.Duration) string {
	if d >= 10*time.Second {
		d = d.Truncate(time.Second)
	}
	return phrase.FormatSpan(d)
}

func (e *Engine) start(gs *gateState, req request) {
	r := &run{id: e.nextRun, gate: gs, opening: req.opening, due: req.due, began: e.now, killAt: never, try: req.try,
		byHand: req.byHand(), cause: req.cause}
	e.nextRun++
	e.runs[r.id] = r
	gs.runs = append(gs.runs, r)
	if c := req.cause; c != nil && c.Event == phrase.Change && req.kind != Repeat {
		r.cause = gs.hand(req.opening, *c)
	}
	e.decide(Decision{Kind: req.kind, Gate: gs.gate.Name, Opening: req.opening, Due: req.due, Run: r.id,
		Moment: req.moment, Try: req.try, Cause: r.cause, Rule: req.rule, Reason: req.reason})
}

// hand gives a start the files that changed since the last one.
func (gs *gateState) hand(name string, c Cause) *Cause {
	for _, o := range gs.opens {
		if o.Name == name && o.changes > 0 {
			c.Files, c.Count = o.files.list, o.changedFiles()
			o.files, o.changes = fileSet{}, 0
		}
	}
	return &c
}
