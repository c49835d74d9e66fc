package engine

import (
	"slices"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// never is an instant that does not come.
const never = calendar.MaxInstant

// Engine is the state machine. Its zero value is not ready: use [New] or
// [Restore].
type Engine struct {
	Machine // what is kept, but for the gates

	gates   map[string]*gateState
	runs    map[int64]*run
	held    []heldStart             // in the order of their turns
	needers map[*gateState]struct{} // that wait for their needs

	// What follows from the state, and is not kept.
	agenda    agenda
	listeners map[subject][]listener // built when first needed, like wakers
	wakers    []*gateState

	// What belongs to the event that is being handled.
	now     calendar.Instant
	body    Body
	out     []Decision
	changed bool

	dirty       []*gateState // since the last Delta, like fileChanges
	fileChanges []FileChange
	renamed     []Renamed
	lastMachine []byte
}

// New returns an engine without gates. Its first event is [Begin].
func New() *Engine {
	return &Engine{
		Machine: Machine{NextRun: 1, PauseUntil: never},
		gates:   map[string]*gateState{}, runs: map[int64]*run{},
		needers: map[*gateState]struct{}{},
	}
}

// gateState is a gate with what goes on with it.
type gateState struct {
	GateState // but for openings and runs, which follow
	name      string
	gate      *gate.Gate // nil while it rests
	opens     []*opening
	runs      []*run
	wake      calendar.Instant
	index     int  // in the agenda
	touched   bool // it is among those that have changed
}

// opening is an opening with its state.
type opening struct {
	OpeningState
	def *gate.Opening
}

func (o *opening) plan() *phrase.Plan     { return o.def.Plan }
func (o *opening) phrase() *phrase.Phrase { return o.def.Plan.Phrase }

// onEvent reports whether an opening waits for events.
func (o *opening) onEvent() bool { return o.phrase().Kind == phrase.Event }

// due is the next due, a moment or a repeat.
func (o *opening) due() calendar.Instant { return min(o.Moment, o.Repeat) }

// run is a program that has been started or is about to be.
type run struct {
	RunState
	gate *gateState
}

// heldStart is a start of a boot or logon whose turn has not come.
type heldStart struct {
	gate *gateState
	req  *Request
}

// paused reports whether nothing opens by itself.
func (e *Engine) paused() bool { return e.PausedAt != 0 }

// Wake returns when the engine wants its next [Tick].
func (e *Engine) Wake() (calendar.Instant, bool) {
	at := e.PauseUntil
	if len(e.agenda) > 0 {
		at = min(at, e.agenda[0].wake)
	}
	at = min(at, e.turnAt())
	return at, at < never
}

// Handle takes an event and returns what follows from it. The slice is the
// caller's. An event for a gate or a run that is not known has no effect. An
// event that is earlier than the one before counts as of the same time, unless
// the clock was set.
func (e *Engine) Handle(ev Event) []Decision { return e.Append(nil, ev) }

// Append is [Engine.Handle] with what follows appended to a slice, for those
// who want to use its room again.
func (e *Engine) Append(out []Decision, ev Event) []Decision {
	e.out, e.changed, e.body = out, false, ev.Body
	switch ev.Body.(type) {
	case *Begin, *ClockSet:
		e.now = ev.At
	default:
		e.now = max(e.now, ev.At)
	}
	e.dispatch(ev.Body)
	e.advance()
	e.releaseMachine()
	if e.changed || len(e.out) > len(out) {
		e.changed, e.Now = true, e.now
	}
	out, e.out = e.out, nil
	return out
}

// Time is the instant by which the last event was decided: the event's own, or that of
// an earlier event, where that one is later. Only a clock that was set takes it back.
func (e *Engine) Time() calendar.Instant { return e.now }

func (e *Engine) dispatch(body Body) {
	switch b := body.(type) {
	case *Begin:
		e.begin(b)
	case *GatesChanged:
		e.change(b)
	case *ClockSet:
		e.setClock(b.By)
	case *Booted:
		e.advanceTo(e.now - 1) // what was due before comes before
		e.endBoot()
		e.updateFacts(&b.Facts)
		e.boot(b.BootID)
	case *SignalSent:
		e.advanceTo(e.now - 1)
		e.occur(Cause{Event: phrase.Signal, Subject: b.Name}, b.Name)
	case *Occurred:
		e.keepMoving(b)
		e.advanceTo(e.now - 1)
		e.occurred(b)
	case *FactsChanged:
		if e.updateFacts(&b.Facts); e.Pending {
			e.announce()
		}
	case *PaceSet:
		e.Pace, e.changed = b.Pace, true
	case *OpenAsked:
		if gs := e.gates[b.Gate]; gs != nil && !gs.Gone && gs.gate != nil {
			e.checkNeeds(gs, Request{Due: e.now, Kind: Start, Why: Reason{Code: CodeOpened}})
			e.arm(gs)
		}
	case *StopAsked:
		e.stopGate(b.Gate)
	case *PauseAsked:
		e.pause(b.Until)
	case *ResumeAsked:
		e.resume()
	case *RunStarted:
		e.runStarted(b)
	case *StartFailed:
		e.runOver(b.Run, b)
	case *StartUnsafe:
		e.runOver(b.Run, b)
	case *RunEnded:
		e.runOver(b.Run, b)
	case *RunLost:
		e.runOver(b.Run, b)
	}
}

func (e *Engine) decide(d Decision) {
	d.At = e.now
	e.out = append(e.out, d)
}

// advance decides all that is due by now.
func (e *Engine) advance() { e.advanceTo(e.now) }

// advanceTo decides all that is due up to and including an instant, the earliest first and
// gates with the same instant by name. Within an instant, what happens comes before what is
// due: a moment at 12:00 finds the machine as it is from 12:00 on.
func (e *Engine) advanceTo(until calendar.Instant) {
	if e.paused() && e.now >= e.PauseUntil {
		e.resume()
	}
	for len(e.agenda) > 0 && e.agenda[0].wake <= until {
		gs := e.agenda[0]
		e.enforceLimits(gs)
		if !e.paused() {
			e.recheckNeeds(gs)
			e.openDue(gs)
		}
		e.arm(gs)
	}
	e.startHeld(until)
}

// names returns the gates' names in order.
func (e *Engine) names() []string {
	names := make([]string, 0, len(e.gates))
	for name := range e.gates {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func (e *Engine) pause(until calendar.Instant) {
	e.changed = true
	if !e.paused() {
		e.PausedAt = e.now
	}
	e.PauseUntil = never
	if until != 0 {
		e.PauseUntil = until
	}
	for _, gs := range e.gates {
		e.schedule(gs)
	}
}

// resume passes over what came meanwhile and goes on.
func (e *Engine) resume() {
	if !e.paused() {
		return
	}
	until := min(e.now, e.PauseUntil)
	e.changed, e.PausedAt, e.PauseUntil = true, 0, never
	for _, name := range e.names() {
		gs := e.gates[name]
		if gs.gate == nil {
			continue
		}
		before := len(e.out)
		e.settleEvents(gs, until)
		for _, o := range gs.opens {
			e.passOver(gs, o, until, ResultSkipped, CodePaused, false)
		}
		e.recheckNeeds(gs)
		if len(e.out) > before {
			e.touch(gs)
		}
		e.schedule(gs)
	}
}

// Paused returns whether nothing opens by itself, since when and until when
// (0 for an open end).
func (e *Engine) Paused() (paused bool, since, until calendar.Instant) {
	if !e.paused() {
		return false, 0, 0
	}
	if e.PauseUntil < never {
		until = e.PauseUntil
	}
	return true, e.PausedAt, until
}
