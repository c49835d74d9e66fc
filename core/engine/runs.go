package engine

import (
	"fmt"
	"slices"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// overdue asks runs to end that have taken too long, and kills those that did
// not when asked.
func (e *Engine) overdue(gs *gateState) {
	for _, r := range gs.runs {
		switch {
		case r.killAt <= e.now:
			r.killAt = never
			e.decide(Decision{Kind: Halt, Gate: gs.gate.Name, Opening: r.opening, Due: r.due, Run: r.id, Signal: "KILL", Rule: "limits.grace",
				Reason: "it did not end within " + phrase.FormatSpan(gs.gate.Limits.Grace)})
		case gs.deadline(r) <= e.now:
			e.halt(r, Overran, "limits.longest", "it has taken longer than "+phrase.FormatSpan(gs.gate.Limits.Longest))
		}
	}
}

// halt asks a run to end.
func (e *Engine) halt(r *run, why Result, rule, reason string) {
	if r.stopping != "" {
		return
	}
	r.stopping, r.detail = why, reason
	r.killAt = e.now.Add(r.gate.gate.Limits.Grace)
	e.decide(Decision{Kind: Halt, Gate: r.gate.gate.Name, Opening: r.opening, Due: r.due, Run: r.id, Signal: "TERM",
		Rule: rule, Reason: reason})
}

func (e *Engine) stop(name string) {
	gs := e.gates[name]
	if gs == nil {
		return
	}
	e.giveUp(gs, "stopped by hand")
	for _, r := range gs.runs {
		e.halt(r, Stopped, "", "stopped by hand")
	}
	e.arm(gs)
}

// runEvent takes what became of a run.
func (e *Engine) runEvent(ev Event) {
	r := e.runs[ev.Run]
	if r == nil {
		return
	}
	gs := r.gate
	if ev.Kind == Started {
		r.began = e.now
		e.arm(gs)
		e.occur(&Cause{Event: phrase.StartOf, Subject: gs.gate.Name}, gs.gate.Name)
		return
	}
	result, reason := r.outcome(ev)
	e.decide(Decision{Kind: End, Gate: gs.gate.Name, Opening: r.opening, Due: r.due, Run: r.id, Result: result, Reason: reason})
	delete(e.runs, r.id)
	gs.runs = slices.DeleteFunc(gs.runs, func(o *run) bool { return o == r })
	gs.lastEnd = e.now
	if result == OK {
		gs.lastGood = e.now
	}
	if q := gs.queued; q != nil && len(gs.runs) == 0 {
		gs.queued = nil
		q.reason = fmt.Sprintf("waited %s for run %d to end", spanText(e.now.Sub(q.due)), r.id)
		e.admit(gs, *q)
	}
	if result == Failure && gs.queued == nil && !gs.gone {
		e.again(gs, r)
	}
	for _, o := range gs.opens {
		if o.Plan.Phrase.Kind == phrase.AfterSuccess {
			e.schedule(gs, o, e.now)
		}
	}
	e.arm(gs)
	e.occur(&Cause{Event: phrase.EndOf, Subject: gs.gate.Name}, gs.gate.Name)
	if result == Failure || result == Overran || result == Refused {
		e.occur(&Cause{Event: phrase.FailureOf, Subject: gs.gate.Name}, gs.gate.Name)
	}
	e.forget(gs)
}

// again lets a run that failed be tried once more after a pause.
func (e *Engine) again(gs *gateState, r *run) {
	a := gs.gate.Again
	if r.try >= a.Times || len(gs.runs) > 0 {
		return
	}
	gs.retry = &request{opening: r.opening, due: r.due, kind: Retry, try: r.try + 1, cause: r.cause}
	gs.retryAt = e.now.Add(a.Pause)
	e.wait(gs, *gs.retry, ForRetry, gs.retryAt, "again.times",
		fmt.Sprintf("tried again in %s: try %d of %d", phrase.FormatSpan(a.Pause), r.try+2, a.Times+1))
}

// outcome judges how a run ended.
func (r *run) outcome(ev Event) (Result, string) {
	status := fmt.Sprintf("exit status %d", ev.Exit)
	if ev.Signal != "" {
		status = "ended by signal " + ev.Signal
	}
	switch {
	case ev.Kind == Failed:
		return Failure, ev.Detail
	case ev.Kind == Refuse:
		return Refused, ev.Detail
	case r.stopping != "":
		return r.stopping, r.detail // even where nobody saw how it ended
	case ev.Kind == Lost:
		return LostRun, ev.Detail
	case ev.Signal == "" && r.gate.gate.Succeeds(ev.Exit):
		return OK, status
	}
	return Failure, status
}

// Status is what goes on with a gate.
type Status struct {
	Next    calendar.Instant // next due, 0 if none is known
	Opening string           // of the next due
	Running []int64          // runs, oldest first
	Queued  bool
	Waiting string // what a start waits for, "" where none does
}

// Status returns what goes on with a gate, and whether it is known.
func (e *Engine) Status(name string) (Status, bool) {
	gs := e.gates[name]
	if gs == nil || gs.gone {
		return Status{}, false
	}
	s := Status{Queued: gs.queued != nil}
	switch {
	case gs.waiting != nil:
		s.Waiting = gs.waiting.lacked
	case gs.queued != nil:
		s.Waiting = "its run to end"
	case slices.ContainsFunc(e.held, func(h held) bool { return h.gate == gs }):
		s.Waiting = "its turn"
	case gs.retry != nil:
		s.Waiting = "its next try"
	}
	at := calendar.Instant(never)
	for _, o := range gs.opens {
		if due := min(o.moment, o.repeat); due < at {
			at, s.Next, s.Opening = due, due, o.Name
		}
	}
	for _, r := range gs.runs {
		s.Running = append(s.Running, r.id)
	}
	return s, true
}

// Paused returns whether nothing opens by itself, since when and until when
// (0 for an open end).
func (e *Engine) Paused() (paused bool, since, until calendar.Instant) {
	if !e.paused {
		return false, 0, 0
	}
	if e.pauseUntil < never {
		until = e.pauseUntil
	}
	return true, e.pausedAt, until
}

// GateOf returns the gate whose run it is, or "".
func (e *Engine) GateOf(run int64) string {
	if r := e.runs[run]; r != nil {
		return r.gate.gate.Name
	}
	return ""
}

// Alive returns how many runs have not ended.
func (e *Engine) Alive() int { return len(e.runs) }
