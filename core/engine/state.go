package engine

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"timegate/core/calendar"
	"timegate/core/gate"
)

// StateVersion is the version of [State]. Another one cannot be restored.
const StateVersion = 1

// State is all that decides what an engine does next, but for the gates'
// definitions: state, definitions and events alone give the decisions.
type State struct {
	Version int
	Machine Machine
	Gates   map[string]GateState
}

// Machine is the part of the state that belongs to no gate.
type Machine struct {
	Environment
	Now        calendar.Instant `json:"now"` // of the last event that changed something
	NextRun    int64            `json:"next_run"`
	BootID     string           `json:"boot_id,omitempty"`
	Booted     calendar.Instant `json:"booted,omitempty"`    // when this boot was first seen; 0 for never
	Ahead      calendar.Instant `json:"ahead_ms,omitempty"`  // by how much the wall clock is ahead of the uptime
	PausedAt   calendar.Instant `json:"paused_at,omitempty"` // 0 where nothing is paused
	PauseUntil calendar.Instant `json:"pause_until,omitempty"`
	Facts      Facts            `json:"facts"`
	Announced  []Person         `json:"announced,omitempty"` // whose logon has been taken, in this boot
	Pending    bool             `json:"pending,omitempty"`   // as [Begin] has it
	Pace       Pace             `json:"pace"`
	Batch      int              `json:"batch,omitempty"` // starts counted since BatchAt
	BatchAt    calendar.Instant `json:"batch_at,omitempty"`
	NextTurn   int64            `json:"next_turn,omitempty"` // place in the queue of the next start that is held back
	Hold       *Hold            `json:"hold,omitempty"`
}

// GateState is what goes on with a gate.
type GateState struct {
	Version  string            `json:"version"`
	Days     map[string]string `json:"days,omitempty"`
	Gone     bool              `json:"gone,omitempty"` // removed, but still running
	Openings []OpeningState    `json:"openings,omitempty"`
	Runs     []RunState        `json:"runs,omitempty"`   // alive, oldest first
	Queued   *Request          `json:"queued,omitempty"` // waits for a run to end
	Retry    *Request          `json:"retry,omitempty"`  // waits for its next try
	Needing  *Request          `json:"needing,omitempty"`
	Held     []*Request        `json:"held,omitempty"` // wait for their turn
	LastGood calendar.Instant  `json:"last_good,omitempty"`
	LastEnd  calendar.Instant  `json:"last_end,omitempty"`
}

// OpeningState is what goes on with an opening. It is known by Name and
// Phrase: an opening of another name or phrase begins anew.
type OpeningState struct {
	Name    string           `json:"name"`
	Phrase  string           `json:"phrase"`            // canonical form
	Moment  calendar.Instant `json:"moment,omitempty"`  // next moment; never if none is known
	Repeat  calendar.Instant `json:"repeat,omitempty"`  // next repeat; never if none
	Base    calendar.Instant `json:"base,omitempty"`    // the moment that is being repeated
	LastDue calendar.Instant `json:"last,omitempty"`    // the last due that was decided
	Came    calendar.Instant `json:"came,omitempty"`    // when its event last counted
	Count   int64            `json:"count,omitempty"`   // how often it did
	Cause   *Cause           `json:"cause,omitempty"`   // of Moment
	Settles calendar.Instant `json:"settles,omitempty"` // when an event has occurred unless another comes before; never if none is under way

	// How many files have changed: those that are still to become quiet, and
	// those that did and for which no program was started yet.
	Moving int64 `json:"moving,omitempty"`
	// Others says that some of those that are still to become quiet changed while no run of
	// the gate was on; Own is how many moments in a row came without such a change.
	Others  bool  `json:"others,omitempty"`
	Own     int64 `json:"own,omitempty"`
	Changes int64 `json:"changes,omitempty"`
	// The files, which nothing is decided by; they are kept beside the state.
	MovingFiles FileSet `json:"-"`
	Files       FileSet `json:"-"`
}

