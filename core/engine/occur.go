package engine

import (
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// activeAfter is how long the machine was idle where somebody's return counts
// as one.
const activeAfter = time.Minute

// subject is what an opening listens to: an event and the name that it gives,
// if any.
type subject struct {
	event phrase.EventKind
	name  string
}

type listener struct {
	gate    *gateState
	opening *opening
}

// subjectOf returns what an event phrase of an account's gate listens to.
func subjectOf(account string, plan *phrase.Plan) subject {
	o := plan.Phrase.Event
	switch watch := (WantedEvent{account, o}).Key(); {
	case watch != "":
		return subject{o.Kind, watch}
	case plan.Account != "":
		return subject{o.Kind, plan.Account}
	}
	return subject{o.Kind, o.Name}
}

// index finds who listens to what, gates by name, and which gates wake the
// machine.
func (e *Engine) index() {
	if e.listeners != nil {
		return
	}
	e.listeners, e.wakers = map[subject][]listener{}, nil
	for _, name := range e.names() {
		gs := e.gates[name]
		if gs.gate == nil {
			continue
		}
		for _, o := range gs.opens {
			if o.onEvent() {
				s := subjectOf(gs.gate.Account(), o.plan())
				e.listeners[s] = append(e.listeners[s], listener{gs, o})
			}
		}
		if gs.gate.Rules.Wake > 0 && !gs.Gone {
			e.wakers = append(e.wakers, gs)
		}
	}
}

// listenersTo returns the openings that listen to an event, in general or by
// one of its names.
func (e *Engine) listenersTo(event phrase.EventKind, names ...string) []listener {
	e.index()
	out := e.listeners[subject{event, ""}]
	for _, name := range names {
		if name != "" {
			out = append(out[:len(out):len(out)], e.listeners[subject{event, name}]...)
		}
	}
	return out
}

// occurred handles an event of the machine.
func (e *Engine) occurred(b *Occurred) {
	if b.Facts != nil {
		e.updateFacts(b.Facts)
	}
	c := &Cause{Event: b.Event, Subject: b.Subject, Text: b.Text, Count: b.Count}
	switch b.Event {
	case phrase.Change:
		e.filesChanged(b)
		return
	case phrase.Logon:
		if e.Pending { // others may have been there before
			e.announce()
			return
		}
		p, _ := person(e.Facts.People, b.Name)
		before, known := person(e.Announced, b.Name)
		e.Announced = e.Facts.People
		if known && p.Since != 0 && before.Since == p.Since {
			return // an earlier keeper was told
		}
		c.Account = b.Name
	case phrase.Logoff:
		e.Announced = e.Facts.People
		c.Account = b.Name
	case phrase.Lock, phrase.Unlock:
		c.Account = b.Name
	case phrase.Resume:
		e.changed = e.changed || e.Hold != nil
		e.Hold = nil // what it was held for is over
	}
	if b.Holds {
		e.Hold, e.changed = &Hold{Event: b.Event, Since: e.now}, true
	}
	e.occur(*c, b.Name)
}

// occur lets an event bring the moments of the openings that wait for it.
func (e *Engine) occur(c Cause, names ...string) {
	for _, l := range e.listenersTo(c.Event, names...) {
		if e.matches(l.gate, l.opening, e.now) {
			cause := c
			e.setMoment(l.gate, l.opening, e.now, &cause)
			e.arm(l.gate)
		}
	}
}

// matches reports whether an event at an instant is one that an opening waits
// for.
func (e *Engine) matches(gs *gateState, o *opening, at calendar.Instant) bool {
	q := o.phrase()
	switch {
	case !e.on(gs.gate, o), !o.plan().Occurs(at):
		return false
	case q.Event.First && o.Came != 0 && o.plan().SamePeriod(o.Came, at):
		return false
	case q.Limit > 0 && o.Count >= q.Limit:
		return false
	}
	return o.plan().Allows(at.Add(q.Delay + o.plan().SpreadOffset()))
}

// setMoment sets the moment that an event brings.
func (e *Engine) setMoment(gs *gateState, o *opening, at calendar.Instant, c *Cause) {
	q := o.phrase()
	if o.Moment != never && o.Moment > e.now {
		e.skip(gs, Request{Opening: o.Name, Due: o.Moment, Cause: o.Cause}, "opens", Reason{Code: CodeCameAgain})
	}
	delay := q.Delay + o.plan().SpreadOffset()
	o.Moment, o.Came, o.Cause = at.Add(delay), at, c
	o.Count++
	if delay > 0 {
		e.wait(gs, Request{Opening: o.Name, Due: o.Moment, At: o.Moment, Cause: c}, ForDelay, "opens",
			Reason{CodeDelay, Args{Span: Span(delay), Event: q.Event.String()}})
	}
}

// filesChanged collects changes of files; the openings' moment comes when they
// have been quiet for long enough.
func (e *Engine) filesChanged(b *Occurred) {
	for _, l := range e.listenersTo(phrase.Change, b.Name) {
		o, quiet := l.opening, l.opening.phrase().Event.Quiet
		if o.Settles == never && !e.matches(l.gate, o, e.now) {
			continue
		}
		if b.Missed != 0 && e.letMissed(l, b) {
			continue
		}
		e.count(l, b)
		first := o.Settles == never
		o.Others = !first && o.Others || !e.changesItself(l.gate)
		brake := e.brake(l)
		o.Settles = e.now.Add(quiet + brake)
		switch wait := (Request{Opening: o.Name, Due: o.Settles, At: o.Settles}); {
		case b.Missed != 0:
			e.wait(l.gate, wait, ForQuiet, "rules.missed", Reason{CodeWhileAway, Args{Count: o.Moving, Span: Span(e.now.Sub(b.Missed))}})
		case first && brake > 0:
			e.wait(l.gate, wait, ForQuiet, "rules.own_changes", Reason{CodeOwn, Args{Span: Span(brake), Count: o.Own}})
		case first && quiet > 0:
			e.wait(l.gate, wait, ForQuiet, "opens", Reason{CodeQuiet, Args{Span: Span(quiet)}})
		}
		e.arm(l.gate)
	}
}

// letMissed decides about changes that came while no keeper watched. Where the gate does not
// make up for what it missed, or they are too old for that, they are missed.
func (e *Engine) letMissed(l listener, b *Occurred) bool {
	rules, rule := &l.gate.gate.Rules, "rules.missed"
	switch ago := e.now.Sub(b.Missed); {
	case rules.Missed != gate.MissedOnce:
	case ago > rules.MissedWithin:
		rule = "rules.missed_within"
	default:
		return false
	}
	e.decide(Decision{Kind: Skip, Gate: l.gate.name, Opening: l.opening.Name, Due: min(b.Missed, e.now), Result: ResultMissed, Rule: rule,
		Cause: &Cause{Event: phrase.Change, Count: b.Count}, Reason: Reason{CodeWhileAway, Args{Count: max(b.Count, 1), Span: Span(e.now.Sub(b.Missed))}}})
	return true
}

// OwnFree is how many moments in a row may come of nothing but changes that were made while
// their gate ran.
const OwnFree = 3

// From then on the next moment waits for ownStep, each further one twice as long, up to
// ownMost. A change is told at most ownLate after it was made.
const (
	ownStep = 10 * time.Second
	ownMost = 5 * time.Minute
	ownLate = 2 * time.Second
)

// changesItself reports whether a change that is told now may be a gate's own work.
func (e *Engine) changesItself(gs *gateState) bool {
	return len(gs.runs) > 0 || gs.LastEnd != 0 && e.now.Sub(gs.LastEnd) <= ownLate
}

// brake returns how much longer than for quiet a moment waits that nothing but the gate's
// own runs has brought. It never loses one: as soon as something else changes, it waits no
// longer than for quiet.
func (e *Engine) brake(l listener) time.Duration {
	o := l.opening
	if o.Others || o.Own < OwnFree || l.gate.gate.Rules.OwnChanges == gate.OwnOpen {
		return 0
	}
	const steps = 5 // ownMost is reached
	return min(ownStep<<min(o.Own-OwnFree, steps), ownMost)
}

// keepMoving records that files went on changing from the first of several
// changes on, for which an event stands: they were not quiet in between.
func (e *Engine) keepMoving(b *Occurred) {
	if b.Event != phrase.Change || b.From == 0 {
		return
	}
	for _, l := range e.listenersTo(phrase.Change, b.Name) {
		if o := l.opening; o.Settles != never && o.Settles > b.From {
			o.Settles = e.now.Add(o.phrase().Event.Quiet + e.brake(l))
			e.arm(l.gate)
		}
	}
}

// count counts the different files that are changing.
func (e *Engine) count(l listener, b *Occurred) {
	o, key := l.opening, Key(l.gate.name, l.opening.Name)
	n, told := b.Distinct[key]
	switch {
	case len(b.Files) > 0:
		if added := o.MovingFiles.add(b.Files); len(added) > 0 {
			e.fileChanges = append(e.fileChanges, FileChange{Gate: l.gate.name, Opening: o.Name, Added: added})
		}
		o.Moving = int64(len(o.MovingFiles.list))
		if b.Distinct == nil {
			b.Distinct = map[string]int64{}
		}
		b.Distinct[key] = o.Moving
	case told:
		o.Moving = n
	default:
		o.Moving += max(b.Count, 1)
	}
}

// idleChanged looks at the openings that wait for an idle machine, or for one
// that is not idle any more.
func (e *Engine) idleChanged(before calendar.Instant) {
	since := e.Facts.IdleSince
	if since == before {
		return
	}
	e.index()
	for _, l := range e.listeners[subject{phrase.Idle, ""}] {
		l.opening.Settles = never
		if since != 0 {
			l.opening.Settles = max(since.Add(l.opening.phrase().Event.Idle), e.now)
		}
		e.arm(l.gate)
	}
	if since == 0 && e.now.Sub(before) >= activeAfter {
		e.occur(Cause{Event: phrase.Active})
	}
}

// settleEvents lets the events occur that needed a time without another: files
// that were quiet, a machine that was idle.
func (e *Engine) settleEvents(gs *gateState, until calendar.Instant) {
	for _, o := range gs.opens {
		at := o.Settles
		if at > until {
			continue
		}
		o.Settles = never
		e.touch(gs)
		c := &Cause{Event: o.phrase().Event.Kind}
		if c.Event != phrase.Change {
			if e.matches(gs, o, at) {
				e.setMoment(gs, o, at, c)
			}
			continue
		}
		if until.Sub(at) > Tolerance {
			at = until // they were quiet all the longer
		}
		if o.Own++; o.Others {
			o.Own, o.Others = 0, false
		}
		o.Changes, o.Moving = o.Changes+o.Moving, 0
		o.Files.add(o.MovingFiles.list)
		o.MovingFiles = FileSet{}
		e.fileChanges = append(e.fileChanges, FileChange{Gate: gs.name, Opening: o.Name, Settled: true})
		c.Count = o.Changes
		e.setMoment(gs, o, at, c)
	}
}

// takeFiles gives a start the files that changed since the last one.
func (e *Engine) takeFiles(gs *gateState, name string, c Cause) *Cause {
	for _, o := range gs.opens {
		if o.Name == name && o.Changes > 0 {
			c.Files, c.Count = o.Files.list, o.Changes
			o.Files, o.Changes = FileSet{}, 0
			e.fileChanges = append(e.fileChanges, FileChange{Gate: gs.name, Opening: o.Name, Taken: true})
		}
	}
	return &c
}

// Alarm returns when the machine is to be awake, whatever it does then. It is never where
// nothing can wake it.
func (e *Engine) Alarm() (calendar.Instant, bool) {
	if e.NoWake {
		return never, false
	}
	e.index()
	at := calendar.Instant(never)
	for _, gs := range e.wakers {
		if due := gs.earliest(); due < never && due > e.now {
			// Not in the past, even if it is to be awake by now: it may fall
			// asleep yet.
			at = min(at, max(due.Add(-gs.gate.Rules.Wake), min(due, e.now.Add(time.Minute))))
		}
	}
	return at, at < never
}
