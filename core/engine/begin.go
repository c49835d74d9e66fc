package engine

import (
	"time"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// What the clocks of one boot may differ by, and when the machine was last
// touched, from one keeper to the next, without meaning anything.
const (
	clockSlack = time.Second
	idleSlack  = 5 * time.Second
)

// begin takes over where the last keeper has ended: from the state alone.
func (e *Engine) begin(b *Begin) {
	e.changed = true
	before := e.Machine
	e.Environment, e.Pace = b.Environment, b.Pace
	e.NextRun = max(e.NextRun, b.FirstRun)
	e.Hold = nil // whoever waited has been let go by the end of the last keeper
	sameBoot := before.Booted != 0 && before.BootID == b.BootID
	e.takeGates(b)
	if by := clockShift(&before, b, e.now, sameBoot); by != 0 {
		e.setClock(by)
	} else {
		e.now = max(e.now, before.Now)
	}
	if e.Ahead = 0; b.Uptime != 0 {
		e.Ahead = e.now - calendar.Instant(b.Uptime)
	}
	if !sameBoot {
		e.endBoot()
	}
	idle := e.Facts.IdleSince
	e.Facts = b.Facts.Clone()
	if d := e.Facts.IdleSince.Sub(idle); idle != 0 && e.Facts.IdleSince != 0 && d.Abs() < idleSlack {
		e.Facts.IdleSince = idle
	}
	e.idleChanged(idle)
	// Runs come before moments: what is no more is in nobody's way.
	for i := range b.Ended {
		e.runOver(b.Ended[i].Run, &b.Ended[i])
	}
	for _, id := range b.Lost {
		e.runOver(id, &RunLost{Run: id, Why: LostMeanwhile})
	}
	for _, name := range e.names() {
		if gs := e.gates[name]; gs.Needing != nil {
			e.recheckNeeds(gs)
			e.arm(gs)
		}
	}
	e.advance()
	if !sameBoot {
		e.boot(b.BootID)
	}
	e.Pending = b.Pending
	e.announce()
}

// takeGates puts all gates into force as they are now.
func (e *Engine) takeGates(b *Begin) {
	present := make(map[string]bool, len(b.Gates))
	var puts []placed
	for _, def := range b.Gates {
		present[def.Name] = true
	}
	e.rename(b.Gates, func(name string) bool { return !present[name] })
	for _, def := range b.Gates {
		puts = append(puts, e.put(def))
	}
	for _, def := range b.Gone {
		if gs := e.gates[def.Name]; gs != nil && !present[def.Name] {
			gs.gate = def.Gate // its limits hold while it runs
		}
	}
	for _, name := range e.names() {
		if gs := e.gates[name]; !present[name] {
			if !gs.Gone {
				e.remove(gs)
				continue
			}
			e.schedule(gs)
		}
	}
	for _, p := range puts {
		e.settleGate(p)
	}
}

// clockShift returns by how much the clock was set while no keeper ran. Within
// one boot the uptime tells; else only a clock that has gone back was set.
func clockShift(before *Machine, b *Begin, now calendar.Instant, sameBoot bool) calendar.Instant {
	if sameBoot && before.Ahead != 0 && b.Uptime != 0 {
		by := now - calendar.Instant(b.Uptime) - before.Ahead
		if by.Sub(0).Abs() < clockSlack {
			return 0
		}
		return by
	}
	if now < before.Now {
		return now - before.Now
	}
	return 0
}

// endBoot ends what an earlier boot of the machine had begun.
func (e *Engine) endBoot() {
	e.Announced = nil
	for _, name := range e.names() {
		gs := e.gates[name]
		down := Reason{Code: CodeWentDown}
		for _, req := range []**Request{&gs.Queued, &gs.Retry, &gs.Needing} {
			if r := *req; r != nil && r.Cause != nil && paced(r.Cause.Event) {
				*req = nil
				e.skip(gs, *r, "", down)
				e.touch(gs)
			}
		}
		e.needing(gs)
		if len(gs.Held) > 0 {
			e.dropHeld(gs, down)
			e.touch(gs)
		}
		for _, o := range gs.opens {
			if o.Cause == nil || !paced(o.Cause.Event) {
				continue
			}
			if o.Moment != never {
				e.skip(gs, Request{Opening: o.Name, Due: o.Moment, Cause: o.Cause}, "", down)
			}
			o.Moment = never
			if o.Cause.Event == phrase.Boot {
				o.Base, o.Repeat = 0, never
			}
			e.touch(gs)
		}
		e.schedule(gs)
	}
}

// boot records that the machine has booted.
func (e *Engine) boot(id string) {
	e.BootID, e.Booted, e.changed = id, e.now, true
	e.occur(Cause{Event: phrase.Boot})
}

// announce lets those who are logged on count as having logged on just now,
// unless an earlier keeper was told.
func (e *Engine) announce() {
	before := e.Announced
	for _, p := range e.Facts.People {
		if known, ok := person(before, p.Account); !ok || known.Since != p.Since {
			e.occur(Cause{Event: phrase.Logon, Account: p.Account}, p.Account)
		}
	}
	if len(e.Facts.People) > 0 {
		e.Announced, e.Pending = e.Facts.People, false
	}
}