// NextDue returns the earliest moment or repeat of an opening of a gate of which nothing runs,
// if there is one.
func (s *State) NextDue() (calendar.Instant, bool) {
	at := calendar.Instant(never)
	for _, g := range s.Gates {
		if len(g.Runs) > 0 {
			continue
		}
		for _, o := range g.Openings {
			for _, due := range []calendar.Instant{o.Moment, o.Repeat} {
				if due > 0 {
					at = min(at, due)
				}
			}
		}
	}
	return at, at < never
}

// RunState is a run that has been started or is about to be.
type RunState struct {
	ID       int64            `json:"run"`
	Opening  string           `json:"opening,omitempty"`
	Due      calendar.Instant `json:"due"`
	Began    calendar.Instant `json:"began"`              // decided, then started
	As       string           `json:"as,omitempty"`       // the account it runs as ([gate.Gate.Account])
	PID      int              `json:"pid,omitempty"`      // 0 until it has started
	Born     int64            `json:"born,omitempty"`     // when its process began, as [RunStarted] has it
	Stopping Result           `json:"stopping,omitempty"` // why it was asked to end; "" if it was not
	KillAt   calendar.Instant `json:"kill_at,omitempty"`  // when it is killed after that; never if it is not
	Why      Reason           `json:"why,omitzero"`       // it was asked to end
	Try      int              `json:"try,omitempty"`      // how many tries there were before
	ByHand   bool             `json:"by_hand,omitempty"`
	Cause    *Cause           `json:"cause,omitempty"`
}

// Request is a start that waits.
type Request struct {
	Opening string           `json:"opening,omitempty"` // "" for a start by hand
	Due     calendar.Instant `json:"due"`
	Kind    DecisionKind     `json:"kind"`
	Moment  bool             `json:"moment,omitempty"`
	Try     int              `json:"try,omitempty"`
	Cause   *Cause           `json:"cause,omitempty"`
	Why     Reason           `json:"why"`             // it starts
	Rule    string           `json:"rule,omitempty"`  // by which key of its file, where that is more than its opening
	Lacks   *Need            `json:"lacks,omitempty"` // what it waits for
	Since   calendar.Instant `json:"since,omitempty"` // and since when
	At      calendar.Instant `json:"at,omitempty"`    // when it is tried again, or given up
	Mends   calendar.Instant `json:"mends,omitempty"` // when its needs will hold by the passing of time; 0 if that is not known
	Turn    int64            `json:"turn,omitempty"`  // its place among those that are held back
}

func (r *Request) clone() *Request {
	if r == nil {
		return nil
	}
	c := *r
	return &c
}

func (r *Request) byHand() bool { return r.Opening == "" }

// hide lets JSON leave out the instants that never come.
func hide(list ...*calendar.Instant) {
	for _, at := range list {
		if *at == never {
			*at = 0
		}
	}
}

func unhide(list ...*calendar.Instant) {
	for _, at := range list {
		if *at == 0 {
			*at = never
		}
	}
}

type gateJSON GateState

// MarshalJSON implements [json.Marshaler].
func (s GateState) MarshalJSON() ([]byte, error) {
	s.Openings = slices.Clone(s.Openings)
	return json.Marshal(s.encoded())
}

// encoded is the state in the form that is written; it takes the openings over.
func (s *GateState) encoded() *gateJSON {
	for i := range s.Openings {
		o := &s.Openings[i]
		hide(&o.Moment, &o.Repeat, &o.Settles)
	}
	return (*gateJSON)(s)
}

// UnmarshalJSON implements [json.Unmarshaler].
func (s *GateState) UnmarshalJSON(text []byte) error {
	err := json.Unmarshal(text, (*gateJSON)(s))
	for i := range s.Openings {
		o := &s.Openings[i]
		unhide(&o.Moment, &o.Repeat, &o.Settles)
	}
	return err
}

type runJSON RunState

// MarshalJSON implements [json.Marshaler].
func (r RunState) MarshalJSON() ([]byte, error) {
	hide(&r.KillAt)
	return json.Marshal((*runJSON)(&r))
}

// UnmarshalJSON implements [json.Unmarshaler].
func (r *RunState) UnmarshalJSON(text []byte) error {
	err := json.Unmarshal(text, (*runJSON)(r))
	unhide(&r.KillAt)
	return err
}

type machineJSON Machine

