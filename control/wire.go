// Package control is a keeper's socket: HTTP with JSON over a Unix socket, in
// types of its own. Who calls, the kernel says; what a caller may see and do
// is decided here.
package control

import (
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/words"
)

// Status is what a keeper tells of itself.
type Status struct {
	PID        int                   `json:"pid"`
	Version    string                `json:"version"` // of the program that the keeper runs
	Began      time.Time             `json:"began"`
	Now        time.Time             `json:"now"`
	Zone       string                `json:"zone"`
	Staged     bool                  `json:"staged"`
	Asleep     bool                  `json:"asleep,omitempty"` // a staged machine sleeps; a real one does not answer then
	Paused     bool                  `json:"paused"`
	PausedAt   *time.Time            `json:"paused_since,omitempty"`
	PauseUntil *time.Time            `json:"pause_until,omitempty"`
	Next       *time.Time            `json:"next,omitempty"`
	Running    int                   `json:"running"`
	Gates      map[string]GateStatus `json:"gates"`
	Broken     gate.Findings         `json:"broken"`
	Facts      Facts                 `json:"facts"`
	Troubles   []Trouble             `json:"troubles"`
	Last       int64                 `json:"last"` // number of the last event that was committed
}

// Facts is what holds on the machine, as far as a gate asks for it.
type Facts struct {
	OnBattery bool       `json:"on_battery"`
	Charge    int        `json:"charge,omitempty"` // percent; 0 where it is not known
	Online    bool       `json:"online"`
	People    []string   `json:"people,omitempty"`     // who is logged on
	Desktops  []string   `json:"desktops,omitempty"`   // whose desktops are there; "" is the keeper's own
	IdleSince *time.Time `json:"idle_since,omitempty"` // when somebody has last touched the machine
	Paths     []string   `json:"paths,omitempty"`      // those of the paths needed that are there
}

// NewFacts returns an engine's facts as the socket tells them.
func NewFacts(f *engine.Facts) Facts {
	out := Facts{OnBattery: f.OnBattery, Charge: f.Charge, Online: f.Online, Desktops: f.Desktops, Paths: f.Paths, IdleSince: timeOf(f.IdleSince)}
	for _, p := range f.People {
		out.People = append(out.People, p.Account)
	}
	return out
}

// timeOf returns an instant as a time, and nil for none.
func timeOf(at calendar.Instant) *time.Time {
	if at == 0 {
		return nil
	}
	t := at.Time()
	return &t
}

// Trouble is something that a keeper cannot be told, or do, on its machine.
type Trouble struct {
	Stops bool   `json:"stops,omitempty"` // it keeps programs from starting
	What  string `json:"what"`
	Why   string `json:"why"`
}

// Decision is what was decided, with its reason in words and, for programs, as
// a code with arguments.
type Decision struct {
	At       time.Time   `json:"at"`
	Gate     string      `json:"gate"`
	Opening  string      `json:"opening"`
	Decision string      `json:"decision"` // start, repeat, wait, …
	Due      *time.Time  `json:"due,omitempty"`
	Run      int64       `json:"run,omitempty"`
	Result   string      `json:"result,omitempty"`
	Signal   string      `json:"signal,omitempty"`
	Count    int64       `json:"count,omitempty"`
	Rule     string      `json:"rule,omitempty"`
	Reason   string      `json:"reason"`
	Code     string      `json:"code"`
	Args     engine.Args `json:"args,omitzero"`
}

// NewDecision returns an engine's decision as the socket tells it.
func NewDecision(d *engine.Decision) Decision {
	return Decision{At: d.At.Time(), Gate: d.Gate, Opening: d.Opening, Decision: string(d.Kind), Due: timeOf(d.Due), Run: d.Run,
		Result: string(d.Result), Signal: d.Signal, Count: d.Count, Rule: d.Rule, Reason: words.Reason(d.Reason), Code: string(d.Code), Args: d.Args}
}

// Starts reports whether the decision starts a program.
func (d *Decision) Starts() bool {
	return (&engine.Decision{Kind: engine.DecisionKind(d.Decision)}).Starts()
}

// GateStatus is what goes on with a gate.
type GateStatus struct {
	Version string     `json:"version"` // of the text that is in force
	Next    *time.Time `json:"next,omitempty"`
	Opening string     `json:"opening,omitempty"`
	Running []int64    `json:"running,omitempty"`
	Waiting string     `json:"waiting,omitempty"` // what a start waits for
	Lacks   string     `json:"lacks,omitempty"`   // what it needs and is not so now
}

// Verb is what a keeper can be asked for.
type Verb string

// What a keeper can be asked for.
const (
	Open   Verb = "open"
	Stop   Verb = "stop"
	Pause  Verb = "pause"
	Resume Verb = "resume"
	Send   Verb = "send"
	// Restart lets the program begin anew, such as after an upgrade: what runs goes on.
	Restart Verb = "restart"
	// Finish lets the keeper end: what runs goes on.
	Finish Verb = "finish"
	Reload Verb = "reload" // read the folder of gates now; it is answered when they are in force
)

// Command is what a keeper is asked to do.
type Command struct {
	Verb  Verb       `json:"-"`
	Gate  string     `json:"gate,omitempty"`
	Name  string     `json:"name,omitempty"` // of a signal
	Until *time.Time `json:"until,omitempty"`
	Words []string   `json:"words,omitempty"` // of what is to be staged
}

// Answer is what came of a command.
type Answer struct {
	Decisions []Decision `json:"decisions"`
	Error     string     `json:"error,omitempty"`
	Known     bool       `json:"known"` // the gate exists
}
