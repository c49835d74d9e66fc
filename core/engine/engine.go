package engine

import (
	"container/heap"
	"slices"
	"sort"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// never is an instant that does not come.
const never = calendar.MaxInstant

// Engine is the state machine. Its zero value is not ready: use [New].
type Engine struct {
	now        calendar.Instant
	event      EventKind        // that is being handled
	setBy      calendar.Instant // by how much it set the clock
	gates      map[string]*gateState
	agenda     agenda
	runs       map[int64]*run
	nextRun    int64
	paused     bool
	pausedAt   calendar.Instant
	pauseUntil calendar.Instant // never for an open end
	booted     calendar.Instant
	host       string
	facts      Facts
	told       []Person // whose logon has been told
	pace       Pace
	held       []held // in their order
	batch      int    // starts counted since batchAt
	batchAt    calendar.Instant
	listeners  map[listening][]listener // built when first needed, like wakers
	wakers     []*gateState
	out        []Decision
}

// New returns an engine without gates. Its first event is [Begin].
func New() *Engine {
	return &Engine{gates: map[string]*gateState{}, runs: map[int64]*run{}, nextRun: 1, pauseUntil: never}
}

// gateState is a gate with what goes on with it.
type gateState struct {
	gate      *gate.Gate
	gone      bool // taken away, but still running
	opens     []*opening
	runs      []*run   // alive, oldest first
	queued    *request // waits for a run to end
	retry     *request // waits for retryAt
	retryAt   calendar.Instant
	waiting   *request // waits for its needs, at most until waitUntil
	waitUntil calendar.Instant
	waitMends calendar.Instant // when they will hold by the passing of time; never if that is not known
	lastGood  calendar.Instant
	lastEnd   calendar.Instant
	wake      calendar.Instant
	index     int // in the agenda
}

// opening is an opening with its next dues.
type opening struct {
	*gate.Opening
	moment  calendar.Instant // next moment; never if none is known
	repeat  calendar.Instant // next repeat; never if none
	base    calendar.Instant // the moment that is being repeated
	lastDue calendar.Instant // the last due that was decided
	came    calendar.Instant // when its event last counted
	count   int64            // how often it did
	cause   *Cause           // of moment
	ripe    calendar.Instant // when an event has occurred unless another comes before; never if none is under way

	// Changes of files: those that are still to become quiet, and those that
	// did and for which no program was started yet.
	stirred, changes int64
	stirring, files  fileSet
}

// run is a program that has been started or is about to be.
type run struct {
	id       int64
	gate     *gateState
	opening  string
	due      calendar.Instant
	began    calendar.Instant // decided, then started
	stopping Result           // why it was asked to end; "" if it was not
	killAt   calendar.Instant // when it is killed after that
	detail   string
	try      int // how many tries there were before
	byHand   bool
	cause    *Cause
}

// request is a start that waits for its turn.
type request struct {
	opening string // "" for a start by hand
	due     calendar.Instant
	kind    DecisionKind
	moment  bool
	try     int
	cause   *Cause
	reason  string           // why it starts
	rule    string           // by which key of its file, where that is more than its opening
	lacked  string           // what it waits for
	since   calendar.Instant // and since when
}

func (r *request) byHand() bool { return r.opening == "" }

// Wake returns when the engine wants its next [Tick].
func (e *Engine) Wake() (calendar.Instant, bool) {
	at := e.pauseUntil
	if len(e.agenda) > 0 {
		at = min(at, e.agenda[0].wake)
	}
	at = min(at, e.releaseAt())
	return at, at < never
}

// Handle takes an event and returns what follows from it. The slice is the
// caller's. An event for a gate or a run that is not known has no effect.
func (e *Engine) Handle(ev Event) []Decision {
	e.out = nil
	e.now, e.event, e.setBy = ev.At, ev.Kind, ev.By
	switch ev.Kind {
	case Boot, Signal, Happened:
		e.advance() // what was due before comes before
	}
	switch ev.Kind {
	case Begin:
		e.begin(ev)
	case Gates:
		e.change(ev)
		if ev.Facts != nil {
			e.learn(ev.Facts)
		}
	case ClockSet:
		e.clockSet(ev.By)
	case Boot:
		e.booted = e.now
		e.occur(&Cause{Event: phrase.Boot})
	case Signal:
		e.occur(&Cause{Event: phrase.Signal, Subject: ev.Name}, ev.Name)
	case Happened:
		e.happened(ev)
	case Present:
		e.learn(ev.Facts)
	case Paced:
		e.pace = *ev.Pace
	case Open:
		if gs := e.gates[ev.Gate]; gs != nil && !gs.gone {
			e.admit(gs, request{due: e.now, kind: Start, reason: "opened by hand"})
			e.arm(gs)
		}
	case Stop:
		e.stop(ev.Gate)
	case Pause:
		e.pause(ev.Until)
	case Resume:
		e.resume()
	case Started, Failed, Refuse, Ended, Lost:
		e.runEvent(ev)
	}
	e.advance()
	return e.out
}

func (e *Engine) decide(d Decision) {
	d.At = e.now
	e.out = append(e.out, d)
}

// advance decides all that is due by now, the earliest first and gates with
// the same instant by name.
func (e *Engine) advance() {
	if e.paused && e.now >= e.pauseUntil {
		e.resume()
	}
	for len(e.agenda) > 0 && e.agenda[0].wake <= e.now {
		gs := e.agenda[0]
		e.overdue(gs)
		if !e.paused {
			e.expect(gs)
			e.open(gs)
		}
		e.arm(gs)
	}
	e.release()
}

// Key names an opening of a gate.
func Key(gateName, openingName string) string { return gateName + "/" + openingName }

// put adds a gate or takes over its new definition.
func (e *Engine) put(g *gate.Gate) *gateState {
	gs := e.gates[g.Name]
	if gs == nil {
		gs = &gateState{index: -1, wake: never}
		e.gates[g.Name] = gs
	}
	e.listeners = nil
	old := gs.opens
	gs.gate, gs.gone, gs.opens = g, false, nil
	for i := range g.Opens {
		o := &opening{Opening: &g.Opens[i], moment: never, repeat: never, ripe: never}
		if j := slices.IndexFunc(old, func(p *opening) bool { return p.Name == o.Name && p.When == o.When }); j >= 0 {
			// The same opening goes on where it was.
			before := old[j].Opening
			*o = *old[j]
			if o.Opening = &g.Opens[i]; o.Plan.Lateness() != before.Plan.Lateness() {
				o.moment = never
			}
		}
		gs.opens = append(gs.opens, o)
	}
	return gs
}

// change takes over gates that were added, changed or taken away.
func (e *Engine) change(ev Event) {
	for _, def := range ev.Set {
		gs := e.put(def.Gate)
		for _, o := range gs.opens {
			switch {
			case !e.on(def.Gate, o):
				e.calm(gs, o)
			case o.moment == never: // one that has come by now is still to be decided
				e.schedule(gs, o, e.now)
			}
		}
		if !def.Gate.Enabled {
			e.giveUp(gs, "switched off")
		}
		e.arm(gs)
	}
	for _, name := range ev.Removed {
		gs := e.gates[name]
		if gs == nil {
			continue
		}
		e.giveUp(gs, "taken away")
		gs.gone, gs.opens = true, nil
		e.listeners = nil
		e.arm(gs)
		e.forget(gs)
	}
}

// calm lets nothing more come of an opening that was switched off. A moment
// that an event had brought is given up for that reason.
func (e *Engine) calm(gs *gateState, o *opening) {
	if o.Plan.Phrase.Kind == phrase.Event {
		at := min(o.moment, o.ripe)
		if at > e.now && at < never && o.Plan.Phrase.Event.What != phrase.Idle {
			e.skip(gs, request{opening: o.Name, due: at, cause: o.cause}, "", "switched off before it came")
		}
	}
	o.moment, o.repeat, o.ripe = never, never, never
}

// giveUp skips the starts of a gate that wait.
func (e *Engine) giveUp(gs *gateState, why string) {
	if q := gs.queued; q != nil {
		gs.queued = nil
		e.skip(gs, *q, "", why+" while it waited")
	}
	if t := gs.retry; t != nil {
		gs.retry = nil
		e.skip(gs, *t, "", why+" before it was tried again")
	}
	if w := gs.waiting; w != nil {
		gs.waiting = nil
		e.skip(gs, *w, "", why+" while it waited for "+w.lacked)
	}
	e.drop(gs, why+" before its turn came")
}

// forget drops a gate that was taken away once nothing of it runs.
func (e *Engine) forget(gs *gateState) {
	if gs.gone && len(gs.runs) == 0 {
		if gs.index >= 0 {
			heap.Remove(&e.agenda, gs.index)
		}
		delete(e.gates, gs.gate.Name)
	}
}

// on reports whether an opening is switched on, here.
func (e *Engine) on(g *gate.Gate, o *opening) bool { return g.Active(o.Opening, e.host) }

// schedule finds an opening's next moment after an instant.
func (e *Engine) schedule(gs *gateState, o *opening, after calendar.Instant) {
	o.moment = never
	if !e.on(gs.gate, o) {
		return
	}
	const day = 25 * 3600 * 1000 // with room for a clock change
	if o.lastDue > after && o.lastDue-after <= day {
		after = o.lastDue
	}
	if o.Plan.Phrase.Kind == phrase.AfterSuccess {
		e.scheduleAfterSuccess(gs, o)
		return
	}
	if next, ok := o.Plan.NextMoment(after); ok {
		o.moment = next
	}
}

// scheduleAfterSuccess: not while it runs, and not sooner after a failure
// than its gate wants.
func (e *Engine) scheduleAfterSuccess(gs *gateState, o *opening) {
	if len(gs.runs) > 0 {
		return
	}
	due, ok := o.Plan.SinceSuccess(gs.lastGood, gs.lastGood != 0, e.now)
	if !ok {
		return
	}
	if gs.lastEnd > gs.lastGood {
		due = max(due, gs.lastEnd.Add(gs.gate.Again.Pause))
	}
	o.moment = due
}

func nextRepeat(o *opening, after calendar.Instant) calendar.Instant {
	if next, ok := o.Plan.NextRepeat(o.base, max(after, o.lastDue)); ok {
		return next
	}
	return never
}

func (e *Engine) names() []string {
	names := make([]string, 0, len(e.gates))
	for name := range e.gates {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

func (e *Engine) pause(until calendar.Instant) {
	if !e.paused {
		e.paused, e.pausedAt = true, e.now
	}
	e.pauseUntil = never
	if until != 0 {
		e.pauseUntil = until
	}
	for _, gs := range e.gates {
		e.arm(gs)
	}
}

// resume passes over what came meanwhile and goes on.
func (e *Engine) resume() {
	if !e.paused {
		return
	}
	until := min(e.now, e.pauseUntil)
	e.paused, e.pauseUntil = false, never
	for _, name := range e.names() {
		gs := e.gates[name]
		e.ripen(gs, until)
		for _, o := range gs.opens {
			e.passOver(gs, o, until, Skipped, "paused", false)
		}
		e.expect(gs)
		e.arm(gs)
	}
}
