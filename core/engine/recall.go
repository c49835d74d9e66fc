package engine

import (
	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// begin takes over where the last keeper has ended.
func (e *Engine) begin(ev Event) {
	m := ev.Memory
	e.nextRun = max(e.nextRun, m.NextRun)
	e.booted, e.host = m.Booted, ev.Host
	e.paused, e.pausedAt = m.Paused, m.PausedSince
	if m.Paused && m.PauseUntil != 0 {
		e.pauseUntil = m.PauseUntil
	}
	if ev.Facts != nil {
		e.facts = *ev.Facts
	}
	if ev.Pace != nil {
		e.pace = *ev.Pace
	}
	for _, def := range ev.Set {
		e.put(def.Gate).lastGood = min(m.LastGood[def.Name], e.now)
	}
	for _, rm := range m.Running {
		e.recallRun(rm)
	}
	for _, def := range ev.Set {
		since := e.now
		if m.LastSeen != 0 && m.Versions[def.Name] == def.Version {
			since = min(m.LastSeen, e.now)
		}
		gs := e.gates[def.Name]
		for _, o := range gs.opens {
			e.recallOpening(gs, o, m, since)
		}
	}
	for _, wm := range m.Waiting {
		e.recallWait(wm, m)
	}
	for _, gs := range e.gates {
		e.arm(gs)
	}
	e.told = m.People
	for _, p := range e.facts.People {
		if before, ok := person(e.told, p.Account); !ok || before.Since != p.Since {
			e.occur(&Cause{Event: phrase.Logon, Account: p.Account}, p.Account)
		}
	}
	if len(e.facts.People) > 0 {
		e.told = e.facts.People
	}
}

// recallRun takes up a run that had not ended.
func (e *Engine) recallRun(rm RunMemory) {
	gs := e.gates[rm.Gate]
	if gs == nil {
		gs = e.put(gate.Default(rm.Gate))
		gs.gone = true
	}
	r := &run{id: rm.Run, gate: gs, opening: rm.Opening, due: rm.Due, began: rm.Started, killAt: never, try: rm.Try}
	e.runs[r.id] = r
	gs.runs = append(gs.runs, r)
}

// recallOpening takes up an opening where it was, and finds what comes next
// after the instant up to which all was decided.
func (e *Engine) recallOpening(gs *gateState, o *opening, m *Memory, since calendar.Instant) {
	q := o.Plan.Phrase
	om := m.Openings[Key(gs.gate.Name, o.Name)]
	o.lastDue, o.base, o.count = om.Last, om.Moment, om.Count
	delay := q.Delay + o.Plan.Lateness()
	if om.Moment != 0 {
		o.came = om.Moment.Add(-delay)
	}
	if q.Kind == phrase.Event {
		o.cause = &Cause{Event: q.Event.What}
	}
	boots := q.Kind == phrase.Event && q.Event.What == phrase.Boot
	if boots && m.Booted == 0 {
		o.base = 0 // what an earlier boot began is over
	}
	e.schedule(gs, o, since)
	if o.base != 0 {
		o.repeat = nextRepeat(o, since)
	}
	if boots && m.Booted != 0 && e.on(gs.gate, o) && o.Plan.Occurs(m.Booted) {
		if at := m.Booted.Add(delay); at > since && o.Plan.Allows(at) {
			o.moment = at
		}
	}
}

// recallWait takes up a start that was waiting when the last keeper ended.
func (e *Engine) recallWait(wm WaitMemory, m *Memory) {
	gs := e.gates[wm.Gate]
	if gs == nil || gs.gone {
		return
	}
	req := request{opening: wm.Opening, due: wm.Due, kind: Start, try: wm.Try, cause: wm.Cause, since: e.now,
		reason: "due before this keeper began"}
	if c := wm.Cause; c != nil && paced(c.Event) && m.Booted == 0 {
		e.skip(gs, req, "", "the machine went down while it waited")
		return
	}
	switch wm.For {
	case ForRun:
		gs.queued = &req
	case ForRetry:
		req.kind = Retry
		gs.retry, gs.retryAt = &req, wm.Until
	case ForNeeds:
		req.lacked = "what it needs"
		gs.waiting, gs.waitUntil, gs.waitMends = &req, wm.Until, e.now
	case ForPace:
		e.held = append(e.held, held{gs, req, e.now})
	case ForDelay, ForQuiet:
		for _, o := range gs.opens {
			if o.Name != wm.Opening || !e.on(gs.gate, o) {
				continue
			}
			if o.cause = wm.Cause; wm.For == ForQuiet {
				o.ripe = max(wm.Until, e.now)
			} else {
				o.moment = wm.Until
			}
		}
	}
}
