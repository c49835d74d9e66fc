// Package workstation is the one way in which Time Gate meets the machine: its
// clock, its boots and its processes. The real machine is in
// workstation/linux, a stand-in for demos and tests in workstation/staged;
// both pass the rules of workstation/wstest.
package workstation

import (
	"errors"
	"os"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// Workstation is what a keeper needs of a machine. Its methods may be called
// from any goroutine. Those that may block, as long as something that hangs
// lets them, say so; all others return at once.
type Workstation interface {
	// Clock reads the machine's clocks.
	Clock() Clock
	// Zone returns the time zone in which the machine's clock is read.
	Zone() *calendar.Zone
	// BootID identifies this boot of the machine; it is "" where that cannot
	// be told.
	BootID() string
	// Host returns the machine's name.
	Host() string
	// Staged reports whether this is a stand-in.
	Staged() bool

	// SetWake asks for a Wake at a time, in place of an earlier one; the zero
	// time asks for none.
	SetWake(at time.Time)
	// Wakes tells that the time asked for has come, or that the wall clock
	// was set.
	Wakes() <-chan Wake

	// Watch says what a keeper wants to be told of, in place of what it wanted
	// before. The channel is closed once Facts knows of all of that, which may
	// be never: what comes late is told like any other change.
	Watch(w Wants) (known <-chan struct{})
	// Attend says what starts wait for of which nothing tells by itself: it is
	// looked at from time to time, until nothing waits for it any more.
	Attend(a engine.Attention)
	// Facts returns what holds on the machine, as far as it is wanted.
	Facts() engine.Facts
	// Notices tells what happens, as far as it is wanted.
	Notices() <-chan Notice
	// Troubles lists what of that cannot be told here.
	Troubles() []Trouble
	// Sessions returns the desktop sessions that the machine itself knows of
	// an account, by its number, or of all people where that is negative. told
	// is false where processes have to be asked.
	Sessions(uid int) (list []Session, told bool)
	// Reading returns how many bytes are free where the machine says so
	// otherwise than the kernel.
	Reading(name string) (bytes int64, told bool)
	// There reports whether a path is there, where the machine says so otherwise than
	// its file systems.
	There(path string) (there, told bool)
	// SetAlarm asks that the machine be awake at a time, whatever it does
	// then; the zero time asks for nothing. Its error says why it cannot be.
	SetAlarm(at time.Time) error
	// CanWake says why the machine cannot be woken; nil where it can.
	CanWake() error
	// Close lets the clock and the watches go.
	Close() error
}

// Starter starts programs, with the rights of the process that it is in where
// an order does not say otherwise.
type Starter interface {
	// Start starts a program and returns once it runs. Its error is an
	// [*StartError]. It may block.
	Start(o Order) (Process, error)
	// Ready does beforehand what of that can be done. It may block.
	Ready(o Order) (Ready, error)
	// Adopt finds a program that another process had started and goes on
	// watching it. It returns nil where nothing of it runs any more. pid is 0
	// where that is not known. It may block.
	Adopt(o Order, pid int, born int64) Process
}

// Ready is a program that is ready to start. One of its methods is called, once.
type Ready interface {
	Start() (Process, error)
	Drop() // it is not started after all
}

// Clock is one reading of a machine's clocks.
type Clock struct {
	Now    time.Time     // the wall clock
	Uptime time.Duration // since the machine has booted, asleep or not; it is never set
}

// Ahead is by how much the wall clock is ahead of the uptime. It changes only
// when the wall clock is set.
func (c Clock) Ahead() time.Duration { return time.Duration(c.Now.UnixNano()) - c.Uptime }

// Strain is how a machine fared until it was calm.
type Strain struct {
	Calm bool          // it came to that
	For  time.Duration // how long that took, or was waited for
	// For how long some work had to wait for a processor, a disk, or memory.
	Processor, Disk, Memory time.Duration
}

// Wake tells that the time asked for has come, or that the wall clock was set:
// which, the clocks tell.
type Wake struct {
	Asleep time.Duration // how long the machine has slept
}

// After returns a wake that stands for itself and an earlier one.
func (w Wake) After(old Wake) Wake { return Wake{Asleep: w.Asleep + old.Asleep} }

// Trouble is something that a keeper wants to be told of and cannot be.
type Trouble struct {
	Stops bool   `json:"stops,omitempty"` // it keeps programs from starting
	What  string `json:"what"`
	Why   string `json:"why"`
}

// Order says what to start.
type Order struct {
	Mark   string   // the run's secret, put into the environment as [MarkVariable]; finds the program's processes again
	Argv   []string // the program, as a path or a name to be found in PATH, and its arguments
	Folder string
	Env    []string // NAME=value; nothing is inherited
	As     *Account // whose rights it has; nil for the keeper's own
	Low    bool     // processor and disk only when nobody else wants them
	Limits []Limit  // of resources, where they differ from the keeper's
	Window *Window  // how its windows appear; nil for as the program likes
	Note   string   // what cannot be as it is wished, as is known beforehand
	// Rest is how long processes that the program leaves behind when it ends by itself
	// have to end, too; 0 where they may go on. A program that was asked to end has
	// ended when none of its processes is left.
	Rest time.Duration
	// Attached gives the program the standard input and outputs of this process, and Print
	// nothing. Whoever has a terminal can make its owner seem to type, so it is left out where
	// the program has other rights.
	Attached bool
	// Print is given what the program prints, piece by piece; it may be nil.
	Print func([]byte)
	// Done is called once, from a goroutine of its own, when the program has
	// ended and what it printed was passed on.
	Done func(Exit)
}

// Account is whose rights a program has.
type Account struct {
	UID, GID uint32
	Groups   []uint32
}

// Limit is what a program may use of a resource, by its name in limits.conf(5)
// and in the kernel's unit; nil for what the keeper may.
type Limit struct {
	Item       string
	Soft, Hard *uint64
}

// Window says how the windows of a program on a desktop appear.
type Window struct {
	Mode string   // "none", "minimised", or "terminal": a console program in a terminal emulator
	As   *Account // whose display it is; nil for the keeper's own
	Vars []string // NAME=value, what leads to that display
}

// HostVariable is the environment variable that gives this machine another name than its own, to
// try out here what is for other machines.
const HostVariable = "TIMEGATE_HOST"

// HostName returns the machine's name, or "" where it has none.
func HostName() string {
	if name := os.Getenv(HostVariable); name != "" {
		return name
	}
	name, err := os.Hostname()
	if err != nil {
		return ""
	}
	return name
}

// MarkVariable is the environment variable that holds an order's Mark.
const MarkVariable = "TIMEGATE_MARK"

// Exit tells how a program ended.
type Exit struct {
	Status int
	Signal string // name of the signal that ended it, such as TERM, or ""
	Lost   bool   // nobody saw how
	Usage  engine.Usage
	At     time.Time // when it ended, where that is told later; else zero
}

// Process is a program that was started.
type Process interface {
	PID() int
	// Born is when the process began, in the kernel's ticks since the boot
	// (field 22 in proc_pid_stat(5)); 0 where that is not known.
	Born() int64
	// Note tells what could not be as the order says, or "".
	Note() string
	// End sends TERM or KILL to the program and all processes that came of
	// it.
	End(signal string) error
}

// StartError says why a program could not be started.
type StartError struct {
	Program string
	Err     error
	Remedy  string
}

func (e *StartError) Error() string {
	s := "cannot start " + e.Program + ": " + e.Err.Error()
	if e.Remedy != "" {
		s += "; " + e.Remedy
	}
	return s
}

func (e *StartError) Unwrap() error { return e.Err }

// ErrNoClock is returned where the machine cannot wake a keeper.
var ErrNoClock = errors.New("the machine's clock cannot be watched")
