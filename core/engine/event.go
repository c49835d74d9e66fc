package engine

import (
	"encoding/json"
	"fmt"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// Kind names a kind of event.
type Kind string

// An Event is what the engine is told: when, and what. Only the owner of the
// engine stamps events.
type Event struct {
	At   calendar.Instant
	Body Body
}

// Kind returns the kind of the event.
func (ev *Event) Kind() Kind { return ev.Body.Kind() }

// A Body is what an event tells. Each kind of event has a type of its own.
type Body interface{ Kind() Kind }

// Begin is the first event of a keeper: its whole environment, and what it
// found.
type Begin struct {
	Environment
	// BootID names this boot of the machine; it is "" where that cannot be
	// told. Uptime is how long the machine has been up, asleep or not, in
	// milliseconds; with it a clock that was set while no keeper ran is
	// noticed. 0 where that cannot be told.
	BootID string `json:"boot_id"`
	Uptime int64  `json:"uptime_ms"`

	Pace  Pace         `json:"pace"`
	Gates []Definition `json:"gates"`          // all of them
	Gone  []Definition `json:"gone,omitempty"` // those that were removed while they ran
	Facts Facts        `json:"facts"`
	// Ended are runs that were alive in the state and have ended since, and
	// Lost those of which nobody saw it.
	Ended []RunEnded `json:"ended,omitempty"`
	// FirstRun is the least number of a new run: lower ones were given before,
	// in a journal that is no more. 0 where the state knows.
	FirstRun int64   `json:"first_run,omitempty"`
	Lost     []int64 `json:"lost,omitempty"`
	// Pending says that it is not known yet who is logged on: the first facts that tell
	// of somebody are taken as these would be.
	Pending bool `json:"pending,omitempty"`
}

// Environment is where a keeper keeps its gates.
type Environment struct {
	Zone  string     `json:"zone"`
	Scope gate.Scope `json:"scope"`
	Host  string     `json:"host"`
	// Account is whose logons count where a phrase names nobody; "" is anybody's.
	Account string `json:"account,omitempty"`
	// NoWake says that nothing can wake the machine when it sleeps.
	NoWake bool `json:"no_wake,omitempty"`
}

// A Definition is a gate as an event brings it. Version identifies its text,
// and Days the texts of the files of days that it reads, by path, so that a
// journal can keep each text once.
type Definition struct {
	Name    string            `json:"name"`
	Version string            `json:"version"`
	Days    map[string]string `json:"days,omitempty"`
	Gate    *gate.Gate        `json:"-"`
}

// GatesChanged tells of gates that were added, changed or removed, and of a
// zone of the machine that was changed, with which all gates come anew.
type GatesChanged struct {
	Zone    string       `json:"zone,omitempty"`
	Set     []Definition `json:"set,omitempty"`
	Removed []string     `json:"removed,omitempty"`
	Facts   *Facts       `json:"facts,omitempty"`
}

// Tick tells that a time has come that [Engine.Wake] asked for.
type Tick struct{}

// ClockSet tells that the wall clock was set by By milliseconds. The event's
// time is the new one.
type ClockSet struct {
	By calendar.Instant `json:"by_ms"`
}

// Booted tells that the machine has booted, while a keeper keeps it: only a
// staged one does.
type Booted struct {
	BootID string `json:"boot_id"`
	Facts  Facts  `json:"facts"`
}

// Occurred tells of an event of the machine that gates may open on.
type Occurred struct {
	Event phrase.EventKind `json:"event"`
	// Name is the account of a logon, logoff, lock or unlock, and what was
	// watched for where something was (see [phrase.EventSpec.Watch]).
	Name    string   `json:"name,omitempty"`
	Subject string   `json:"subject,omitempty"` // what it happened to, such as the device
	Text    string   `json:"text,omitempty"`    // the line of a log
	Count   int64    `json:"count,omitempty"`   // how often, where this stands for several
	Files   []string `json:"-"`                 // that changed; nothing is decided by their names
	// Missed is when the latest of some changes was made that came while no keeper watched; 0
	// where one did.
	Missed calendar.Instant `json:"missed,omitempty"`
	// From is when the first of several changes came for which the event
	// stands, the last of which gave it its time. 0 where it is one.
	From calendar.Instant `json:"from,omitempty"`
	// Distinct is how many different files are changing, by GATE/OPENING. The
	// engine fills it in where it is given the names; a replay, which has none,
	// is given it in their place.
	Distinct map[string]int64 `json:"distinct,omitempty"`
	Facts    *Facts           `json:"facts,omitempty"`
	// Holds tells that the machine waits, before it sleeps or shuts down, for
	// the decision [Release].
	Holds bool `json:"holds,omitempty"`
}

// FactsChanged tells what now holds on the machine.
type FactsChanged struct {
	Facts Facts `json:"facts"`
}

// PaceSet tells that the settings have another pace.
type PaceSet struct {
	Pace Pace `json:"pace"`
}

// SignalSent tells that somebody sent a signal to the gates.
type SignalSent struct {
	Name string `json:"name"`
}

// OpenAsked tells that somebody opens a gate by hand.
type OpenAsked struct {
	Gate string `json:"gate"`
}

// StopAsked tells that somebody ends the runs of a gate by hand.
type StopAsked struct {
	Gate string `json:"gate"`
}

// PauseAsked tells that nothing is to open by itself, until Until where that
// is not 0.
type PauseAsked struct {
	Until calendar.Instant `json:"until,omitempty"`
}

// ResumeAsked tells that a pause is over.
type ResumeAsked struct{}

// RunStarted tells that the program of a run has started. StartedAt is when it
// did, which lies before the event; 0 stands for the event's time.
type RunStarted struct {
	Run       int64              `json:"run"`
	StartedAt calendar.Instant   `json:"started_at,omitempty"`
	PID       int                `json:"pid"`
	Born      int64              `json:"born,omitempty"` // when the process began, in the kernel's ticks since the boot; 0 where that is not known
	Note      string             `json:"note,omitempty"` // what could not be as it was wished
	Readings  map[string]float64 `json:"readings,omitempty"`
}

// StartFailed tells that the program of a run could not be started.
type StartFailed struct {
	Run    int64  `json:"run"`
	Detail string `json:"detail"`
}

// StartUnsafe tells that the program of a run must not be started: Hazard says
// why.
type StartUnsafe struct {
	Run    int64  `json:"run"`
	Hazard Hazard `json:"hazard"`
}

// Hazard is what makes a start unsafe, or impossible with the rights that the
// gate asks for.
type Hazard struct {
	Code    string `json:"code"` // as check names it
	Message string `json:"message"`
	Remedy  string `json:"remedy,omitempty"`
}

// RunEnded tells how a run has ended. EndedAt is its true end, which lies
// before the event: what is decided follows the event.
type RunEnded struct {
	Run      int64              `json:"run"`
	EndedAt  calendar.Instant   `json:"ended_at"`
	Exit     int                `json:"exit"`
	Signal   string             `json:"signal,omitempty"` // that ended it, such as TERM
	Usage    Usage              `json:"usage"`
	Readings map[string]float64 `json:"readings,omitempty"`
	// Overran tells that it was ended while no keeper ran, for it took longer than it may.
	Overran bool `json:"overran,omitempty"`
	// Unfound is a command of which a shell said that it was not found, while the script went
	// on; "" for none.
	Unfound string `json:"unfound,omitempty"`
}

// RunLost tells that a run is gone, and nobody saw how it ended.
type RunLost struct {
	Run  int64    `json:"run"`
	Why  LossCode `json:"why"`
	Used Usage    `json:"usage"`
}

// LossCode says why nobody saw how a run ended.
type LossCode string

// Why nobody saw how a run ended.
const (
	LostMeanwhile LossCode = "no-keeper"   // it ended while no keeper ran
	LostStatus    LossCode = "status-gone" // it outlived its keeper, and the system does not tell
)

// Slept is recorded, and nothing follows from it: the machine slept for For
// milliseconds, until the event.
type Slept struct {
	For calendar.Instant `json:"for_ms"`
}

// Settled is recorded, and nothing follows from it: how the machine fared after a boot or
// a logon, until it was calm.
type Settled struct {
	After phrase.EventKind `json:"after"` // boot or logon
	Name  string           `json:"name,omitempty"`
	Since calendar.Instant `json:"since"`  // when that was
	For   calendar.Instant `json:"for_ms"` // until it was calm, or was not waited for any longer
	Calm  bool             `json:"calm"`
	// For how long some work had to wait in that span.
	Processor calendar.Instant `json:"processor_ms"`
	Disk      calendar.Instant `json:"disk_ms"`
	Memory    calendar.Instant `json:"memory_ms"`
}

// Ended is recorded, and nothing follows from it: the keeper ends.
type Ended struct{}

// Usage is what a run has used.
type Usage struct {
	UserMS   int64 `json:"user_ms"`   // processor time in the program
	SystemMS int64 `json:"system_ms"` // processor time in the kernel
	MaxRSS   int64 `json:"max_rss"`   // largest resident memory of one process, bytes
	Read     int64 `json:"read"`      // bytes read from disks
	Written  int64 `json:"written"`   // bytes written to disks
	Output   int64 `json:"output"`    // bytes printed
	Dropped  int64 `json:"dropped"`   // bytes of them that were not kept
}

// The kinds of event.
const (
	KindBegin        Kind = "begin"
	KindGatesChanged Kind = "gates"
	KindTick         Kind = "tick"
	KindClockSet     Kind = "clock-set"
	KindBooted       Kind = "boot"
	KindOccurred     Kind = "occurred"
	KindFactsChanged Kind = "facts"
	KindPaceSet      Kind = "pace"
	KindSignalSent   Kind = "signal"
	KindOpenAsked    Kind = "open"
	KindStopAsked    Kind = "stop"
	KindPauseAsked   Kind = "pause"
	KindResumeAsked  Kind = "resume"
	KindRunStarted   Kind = "run-started"
	KindStartFailed  Kind = "start-failed"
	KindStartUnsafe  Kind = "start-unsafe"
	KindRunEnded     Kind = "run-ended"
	KindRunLost      Kind = "run-lost"
	KindSlept        Kind = "slept"
	KindSettled      Kind = "settled"
	KindEnded        Kind = "end"
)

// The bodies' kinds.
func (*Begin) Kind() Kind        { return KindBegin }
func (*GatesChanged) Kind() Kind { return KindGatesChanged }
func (*Tick) Kind() Kind         { return KindTick }
func (*ClockSet) Kind() Kind     { return KindClockSet }
func (*Booted) Kind() Kind       { return KindBooted }
func (*Occurred) Kind() Kind     { return KindOccurred }
func (*FactsChanged) Kind() Kind { return KindFactsChanged }
func (*PaceSet) Kind() Kind      { return KindPaceSet }
func (*SignalSent) Kind() Kind   { return KindSignalSent }
func (*OpenAsked) Kind() Kind    { return KindOpenAsked }
func (*StopAsked) Kind() Kind    { return KindStopAsked }
func (*PauseAsked) Kind() Kind   { return KindPauseAsked }
func (*ResumeAsked) Kind() Kind  { return KindResumeAsked }
func (*RunStarted) Kind() Kind   { return KindRunStarted }
func (*StartFailed) Kind() Kind  { return KindStartFailed }
func (*StartUnsafe) Kind() Kind  { return KindStartUnsafe }
func (*RunEnded) Kind() Kind     { return KindRunEnded }
func (*RunLost) Kind() Kind      { return KindRunLost }
func (*Slept) Kind() Kind        { return KindSlept }
func (*Settled) Kind() Kind      { return KindSettled }
func (*Ended) Kind() Kind        { return KindEnded }

// bodies makes empty bodies, by kind.
var bodies = func() map[Kind]func() Body {
	out := map[Kind]func() Body{}
	for _, empty := range []func() Body{body[Begin], body[GatesChanged], body[Tick], body[ClockSet], body[Booted], body[Occurred], body[FactsChanged], body[PaceSet], body[SignalSent],
		body[OpenAsked], body[StopAsked], body[PauseAsked], body[ResumeAsked], body[RunStarted], body[StartFailed], body[StartUnsafe], body[RunEnded], body[RunLost], body[Slept], body[Settled], body[Ended]} {
		out[empty().Kind()] = empty
	}
	return out
}()

func body[T any, P interface {
	*T
	Body
}]() Body {
	return P(new(T))
}

// NewBody returns an empty body of a kind, to be decoded into. Its error
// names a kind that is not known.
func NewBody(kind Kind) (Body, error) {
	if empty, ok := bodies[kind]; ok {
		return empty(), nil
	}
	return nil, fmt.Errorf("no event is of the kind %q", kind)
}

// DecodeEvent reads an event as it was recorded.
func DecodeEvent(at calendar.Instant, kind Kind, body []byte) (Event, error) {
	b, err := NewBody(kind)
	if err == nil {
		err = json.Unmarshal(body, b)
	}
	return Event{At: at, Body: b}, err
}

// Span is a length of time, to the millisecond. In JSON it is in seconds.
type Span time.Duration

// MarshalJSON implements [json.Marshaler].
func (s Span) MarshalJSON() ([]byte, error) {
	return json.Marshal(float64(time.Duration(s).Milliseconds()) / 1000)
}

// UnmarshalJSON implements [json.Unmarshaler].
func (s *Span) UnmarshalJSON(text []byte) error {
	var seconds float64
	if err := json.Unmarshal(text, &seconds); err != nil {
		return err
	}
	*s = Span(time.Duration(seconds*1000+0.5) * time.Millisecond)
	return nil
}