// MarshalJSON implements [json.Marshaler].
func (m Machine) MarshalJSON() ([]byte, error) {
	hide(&m.PauseUntil)
	return json.Marshal((*machineJSON)(&m))
}

// UnmarshalJSON implements [json.Unmarshaler].
func (m *Machine) UnmarshalJSON(text []byte) error {
	err := json.Unmarshal(text, (*machineJSON)(m))
	unhide(&m.PauseUntil)
	return err
}

// state returns a copy of what goes on with a gate. What it shares with the
// engine is never changed.
func (gs *gateState) state() GateState {
	s := gs.GateState
	s.Openings, s.Runs = nil, nil
	for _, o := range gs.opens {
		c := o.OpeningState
		c.MovingFiles, c.Files = c.MovingFiles.clone(), c.Files.clone()
		s.Openings = append(s.Openings, c)
	}
	for _, r := range gs.runs {
		s.Runs = append(s.Runs, r.RunState)
	}
	s.Held = slices.Clone(s.Held)
	for i := range s.Held {
		s.Held[i] = s.Held[i].clone()
	}
	s.Queued, s.Retry, s.Needing = s.Queued.clone(), s.Retry.clone(), s.Needing.clone()
	return s
}

// Snapshot returns the state.
func (e *Engine) Snapshot() State {
	s := State{Version: StateVersion, Machine: e.machine(), Gates: make(map[string]GateState, len(e.gates))}
	for name, gs := range e.gates {
		s.Gates[name] = gs.state()
	}
	return s
}

func (e *Engine) machine() Machine {
	m := e.Machine
	if m.Hold != nil {
		h := *m.Hold
		m.Hold = &h
	}
	return m
}

// Restore returns an engine with a state, and the definitions of its gates. A
// gate whose definition is not given rests until a [Begin] brings one.
func Restore(s State, defs []Definition) (*Engine, error) {
	if s.Version != StateVersion {
		return nil, fmt.Errorf("a state of version %d, and this Time Gate knows version %d", s.Version, StateVersion)
	}
	e := New()
	e.Machine, e.now = s.Machine, s.Machine.Now
	byName := make(map[string]*gate.Gate, len(defs))
	for _, d := range defs {
		byName[d.Name] = d.Gate
	}
	for name, state := range s.Gates {
		e.gates[name] = e.restoreGate(name, state, byName[name])
	}
	for _, gs := range e.gates {
		e.schedule(gs)
	}
	slices.SortFunc(e.held, func(a, b heldStart) int { return int(a.req.Turn - b.req.Turn) })
	return e, nil
}

func (e *Engine) restoreGate(name string, s GateState, g *gate.Gate) *gateState {
	gs := &gateState{name: name, GateState: s, gate: g, index: -1, wake: never}
	for i := range s.Openings {
		o := &opening{OpeningState: s.Openings[i]}
		o.MovingFiles, o.Files = o.MovingFiles.clone(), o.Files.clone()
		if g != nil {
			o.def, _ = g.Opening(o.Name)
		}
		if o.def != nil || g == nil {
			gs.opens = append(gs.opens, o)
		}
	}
	for i := range s.Runs {
		r := &run{RunState: s.Runs[i], gate: gs}
		gs.runs, e.runs[r.ID] = append(gs.runs, r), r
	}
	gs.Openings, gs.Runs = nil, nil
	for _, req := range gs.Held {
		e.held = append(e.held, heldStart{gs, req})
	}
	e.needing(gs)
	return gs
}

// Clone returns an engine that goes its own way from here.
func (e *Engine) Clone() *Engine {
	defs := make([]Definition, 0, len(e.gates))
	for name, gs := range e.gates {
		defs = append(defs, Definition{Name: name, Gate: gs.gate})
	}
	c, err := Restore(e.Snapshot(), defs)
	if err != nil {
		panic(err) // a snapshot is of the version that is known
	}
	return c
}

// Delta is what has changed in the state, in the form in which it is kept.
type Delta struct {
	Machine []byte            // JSON of a [Machine]; nil where it has not changed
	Gates   map[string][]byte // JSON of a [GateState]; nil where there is no such gate any more
	Files   []FileChange      // in order
	Renamed []Renamed         // in order, before all else
}

