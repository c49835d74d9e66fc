package engine

import (
	"fmt"
	"time"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// activeAfter is how long the machine was idle where somebody's return counts
// as one.
const activeAfter = time.Minute

// listening is what an opening listens to: an event and the name that it
// gives, if any.
type listening struct {
	what phrase.What
	name string
}

type listener struct {
	gate    *gateState
	opening *opening
}

// listeningTo returns what an event phrase listens to.
func listeningTo(o phrase.Occurrence) listening {
	switch watch := o.Watch(); {
	case watch != "":
		return listening{o.What, watch}
	case o.Account != "":
		return listening{o.What, o.Account}
	}
	return listening{o.What, o.Name}
}

// listen finds who listens to what, gates by name, and which gates wake the
// machine.
func (e *Engine) listen() {
	e.listeners, e.wakers = map[listening][]listener{}, nil
	for _, name := range e.names() {
		gs := e.gates[name]
		for _, o := range gs.opens {
			if q := o.Plan.Phrase; q.Kind == phrase.Event {
				l := listeningTo(q.Event)
				e.listeners[l] = append(e.listeners[l], listener{gs, o})
			}
		}
		if gs.gate.Rules.Wake > 0 && !gs.gone {
			e.wakers = append(e.wakers, gs)
		}
	}
}

// heard returns the openings that listen to an event, in general or by one of
// its names.
func (e *Engine) heard(what phrase.What, names ...string) []listener {
	if e.listeners == nil {
		e.listen()
	}
	out := e.listeners[listening{what, ""}]
	for _, name := range names {
		if name != "" {
			out = append(out[:len(out):len(out)], e.listeners[listening{what, name}]...)
		}
	}
	return out
}

// happened takes an event of the machine.
func (e *Engine) happened(ev Event) {
	if ev.Facts != nil {
		e.learn(ev.Facts)
	}
	c := &Cause{Event: ev.What, Subject: ev.Subject, Text: ev.Text, Count: ev.Count}
	switch ev.What {
	case phrase.Change:
		e.changed(ev)
		return
	case phrase.Logon:
		p, _ := person(e.facts.People, ev.Name)
		before, known := person(e.told, ev.Name)
		e.told = e.facts.People
		if known && p.Since != 0 && before.Since == p.Since {
			return // an earlier keeper was told
		}
		c.Account = ev.Name
	case phrase.Logoff:
		e.told = e.facts.People
		c.Account = ev.Name
	case phrase.Lock, phrase.Unlock:
		c.Account = ev.Name
	}
	e.occur(c, ev.Name)
}

// occur lets an event bring the moments of the openings that wait for it.
func (e *Engine) occur(c *Cause, names ...string) {
	for _, l := range e.heard(c.Event, names...) {
		if e.counts(l.gate, l.opening, e.now) {
			e.come(l.gate, l.opening, e.now, c)
			e.arm(l.gate)
		}
	}
}

// counts reports whether an event at an instant is one that an opening waits
// for.
func (e *Engine) counts(gs *gateState, o *opening, at calendar.Instant) bool {
	q := o.Plan.Phrase
	switch {
	case !e.on(gs.gate, o), !o.Plan.Occurs(at):
		return false
	case q.Event.First && o.came != 0 && o.Plan.SamePeriod(o.came, at):
		return false
	case q.Limit > 0 && o.count >= q.Limit:
		return false
	}
	return o.Plan.Allows(at.Add(q.Delay + o.Plan.Lateness()))
}

// come sets the moment that an event brings.
func (e *Engine) come(gs *gateState, o *opening, at calendar.Instant, c *Cause) {
	q := o.Plan.Phrase
	if o.moment != never && o.moment > e.now {
		e.skip(gs, request{opening: o.Name, due: o.moment, cause: o.cause}, "opens", "the same came again before its delay was over")
	}
	delay := q.Delay + o.Plan.Lateness()
	o.moment, o.came, o.cause = at.Add(delay), at, c
	o.count++
	if delay > 0 && c.Event != phrase.Boot {
		// So that the next keeper knows of it; a boot it knows by itself.
		e.wait(gs, request{opening: o.Name, due: o.moment, cause: c}, ForDelay, o.moment, "opens",
			fmt.Sprintf("%s after %s", phrase.FormatSpan(delay), q.Event))
	}
}

// fileSet holds paths, each once, in the order in which they came.
type fileSet struct {
	list []string
	has  map[string]bool
}

func (s *fileSet) add(paths []string) {
	if s.has == nil {
		s.has = make(map[string]bool, len(paths))
	}
	for _, p := range paths {
		if !s.has[p] {
			s.has[p], s.list = true, append(s.list, p)
		}
	}
}

// changedFiles is how many files changed, or, where they were not named, how
// often some did.
func (o *opening) changedFiles() int64 {
	if n := int64(len(o.files.list)); n > 0 {
		return n
	}
	return o.changes
}

// changed collects files that changed; the openings' moment comes when they
// have been quiet for long enough.
func (e *Engine) changed(ev Event) {
	for _, l := range e.heard(phrase.Change, ev.Name) {
		o, quiet := l.opening, l.opening.Plan.Phrase.Event.Quiet
		if o.ripe == never && !e.counts(l.gate, o, e.now) {
			continue
		}
		o.stirred += max(ev.Count, 1)
		o.stirring.add(ev.Files)
		first := o.ripe == never
		o.ripe = e.now.Add(quiet)
		if first && quiet > 0 {
			e.wait(l.gate, request{opening: o.Name, due: o.ripe}, ForQuiet, o.ripe, "opens",
				fmt.Sprintf("until nothing has changed for %s", phrase.FormatSpan(quiet)))
		}
		e.arm(l.gate)
	}
}

// touched takes that the machine has become idle, or is no longer.
func (e *Engine) touched(before calendar.Instant) {
	since := e.facts.IdleSince
	if since == before {
		return
	}
	if e.listeners == nil {
		e.listen()
	}
	for _, l := range e.listeners[listening{phrase.Idle, ""}] {
		l.opening.ripe = never
		if since != 0 {
			l.opening.ripe = max(since.Add(l.opening.Plan.Phrase.Event.Idle), e.now)
		}
		e.arm(l.gate)
	}
	if since == 0 && e.now.Sub(before) >= activeAfter {
		e.occur(&Cause{Event: phrase.Active})
	}
}

// ripen lets the events occur that needed a time without another: files that
// were quiet, a machine that was idle.
func (e *Engine) ripen(gs *gateState, until calendar.Instant) {
	for _, o := range gs.opens {
		at := o.ripe
		if at > until {
			continue
		}
		o.ripe = never
		c := &Cause{Event: o.Plan.Phrase.Event.What}
		if c.Event == phrase.Change {
			if until.Sub(at) > Tolerance {
				at = until // they were quiet all the longer
			}
			o.changes += o.stirred
			o.files.add(o.stirring.list)
			o.stirred, o.stirring = 0, fileSet{}
			c.Count = o.changedFiles()
			e.come(gs, o, at, c)
		} else if e.counts(gs, o, at) {
			e.come(gs, o, at, c)
		}
	}
}

// Alarm returns when the machine is to be awake, whatever it does then.
func (e *Engine) Alarm() (calendar.Instant, bool) {
	if e.listeners == nil {
		e.listen()
	}
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
