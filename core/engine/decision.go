package engine

import (
	"timegate/core/calendar"
	"timegate/core/phrase"
)

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
	Refuse  DecisionKind = "refuse"   // the program of a run is not started: that is not safe
	StopRun DecisionKind = "stop"     // send Signal to the program
	End     DecisionKind = "end"      // the run has ended with Result
	Release DecisionKind = "release"  // the machine may sleep or shut down
)

// WaitKind names what a start waits for.
type WaitKind string

// What a start may wait for.
const (
	ForRun   WaitKind = "run"   // for a run of its gate to end
	ForRetry WaitKind = "retry" // for its next try
	ForDelay WaitKind = "delay" // for the delay after its event
	ForQuiet WaitKind = "quiet" // for files to be quiet
	ForNeeds WaitKind = "needs" // for what its gate needs
	ForPace  WaitKind = "pace"  // for its turn among the starts of a boot or logon
)

// Cause is the event that brought a moment.
type Cause struct {
	Event   phrase.EventKind `json:"event"`
	Account string           `json:"account,omitempty"` // logon, logoff, lock, unlock
	Subject string           `json:"subject,omitempty"` // device, mount point, signal, gate, log
	Text    string           `json:"text,omitempty"`    // the line of a log
	Count   int64            `json:"count,omitempty"`   // of files or lines
	Files   []string         `json:"-"`                 // that changed
}

// Result is how a run, or a moment without one, turned out.
type Result string

// The results.
const (
	ResultRunning Result = "running"
	ResultOK      Result = "ok"
	ResultFailed  Result = "failed"
	ResultStopped Result = "stopped" // ended by hand or to be replaced
	ResultOverran Result = "overran" // ended because it took longer than its limit
	ResultSkipped Result = "skipped" // passed over by a rule
	ResultMissed  Result = "missed"  // slept or off through
	ResultRefused Result = "refused" // not safe to start
	ResultLost    Result = "lost"    // nobody saw how it ended
)

