package phrase

import (
	"time"

	"timegate/core/calendar"
)

// Kind is what a phrase is about.
type Kind int

// The kinds of phrase.
const (
	Clock        Kind = iota // at 08:15 …
	Interval                 // every 20m …
	Since                    // every 36h since 2026-11-02 06:00
	AfterSuccess             // every 7d after success
	Event                    // boot, unlock, …
)

// Time is a local time of day in seconds since midnight.
type Time int32

// DateTime is a date with a time where one was written.
type DateTime struct {
	Day     calendar.Day
	Time    Time
	HasTime bool
}

// Window is a span of the day, both ends included.
type Window struct{ From, To Time }

// Days is an entry of the lists after "on" and "except": a day with all the
// items' properties, then moved.
type Days struct {
	calendar.Term
	pos, end int
}

// EventSpec is what an event phrase waits for.
type EventSpec struct {
	Kind    EventKind
	Account string        // logon, logoff
	Paths   []string      // mount, unmount, change, line, low disk
	Glob    string        // device; change … matching
	Quiet   time.Duration // change
	Idle    time.Duration // idle
	Regexp  string        // line
	Amount  Amount        // low memory, low disk
	Name    string        // gate or signal

	First  bool   // only the first of the day or week
	Period string // "day" or "week" with First
}

// Watch returns what must be watched for the event, in words that are the
// same for all openings that can share it, or "" where the machine tells of
// the event in any case.
func (o EventSpec) Watch() string {
	switch o.Kind {
	case Change, Line, LowMemory, LowDisk, Mount, Unmount, Device:
		o.First, o.Quiet = false, 0
		return o.String()
	}
	return ""
}

// EventKind names a kind of event.
type EventKind string

// The kinds of event, as a phrase begins with them.
const (
	Boot      EventKind = "boot"
	Shutdown  EventKind = "shutdown"
	Logon     EventKind = "logon"
	Logoff    EventKind = "logoff"
	Lock      EventKind = "lock"
	Unlock    EventKind = "unlock"
	Sleep     EventKind = "sleep"
	Resume    EventKind = "resume"
	Mains     EventKind = "mains"
	Battery   EventKind = "battery"
	Online    EventKind = "online"
	Offline   EventKind = "offline"
	Idle      EventKind = "idle"
	Active    EventKind = "active"
	Mount     EventKind = "mount"
	Unmount   EventKind = "unmount"
	Device    EventKind = "device"
	Change    EventKind = "change in"
	Line      EventKind = "line"
	LowMemory EventKind = "low memory"
	LowDisk   EventKind = "low disk"
	EndOf     EventKind = "end of"
	FailureOf EventKind = "failure of"
	StartOf   EventKind = "start of"
	Signal    EventKind = "signal"
)

// Amount is a size in bytes or, where Percent is not 0, a share of the whole.
type Amount struct {
	Bytes   int64
	Percent int
	text    string
}

// Repeat says how often an opening comes again after each of its moments.
type Repeat struct {
	Every time.Duration
	For   time.Duration // up to and including this; 0 with Ever
	Ever  bool
}

// Phrase is the meaning of a phrase.
type Phrase struct {
	Kind   Kind
	Times  []Time        // Clock: ascending, each once
	Every  time.Duration // Interval, Since, AfterSuccess
	Window *Window       // Interval, Event
	Since  DateTime
	Event  EventSpec
	Delay  time.Duration // Event: this long after it

	On     []Days
	In     calendar.Months
	Stride calendar.Stride

	Repeat     *Repeat
	Limit      int64 // "N times"; 0 for no limit
	Starting   *DateTime
	Ending     *DateTime
	Zone       string // name in the time zone database; "" for the workstation's
	Except     []Days
	ExceptFile string

	text  string
	marks map[string]token // where a part stands, for errors found later
}
