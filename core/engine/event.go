package engine

import (
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// Tolerance is how late a tick may bring a moment that still counts as kept.
const Tolerance = time.Minute

// EventKind names what happened.
type EventKind string

// The kinds of event.
const (
	Begin    EventKind = "begin"     // a keeper takes over; Memory and Set are given
	Gates    EventKind = "gates"     // gates were added or changed (Set) or taken away (Removed)
	Tick     EventKind = "tick"      // time has come to At
	ClockSet EventKind = "clock-set" // the wall clock was set by By; At is the new time
	Boot     EventKind = "boot"      // the machine has booted
	Happened EventKind = "happened"  // What happened on the machine, to whom or what Name says
	Present  EventKind = "present"   // only the Facts have changed
	Paced    EventKind = "paced"     // the keeper's Pace was set
	Signal   EventKind = "signal"    // somebody sends the signal Name
	Open     EventKind = "open"      // somebody opens Gate by hand
	Stop     EventKind = "stop"      // somebody stops the runs of Gate
	Pause    EventKind = "pause"     // nothing opens by itself, until Until where it is not 0
	Resume   EventKind = "resume"    // the pause ends
	Started  EventKind = "started"   // Run has started as process PID
	Failed   EventKind = "failed"    // Run could not be started: Detail
	Refuse   EventKind = "refused"   // Run is not safe to start: Detail
	Ended    EventKind = "ended"     // Run has ended with Exit or by Signal
	Lost     EventKind = "lost"      // Run is gone, and nobody saw how it ended

	// What is only recorded, and nothing follows from.
	Asleep EventKind = "asleep" // the machine slept until At, for By
	Rest   EventKind = "rest"   // a keeper ends
)

// An Event is what the engine is told. Which fields are in use depends on
// Kind.
type Event struct {
	Kind    EventKind        `json:"kind"`
	At      calendar.Instant `json:"at"`
	Gate    string           `json:"gate,omitempty"`
	Name    string           `json:"name,omitempty"`
	Run     int64            `json:"run,omitempty"`
	PID     int              `json:"pid,omitempty"`
	Exit    int              `json:"exit,omitempty"`
	Signal  string           `json:"signal,omitempty"`
	Until   calendar.Instant `json:"until,omitempty"`
	Detail  string           `json:"detail,omitempty"`
	Usage   *Usage           `json:"usage,omitempty"` // Ended
	Set     []Definition     `json:"set,omitempty"`
	Removed []string         `json:"removed,omitempty"`
	Memory  *Memory          `json:"memory,omitempty"`
	Host    string           `json:"host,omitempty"` // Begin: the machine's name

	// What happened, with Name: the account of a logon, logoff, lock or
	// unlock, and what was watched for where something was (see
	// [phrase.Occurrence.Watch]). Subject is what it happened to, such as the
	// device, and Text the line of a log. Count is how often it happened, of
	// which this event is the sum.
	What    phrase.What      `json:"what,omitempty"`
	Subject string           `json:"subject,omitempty"`
	Text    string           `json:"text,omitempty"`
	Count   int64            `json:"count,omitempty"`
	Files   []string         `json:"-"` // that changed
	Facts   *Facts           `json:"facts,omitempty"`
	By      calendar.Instant `json:"by,omitempty"` // ClockSet, Asleep: by how much, and how long, in milliseconds
	Pace    *Pace            `json:"pace,omitempty"`

	// Readings are what was measured when the run started or ended, in bytes.
	Readings map[string]int64 `json:"readings,omitempty"`
}

// Usage is what a run has used.
type Usage struct {
	UserMS   int64 `json:"user_ms"`   // processor time in the program
	SystemMS int64 `json:"system_ms"` // processor time in the kernel
	MaxRSS   int64 `json:"max_rss"`   // largest resident memory of one process, bytes
	Output   int64 `json:"output"`    // bytes printed
	Dropped  int64 `json:"dropped"`   // bytes of them that were not kept
}

// A Definition is a gate as an event brings it. Version identifies its text,
// so that a journal can keep the text once.
type Definition struct {
	Name    string     `json:"name"`
	Version string     `json:"version"`
	Gate    *gate.Gate `json:"-"`
}

// Memory is what a new engine must know of the time before it.
type Memory struct {
	// LastSeen is the instant up to which every due has been decided, or 0
	// where nothing was ever decided.
	LastSeen calendar.Instant `json:"last_seen,omitempty"`
	NextRun  int64            `json:"next_run"`
	// Booted is when this boot of the machine was first seen, or 0 if it is
	// new and a Boot event follows.
	Booted      calendar.Instant            `json:"booted,omitempty"`
	Paused      bool                        `json:"paused,omitempty"`
	PausedSince calendar.Instant            `json:"paused_since,omitempty"`
	PauseUntil  calendar.Instant            `json:"pause_until,omitempty"`
	Versions    map[string]string           `json:"versions,omitempty"`  // of the gates that were known
	Openings    map[string]OpeningMemory    `json:"openings,omitempty"`  // by GATE/OPENING
	LastGood    map[string]calendar.Instant `json:"last_good,omitempty"` // by gate
	Waiting     []WaitMemory                `json:"waiting,omitempty"`
	Running     []RunMemory                 `json:"running,omitempty"`
	People      []Person                    `json:"people,omitempty"` // whose logon was told, in this boot
}

// OpeningMemory is what was decided about an opening.
type OpeningMemory struct {
	Last   calendar.Instant `json:"last,omitempty"`   // the last due decided
	Moment calendar.Instant `json:"moment,omitempty"` // the last moment that began its repeat
	Count  int64            `json:"count,omitempty"`  // how many moments there were
}

// WaitMemory is a start that was waiting.
type WaitMemory struct {
	For     WaitFor          `json:"for"`
	Gate    string           `json:"gate"`
	Opening string           `json:"opening,omitempty"`
	Due     calendar.Instant `json:"due"`
	Until   calendar.Instant `json:"until,omitempty"`
	Try     int              `json:"try,omitempty"`
	Cause   *Cause           `json:"cause,omitempty"`
}

// RunMemory is a run that had not ended.
type RunMemory struct {
	Run     int64            `json:"run"`
	Gate    string           `json:"gate"`
	Opening string           `json:"opening,omitempty"`
	Due     calendar.Instant `json:"due"`
	Started calendar.Instant `json:"started,omitempty"`
	PID     int              `json:"pid,omitempty"`
	Try     int              `json:"try,omitempty"`
}

// DecisionKind names what follows.
type DecisionKind string

// The kinds of decision.
const (
	Start   DecisionKind = "start"    // start the program
	Repeat  DecisionKind = "repeat"   // start it: a repeat of an earlier moment
	Retry   DecisionKind = "retry"    // start it: another try after a failure
	CatchUp DecisionKind = "catch-up" // start it: for moments that were missed
	Wait    DecisionKind = "wait"     // the start waits
	Skip    DecisionKind = "skip"     // a moment passes without a start
	Halt    DecisionKind = "stop"     // send Signal to the program
	End     DecisionKind = "end"      // the run has ended with Result
)

// WaitFor is what a start waits for.
type WaitFor string

// What a start may wait for.
const (
	ForRun   WaitFor = "run"   // for a run of its gate to end
	ForRetry WaitFor = "retry" // for its next try
	ForDelay WaitFor = "delay" // for the delay after its event
	ForQuiet WaitFor = "quiet" // for files to be quiet
	ForNeeds WaitFor = "needs" // for what its gate needs
	ForPace  WaitFor = "pace"  // for its turn among the starts of a boot or logon
)

// Cause is the event that brought a moment.
type Cause struct {
	Event   phrase.What `json:"event"`
	Account string      `json:"account,omitempty"` // logon, logoff, lock, unlock
	Subject string      `json:"subject,omitempty"` // device, mount point, signal, gate, log
	Text    string      `json:"text,omitempty"`    // the line of a log
	Count   int64       `json:"count,omitempty"`   // of changes or lines
	Files   []string    `json:"-"`                 // that changed
}

// Result is how a run, or a moment without one, turned out.
type Result string

// The results.
const (
	Running Result = "running"
	OK      Result = "ok"
	Failure Result = "failed"
	Stopped Result = "stopped" // ended by hand or to be replaced
	Overran Result = "overran" // ended because it took longer than its limit
	Skipped Result = "skipped" // passed over by a rule
	Missed  Result = "missed"  // slept or off through
	Refused Result = "refused" // not safe or not possible to start
	LostRun Result = "lost"    // nobody saw how it ended
)

// A Decision is what the engine wants done, or has found.
type Decision struct {
	Kind    DecisionKind     `json:"kind"`
	At      calendar.Instant `json:"at"`
	Gate    string           `json:"gate"`
	Opening string           `json:"opening,omitempty"` // "" for a start by hand
	Due     calendar.Instant `json:"due,omitempty"`
	Run     int64            `json:"run,omitempty"`
	Result  Result           `json:"result,omitempty"` // End, Skip
	Signal  string           `json:"signal,omitempty"` // Halt: TERM or KILL
	Count   int64            `json:"count,omitempty"`  // Skip: how many dues, where more than one
	Moment  bool             `json:"moment,omitempty"` // the due begins the opening's repeats
	For     WaitFor          `json:"for,omitempty"`    // Wait: what for
	Until   calendar.Instant `json:"until,omitempty"`  // Wait: when it is tried again, or given up
	Try     int              `json:"try,omitempty"`    // how many tries there were before, for this due
	Cause   *Cause           `json:"cause,omitempty"`
	Rule    string           `json:"rule,omitempty"` // the key of the gate file that decided, or "pace" of the settings
	Reason  string           `json:"reason"`

	first, earlier calendar.Instant // Skip: the first due, and the one before the last
}

// Starts reports whether the decision starts a program.
func (d *Decision) Starts() bool {
	switch d.Kind {
	case Start, Repeat, Retry, CatchUp:
		return true
	}
	return false
}