// A Decision is what the engine wants done, or has found.
type Decision struct {
	Kind    DecisionKind     `json:"kind"`
	At      calendar.Instant `json:"at"`
	Gate    string           `json:"gate"`
	Opening string           `json:"opening,omitempty"` // "" for a start by hand
	Due     calendar.Instant `json:"due,omitempty"`
	Run     int64            `json:"run,omitempty"`
	Result  Result           `json:"result,omitempty"` // End, Refuse, Skip
	Signal  string           `json:"signal,omitempty"` // StopRun: TERM or KILL
	Count   int64            `json:"count,omitempty"`  // Skip: how many dues, where more than one
	Moment  bool             `json:"moment,omitempty"` // the due begins the opening's repeats
	For     WaitKind         `json:"for,omitempty"`    // Wait: what for
	Until   calendar.Instant `json:"until,omitempty"`  // Wait: when it is tried again, or given up
	Try     int              `json:"try,omitempty"`    // how many tries there were before, for this due
	Cause   *Cause           `json:"cause,omitempty"`
	Rule    string           `json:"rule,omitempty"` // the key of the gate file that decided, or "pace" of the settings
	Reason

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

// Reason says why something was decided: a code, and what it needs to be put
// into words ([timegate/core/words]).
type Reason struct {
	Code Code `json:"code"`
	Args Args `json:"args,omitzero"`
}

// Code names a reason.
type Code string

// The codes, with the arguments that they have.
const (
	// Why a program starts. Each may have Waited.
	CodeDue        Code = "due"         // Phrase; Count of files or lines
	CodeRepeat     Code = "repeat"      // Phrase, Number
	CodeOpened     Code = "opened"      // by hand
	CodeTry        Code = "try"         // Number, Of
	CodeFoundAgain Code = "found-again" // Run: what that one needs, and had lost, holds again
	CodeCatchUp    Code = "catch-up"    // Count, Span: how long ago the last was
	CodeAfter      Code = "after-run"   // Run, Span: waited for that run to end

	// Why a start waits.
	CodeNeeds     Code = "needs"      // Need, Span: at most so long
	CodeBusy      Code = "busy"       // Run, Span: so long already; also why a moment is skipped
	CodeReplaces  Code = "replaces"   // Run, Span
	CodeTryIn     Code = "try-in"     // Span, Number, Of
	CodeDelay     Code = "delay"      // Span, Event
	CodeQuiet     Code = "quiet"      // Span
	CodeOwn       Code = "own"        // Span, Count: so many moments in a row came of the gate's own runs
	CodeWhileAway Code = "while-away" // Count of files, Span: how long ago the last of them changed; also why a moment is missed
	CodeTurn      Code = "turn"       // Count: so many start at once
	CodePressure  Code = "pressure"   // Percent
	CodeOneWaits  Code = "one-waits"  // Run, Span: busy, and one start waits already

	// Why a moment passes without a start.
	CodeUnmet     Code = "unmet"      // Need
	CodeNeverCame Code = "never-came" // Need, Span
	CodeOvertaken Code = "overtaken"  // a later moment took its place
	CodeCameAgain Code = "came-again" // the event came again before its delay was over
	CodeTogether  Code = "together"   // later ones came in the same instant, and there is one start for all
	CodeCancelled Code = "cancelled"  // By, Stage, Need
	CodePaused    Code = "paused"     // Span from the first to the last
	CodeNoKeeper  Code = "no-keeper"  // Span
	CodeForward   Code = "forward"    // Span; the clock was set past it
	CodeAsleep    Code = "asleep"     // Span
	CodeWentDown  Code = "went-down"  // the machine went down while it waited

	// Why a program is asked to end, or killed. All but CodeGrace are also how
	// the run then turned out.
	CodeGrace    Code = "grace"     // Span
	CodeLongest  Code = "longest"   // Span
	CodeReplaced Code = "replaced"  //
	CodeStopped  Code = "stopped"   // by hand
	CodeNeedLost Code = "need-lost" // Need

	// How a run ended.
	CodeExit       Code = "exit"        // Status
	CodeSignal     Code = "signal"      // Signal
	CodeNotStarted Code = "not-started" // Detail
	CodeUnsafe     Code = "unsafe"      // Hazard
	CodeUnseen     Code = "unseen"      // Detail, a [LossCode]

	CodeMachineWaited Code = "machine-waited" // Release: Event, Span
)

// Args are what a reason's words need.
type Args struct {
	Phrase  string           `json:"phrase,omitempty"`
	Number  int64            `json:"number,omitempty"`
	Of      int64            `json:"of,omitempty"`
	Count   int64            `json:"count,omitempty"`
	Run     int64            `json:"run,omitempty"`
	Span    Span             `json:"span,omitempty"`
	Event   string           `json:"event,omitempty"`
	Kind    phrase.EventKind `json:"kind,omitempty"` // of event
	Percent int              `json:"percent,omitempty"`
	Status  int              `json:"status,omitempty"`
	Signal  string           `json:"signal,omitempty"`
	Detail  string           `json:"detail,omitempty"`
	By      CancelCode       `json:"by,omitempty"`
	Stage   WaitKind         `json:"stage,omitempty"`
	Need    *Need            `json:"need,omitempty"`
	Hazard  *Hazard          `json:"hazard,omitempty"`
	Waited  *Waited          `json:"waited,omitempty"`
}

// CancelCode says what cancelled a start that waited.
type CancelCode string

// What may cancel a start that waits.
const (
	BySwitch  CancelCode = "switched-off"
	ByRemoval CancelCode = "removed"
	ByChange  CancelCode = "changed"
	ByHand    CancelCode = "stopped"
)

// Waited is for how long a start has waited, and what for.
type Waited struct {
	For  WaitKind `json:"for"`
	Span Span     `json:"span"`
	Need *Need    `json:"need,omitempty"`
}

// NeedKind names a need of a gate.
type NeedKind string

// The needs.
const (
	NeedPower   NeedKind = "power"   // Least: the charge that is enough; Charge: what there is
	NeedPeople  NeedKind = "people"  // Account, or "" for anybody
	NeedNobody  NeedKind = "nobody"  // Account: who is logged on
	NeedPath    NeedKind = "path"    // Path
	NeedOnline  NeedKind = "online"  //
	NeedIdle    NeedKind = "idle"    // Span
	NeedDesktop NeedKind = "desktop" // Account, or "" for the keeper's own; Any: of anybody
)

// Need is something that a gate needs.
type Need struct {
	Kind    NeedKind `json:"kind"`
	Account string   `json:"account,omitempty"`
	Path    string   `json:"path,omitempty"`
	Least   int      `json:"least,omitempty"`
	Charge  int      `json:"charge,omitempty"`
	Span    Span     `json:"span,omitempty"`
	Any     bool     `json:"any,omitempty"`
}
