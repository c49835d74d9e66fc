package engine

import (
	"fmt"
	"time"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

const (
	phraseEvent        = phrase.Event
	phraseAfterSuccess = phrase.AfterSuccess
)

// open decides every due of a gate up to now.
func (e *Engine) open(gs *gateState) {
	late := e.now.Add(-Tolerance)
	for _, o := range gs.opens {
		if min(o.moment, o.repeat) < late {
			e.passOver(gs, o, late-1, Missed, "the machine was asleep or off, or no keeper ran", true)
		}
	}
	for {
		due := calendar.Instant(never)
		for _, o := range gs.opens {
			due = min(due, o.moment, o.repeat)
		}
		if due > e.now {
			return
		}
		e.openAt(gs, due)
	}
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
	req.opening = first.Name
	reason := "due: " + first.When
	if req.kind == Repeat {
		reason = fmt.Sprintf("repeat %d: %s", (due-first.base)/calendar.Instant(first.Plan.Phrase.Repeat.Every.Milliseconds()), first.When)
	}
	e.request(gs, req, reason)
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
	if o.Plan.Phrase.Kind == phraseAfterSuccess {
		return // it stays due
	}
	first, last, n := calendar.Instant(0), calendar.Instant(0), int64(0)
	moment := false
	for {
		due := min(o.moment, o.repeat)
		if due > until {
			break
		}
		if first == 0 {
			first = due
		}
		last = due
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
					last, due = prev, prev
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
	d := Decision{Kind: Skip, Gate: gs.gate.Name, Opening: o.Name, Due: last, Result: result, Moment: moment, Reason: why}
	if n > 1 {
		d.Count = n
		d.Reason = fmt.Sprintf("%s: %d dues in %s", why, n, phrase.FormatSpan(last.Sub(first)))
	}
	e.decide(d)
}

// request starts the program, unless it still runs: then its gate's rule for
// that decides.
func (e *Engine) request(gs *gateState, req request, reason string) {
	skip := func(due calendar.Instant, opening, why string) {
		e.decide(Decision{Kind: Skip, Gate: gs.gate.Name, Opening: opening, Due: due, Moment: req.moment,
			Result: Skipped, Reason: why})
	}
	if len(gs.runs) == 0 || gs.gate.Rules.Busy == busyBeside {
		e.start(gs, req, reason)
		return
	}
	oldest := gs.runs[0]
	still := fmt.Sprintf("run %d is still going after %s", oldest.id, spanText(e.now.Sub(oldest.began)))
	switch gs.gate.Rules.Busy {
	case busyQueue:
		if gs.queued != nil {
			skip(req.due, req.opening, still+", and one start waits already")
			return
		}
		gs.queued = &req
		e.decide(Decision{Kind: Wait, Gate: gs.gate.Name, Opening: req.opening, Due: req.due, Moment: req.moment, Reason: still})
	case busyReplace:
		if q := gs.queued; q != nil {
			skip(q.due, q.opening, "a later moment has taken its place")
		}
		gs.queued = &req
		e.decide(Decision{Kind: Wait, Gate: gs.gate.Name, Opening: req.opening, Due: req.due, Moment: req.moment,
			Reason: still + " and is replaced"})
		for _, r := range gs.runs {
			e.halt(r, Stopped, "replaced by a new start")
		}
	default:
		skip(req.due, req.opening, still)
	}
}

// spanText leaves out milliseconds where they say nothing.
func spanText(d time.Duration) string {
	if d >= 10*time.Second {
		d = d.Truncate(time.Second)
	}
	return phrase.FormatSpan(d)
}

func (e *Engine) start(gs *gateState, req request, reason string) {
	r := &run{id: e.nextRun, gate: gs, opening: req.opening, due: req.due, began: e.now, killAt: never}
	e.nextRun++
	e.runs[r.id] = r
	gs.runs = append(gs.runs, r)
	e.decide(Decision{Kind: req.kind, Gate: gs.gate.Name, Opening: req.opening, Due: req.due, Run: r.id,
		Moment: req.moment, Reason: reason})
}