// Renamed is a gate that goes on under another name.
type Renamed struct{ From, To string }

// Empty reports whether nothing has changed.
func (d *Delta) Empty() bool {
	return d.Machine == nil && len(d.Gates)+len(d.Files)+len(d.Renamed) == 0
}

// Add adds a later change.
func (d *Delta) Add(later *Delta) {
	if later.Machine != nil {
		d.Machine = later.Machine
	}
	if d.Gates == nil {
		d.Gates = map[string][]byte{}
	}
	maps.Copy(d.Gates, later.Gates)
	for _, r := range later.Renamed {
		moveFiles(d.Files, r.From, r.To)
	}
	d.Files = append(d.Files, later.Files...)
	d.Renamed = append(d.Renamed, later.Renamed...)
}

// FileChange is what has happened to the files of an opening: some were added
// to those that move, those came to rest, or those at rest were handed to a
// run.
type FileChange struct {
	Gate, Opening string
	Added         []string
	Settled       bool
	Taken         bool
}

// moveFiles gives changes of files to a gate's new name.
func moveFiles(list []FileChange, from, to string) {
	for i := range list {
		if list[i].Gate == from {
			list[i].Gate = to
		}
	}
}

// Changed reports whether the last event has changed anything that is kept.
func (e *Engine) Changed() bool { return e.changed }

// Delta returns what has changed since it was last asked for.
func (e *Engine) Delta() Delta {
	d := Delta{Files: e.fileChanges, Renamed: e.renamed}
	e.fileChanges, e.renamed = nil, nil
	if machine := mustJSON(e.Machine); !bytes.Equal(machine, e.lastMachine) {
		d.Machine, e.lastMachine = machine, machine
	}
	if len(e.dirty) > 0 {
		d.Gates = make(map[string][]byte, len(e.dirty))
		for _, gs := range e.dirty {
			gs.touched = false
			d.Gates[gs.name] = nil
			if e.gates[gs.name] == gs {
				s := gs.GateState // encoded before anything changes: no copies
				s.Openings, s.Runs = make([]OpeningState, 0, len(gs.opens)), nil
				for _, o := range gs.opens {
					s.Openings = append(s.Openings, o.OpeningState)
				}
				for _, r := range gs.runs {
					s.Runs = append(s.Runs, r.RunState)
				}
				d.Gates[gs.name] = mustJSON(s.encoded())
			}
		}
		e.dirty = e.dirty[:0]
	}
	for _, r := range d.Renamed {
		if e.gates[r.From] == nil {
			d.Gates[r.From] = nil
		}
	}
	return d
}

func mustJSON(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // the types of a state can all be written
	}
	return b
}

// touch notes that a gate's state has changed.
func (e *Engine) touch(gs *gateState) {
	e.changed = true
	if !gs.touched {
		gs.touched = true
		e.dirty = append(e.dirty, gs)
	}
}

// FileSet holds paths, each once, in the order in which they came.
type FileSet struct {
	list  []string
	has   map[string]bool
	bytes int // of all paths
}

// How many paths are kept of an opening's changes, and how many bytes they have in all.
// Programs are told how many changes there were in any case.
const (
	mostFiles = 1 << 20
	mostPaths = 64 << 20
)

// NewFileSet returns a set of paths.
func NewFileSet(paths []string) FileSet {
	var s FileSet
	s.add(paths)
	return s
}

// Paths returns the paths. The slice must not be changed.
func (s *FileSet) Paths() []string { return s.list }

// add returns the paths that were not there yet.
func (s *FileSet) add(paths []string) []string {
	if s.has == nil && len(paths) > 0 {
		s.has = make(map[string]bool, len(paths)+len(s.list))
		for _, p := range s.list {
			s.has[p] = true
		}
	}
	before := len(s.list)
	for _, p := range paths {
		if !s.has[p] && len(s.list) < mostFiles && s.bytes+len(p) <= mostPaths {
			s.has[p], s.list = true, append(s.list, p)
			s.bytes += len(p)
		}
	}
	return s.list[before:len(s.list):len(s.list)]
}

func (s *FileSet) clone() FileSet {
	return FileSet{list: slices.Clip(s.list), has: maps.Clone(s.has), bytes: s.bytes}
}
