package engine

import (
	"container/heap"
	"maps"
	"slices"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// Key names an opening of a gate.
func Key(gateName, openingName string) string { return gateName + "/" + openingName }

// placed is a gate that was put, with the openings that are no more.
type placed struct {
	gate  *gateState
	ended []*opening
	fresh bool // its state has changed
}

// put adds a gate or takes over its new definition. An opening of the same
// name and phrase goes on where it was; others begin anew.
func (e *Engine) put(def Definition) placed {
	gs := e.gates[def.Name]
	fresh := gs == nil || gs.Gone || gs.Version != def.Version || !maps.Equal(gs.Days, def.Days)
	if gs == nil {
		gs = &gateState{name: def.Name, index: -1, wake: never}
		e.gates[def.Name] = gs
	}
	e.listeners = nil
	old := gs.opens
	gs.gate, gs.Version, gs.Days, gs.Gone, gs.opens = def.Gate, def.Version, def.Days, false, nil
	for i := range def.Gate.Opens {
		d := &def.Gate.Opens[i]
		o := &opening{def: d, OpeningState: OpeningState{Name: d.Name, Phrase: d.When, Moment: never, Repeat: never, Settles: never}}
		if j := slices.IndexFunc(old, func(p *opening) bool { return p.Name == d.Name && p.Phrase == d.When }); j >= 0 {
			o.OpeningState = old[j].OpeningState
			old = slices.Delete(old, j, j+1)
		}
		gs.opens = append(gs.opens, o)
	}
	return placed{gs, old, fresh}
}

// change puts gates into force that were added, changed or removed.
func (e *Engine) change(b *GatesChanged) {
	if b.Zone != "" {
		e.Zone, e.changed = b.Zone, true
	}
	e.rename(b.Set, func(name string) bool { return slices.Contains(b.Removed, name) })
	for _, def := range b.Set {
		e.settleGate(e.put(def))
	}
	for _, name := range b.Removed {
		if gs := e.gates[name]; gs != nil {
			e.remove(gs)
		}
	}
	if b.Facts != nil {
		e.updateFacts(b.Facts)
	}
}

// rename lets gates that have a new name go on with the state of the old one: by
// what the gate's file says that it was called, or where that is taken back, the
// other way round. Of a former name under which there is no gate and no state any more,
// the gate gets what was recorded.
func (e *Engine) rename(set []Definition, gone func(name string) bool) {
	for _, def := range set {
		if e.gates[def.Name] != nil {
			continue
		}
		for _, was := range slices.Backward(def.Gate.Was) {
			switch gs := e.gates[was]; {
			case gs != nil && gone(was) && e.gates[def.Name] == nil:
				e.move(gs, def.Name)
			case gs == nil && was != def.Name && !slices.ContainsFunc(set, func(d Definition) bool { return d.Name == was }):
				e.renamed = append(e.renamed, Renamed{From: was, To: def.Name})
			}
		}
	}
	for _, name := range e.names() {
		gs := e.gates[name]
		if gs.gate == nil || !gone(name) {
			continue
		}
		for _, def := range set {
			if e.gates[def.Name] == nil && slices.Contains(gs.gate.Was, def.Name) {
				e.move(gs, def.Name)
			}
		}
	}
}

// move gives a gate's state another name.
func (e *Engine) move(gs *gateState, to string) {
	e.renamed = append(e.renamed, Renamed{From: gs.name, To: to})
	moveFiles(e.fileChanges, gs.name, to)
	delete(e.gates, gs.name)
	e.gates[to], gs.name = gs, to
	if gs.index >= 0 {
		heap.Fix(&e.agenda, gs.index)
	}
	e.listeners = nil
	e.touch(gs)
}

// settleGate finds what comes next for a gate that was put. What has come
// already is still to be decided.
func (e *Engine) settleGate(p placed) {
	gs, decided := p.gate, len(e.out)
	for _, o := range p.ended {
		e.dismiss(gs, o, ByChange)
	}
	for _, o := range gs.opens {
		before := [...]calendar.Instant{o.Moment, o.Repeat, o.Settles}
		switch {
		case !e.on(gs.gate, o):
			e.dismiss(gs, o, BySwitch)
		case o.Moment > e.now:
			e.findMoment(gs, o, e.now)
		}
		p.fresh = p.fresh || before != [...]calendar.Instant{o.Moment, o.Repeat, o.Settles}
	}
	if !gs.gate.Enabled {
		e.cancelWaiting(gs, BySwitch)
	}
	if p.fresh || len(e.out) > decided {
		e.touch(gs)
	}
	e.schedule(gs)
}

// remove takes a gate away. While something of it runs, its limits hold.
func (e *Engine) remove(gs *gateState) {
	e.cancelWaiting(gs, ByRemoval)
	for _, o := range gs.opens {
		e.dismiss(gs, o, ByRemoval)
	}
	gs.Gone, gs.opens = true, nil
	e.listeners = nil
	e.arm(gs)
	e.dropIfOver(gs)
}

// dismiss lets nothing more come of an opening. A moment that an event had
// brought is skipped for that reason.
func (e *Engine) dismiss(gs *gateState, o *opening, by CancelCode) {
	stage, at := ForDelay, calendar.Instant(never)
	if o.Cause != nil {
		at = o.Moment
	}
	if o.Moving > 0 && o.Settles < at {
		stage, at = ForQuiet, o.Settles
	}
	if at > e.now && at < never {
		e.skip(gs, Request{Opening: o.Name, Due: at, Cause: o.Cause}, "", Reason{CodeCancelled, Args{By: by, Stage: stage}})
	}
	if o.Moving+o.Changes > 0 {
		e.fileChanges = append(e.fileChanges, FileChange{Gate: gs.name, Opening: o.Name, Settled: true, Taken: true})
	}
	o.Moving, o.Changes, o.MovingFiles, o.Files = 0, 0, FileSet{}, FileSet{}
	o.Moment, o.Repeat, o.Settles = never, never, never
}

// cancelWaiting skips the starts of a gate that wait.
func (e *Engine) cancelWaiting(gs *gateState, by CancelCode) {
	cancel := func(req **Request, stage WaitKind) {
		r := *req
		if r == nil {
			return
		}
		*req = nil
		e.skip(gs, *r, "", Reason{CodeCancelled, Args{By: by, Stage: stage, Need: r.Lacks}})
	}
	cancel(&gs.Queued, ForRun)
	cancel(&gs.Retry, ForRetry)
	cancel(&gs.Needing, ForNeeds)
	e.needing(gs)
	e.dropHeld(gs, Reason{CodeCancelled, Args{By: by, Stage: ForPace}})
}

// dropIfOver forgets a gate that was removed once nothing of it runs.
func (e *Engine) dropIfOver(gs *gateState) {
	if !gs.Gone || len(gs.runs) > 0 {
		return
	}
	if gs.index >= 0 {
		heap.Remove(&e.agenda, gs.index)
	}
	delete(e.gates, gs.name)
	delete(e.needers, gs)
	e.touch(gs)
}

// on reports whether an opening is switched on, here.
func (e *Engine) on(g *gate.Gate, o *opening) bool { return g.Active(o.def, e.Host) }

// Status is what goes on with a gate.
type Status struct {
	Next    calendar.Instant // next due, 0 if none is known
	Opening string           // of the next due
	Running []int64          // runs, oldest first
	Waiting WaitKind         // what a start waits for, "" where none does
	Need    *Need            // what it needs, where it waits for that
	Lacks   *Need            // the first of its needs that does not hold now, whether or not it is due
}

// Status returns what goes on with a gate, and whether it is known.
func (e *Engine) Status(name string) (Status, bool) {
	gs := e.gates[name]
	if gs == nil || gs.Gone {
		return Status{}, false
	}
	var s Status
	switch {
	case gs.Needing != nil:
		s.Waiting, s.Need = ForNeeds, gs.Needing.Lacks
	case gs.Queued != nil:
		s.Waiting = ForRun
	case len(gs.Held) > 0:
		s.Waiting = ForPace
	case gs.Retry != nil:
		s.Waiting = ForRetry
	}
	if gs.gate != nil {
		s.Lacks = e.Facts.Lacks(gs.gate, e.now)
	}
	at := calendar.Instant(never)
	for _, o := range gs.opens {
		due, waits := o.due(), WaitKind("")
		switch {
		case o.phrase().Kind == phrase.Event && o.phrase().Event.Kind == phrase.Change && o.Settles < due:
			due, waits = o.Settles, ForQuiet
		case o.onEvent() && o.Moment != never:
			waits = ForDelay
		}
		if due < at {
			at, s.Next, s.Opening = due, due, o.Name
		}
		if s.Waiting == "" {
			s.Waiting = waits
		}
	}
	for _, r := range gs.runs {
		s.Running = append(s.Running, r.ID)
	}
	return s, true
}

// GateOf returns the gate whose run it is, or "".
func (e *Engine) GateOf(run int64) string {
	if r := e.runs[run]; r != nil {
		return r.gate.name
	}
	return ""
}

// Alive returns how many runs have not ended.
func (e *Engine) Alive() int { return len(e.runs) }

// AliveRuns returns the runs that have not ended, by number, with their
// gates.
func (e *Engine) AliveRuns() []AliveRun {
	out := make([]AliveRun, 0, len(e.runs))
	for _, r := range e.runs {
		out = append(out, AliveRun{r.RunState, r.gate.name, r.gate.Version, r.gate.Days})
	}
	slices.SortFunc(out, func(a, b AliveRun) int { return int(a.ID - b.ID) })
	return out
}

// Signal is what a run was sent last, to end it: TERM, KILL, or "" for nothing.
func (r *RunState) Signal() string {
	switch {
	case r.Stopping == "":
		return ""
	case r.KillAt == never:
		return "KILL"
	}
	return "TERM"
}

// AliveRun is a run that has not ended.
type AliveRun struct {
	RunState
	Gate    string
	Version string // of the gate's text, and of the files of days that it reads
	Days    map[string]string
}
