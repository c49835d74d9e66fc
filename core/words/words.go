// Package words puts the engine's reasons into plain English. It is the only
// place where that is done: all else that reports, shows or tests a decision
// reads codes and arguments.
package words

import (
	"fmt"
	"strings"
	"time"

	"timegate/core/engine"
	"timegate/core/phrase"
)

// Reason says why something was decided, without a full stop.
func Reason(r engine.Reason) string {
	text := reason(r)
	if w := r.Args.Waited; w != nil {
		text += "; " + waited(w)
	}
	return text
}

func reason(r engine.Reason) string {
	a := &r.Args
	span := Span(a.Span)
	switch r.Code {
	case engine.CodeDue:
		return "due: " + a.Phrase + many(a)
	case engine.CodeRepeat:
		return fmt.Sprintf("repeat %d: %s", a.Number, a.Phrase)
	case engine.CodeOpened:
		return "opened by hand"
	case engine.CodeTry:
		return fmt.Sprintf("try %d of %d", a.Number, a.Of)
	case engine.CodeCatchUp:
		if a.Count == 1 {
			return fmt.Sprintf("started %s late: it was missed", span)
		}
		return fmt.Sprintf("started %s late, for %d starts that were missed", span, a.Count)
	case engine.CodeFoundAgain:
		return fmt.Sprintf("what run %d had lost is there again", a.Run)
	case engine.CodeAfter:
		return fmt.Sprintf("waited %s for run %d to end", span, a.Run)

	case engine.CodeNeeds:
		return fmt.Sprintf("it needs %s and waits for that up to %s", Need(a.Need), span)
	case engine.CodeBusy:
		return busy(a)
	case engine.CodeReplaces:
		return busy(a) + " and is replaced"
	case engine.CodeOneWaits:
		return busy(a) + ", and one start waits already"
	case engine.CodeTryIn:
		return fmt.Sprintf("tried again in %s: try %d of %d", span, a.Number, a.Of)
	case engine.CodeDelay:
		return fmt.Sprintf("%s after %s", span, a.Event)
	case engine.CodeQuiet:
		return "until nothing has changed for " + span
	case engine.CodeWhileAway:
		return away(a)
	case engine.CodeOwn:
		return fmt.Sprintf("it waits %s more: %d times in a row it came only of files that changed while it ran itself", span, a.Count)
	case engine.CodeTurn:
		return fmt.Sprintf("%s at once, and its turn comes after them", programs(a.Count))
	case engine.CodePressure:
		return fmt.Sprintf("the machine is busy (work waits %d%% of the time)", a.Percent)
	}
	return outcome(r, span)
}

// outcome words how a moment without a start, or a run, turned out.
func outcome(r engine.Reason, span string) string {
	a := &r.Args
	switch r.Code {
	case engine.CodeUnmet:
		return "it needs " + Need(a.Need)
	case engine.CodeNeverCame:
		return fmt.Sprintf("it needs %s, which did not come within %s", Need(a.Need), span)
	case engine.CodeOvertaken:
		return "a later moment has taken its place"
	case engine.CodeCameAgain:
		return "the same came again before its delay was over"
	case engine.CodeTogether:
		return within("a later one came at the same time, and there is one start for all", a)
	case engine.CodeCancelled:
		return cancelled(a)
	case engine.CodePaused:
		return within("paused", a)
	case engine.CodeNoKeeper:
		return within("no keeper ran", a)
	case engine.CodeForward:
		return within("the clock was set past it", a)
	case engine.CodeAsleep:
		return within("the machine was asleep", a)
	case engine.CodeWentDown:
		return "the machine went down while it waited"

	case engine.CodeGrace:
		return "it did not end within " + span
	case engine.CodeLongest:
		return "it has taken longer than " + span
	case engine.CodeReplaced:
		return "replaced by a new start"
	case engine.CodeStopped:
		return "stopped by hand"
	case engine.CodeNeedLost:
		return "what it needs was lost: " + Need(a.Need)

	case engine.CodeExit:
		return fmt.Sprintf("exit status %d", a.Status)
	case engine.CodeSignal:
		return "ended by signal " + a.Signal
	case engine.CodeNotStarted:
		return a.Detail
	case engine.CodeUnsafe:
		return hazard(a.Hazard)
	case engine.CodeUnseen:
		return loss(engine.LossCode(a.Detail))
	case engine.CodeMachineWaited:
		return fmt.Sprintf("the machine waited %s with its %s", span, a.Event)
	}
	if a.Detail != "" { // as an earlier Time Gate worded it
		return a.Detail
	}
	return string(r.Code)
}

// Span writes a length of time.
func Span(s engine.Span) string { return Duration(time.Duration(s)) }

// Duration rounds a length of time down to at most two units, as people say it: "4 h
// 12 min"; what is below a second is told only where that is all there is.
func Duration(d time.Duration) string {
	const day = 24 * time.Hour
	switch {
	case d < time.Millisecond:
		return "<1 ms"
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return two(d, time.Minute, "min", time.Second, "s")
	case d < day:
		return two(d, time.Hour, "h", time.Minute, "min")
	case d < 60*day:
		return two(d, day, "d", time.Hour, "h")
	case d < 730*day:
		return fmt.Sprintf("%d days", d/day)
	}
	return fmt.Sprintf("%d years", d/(365*day+6*time.Hour))
}

func two(d, big time.Duration, bigName string, small time.Duration, smallName string) string {
	s := fmt.Sprintf("%d %s", d/big, bigName)
	if rest := d % big / small; rest > 0 {
		s += fmt.Sprintf(" %d %s", rest, smallName)
	}
	return s
}

// many says what a start stands for.
func many(a *engine.Args) string {
	switch {
	case a.Count < 2:
		return ""
	case a.Kind == phrase.Line:
		return fmt.Sprintf("; %d lines", a.Count)
	}
	return fmt.Sprintf("; %d files", a.Count)
}

// away says what changed while no keeper watched.
func away(a *engine.Args) string {
	if a.Count == 1 {
		return fmt.Sprintf("a file changed while no keeper ran, %s ago", Span(a.Span))
	}
	return fmt.Sprintf("%d files changed while no keeper ran, the last %s ago", a.Count, Span(a.Span))
}

func programs(n int64) string {
	if n == 1 {
		return "1 program starts"
	}
	return fmt.Sprintf("%d programs start", n)
}

func busy(a *engine.Args) string {
	return fmt.Sprintf("run %d has been running for %s", a.Run, Span(a.Span))
}

// within adds how many dues there were, and in which span they lay.
func within(why string, a *engine.Args) string {
	if a.Count < 2 {
		return why
	}
	return fmt.Sprintf("%s: %d starts in %s", why, a.Count, Span(a.Span))
}

func waited(w *engine.Waited) string {
	if w.For == engine.ForPace {
		return "held back " + Span(w.Span) + " with others"
	}
	return fmt.Sprintf("waited %s for %s", Span(w.Span), Need(w.Need))
}

var cancels = map[engine.CancelCode]string{
	engine.BySwitch: "switched off", engine.ByRemoval: "removed", engine.ByChange: "its opening was changed", engine.ByHand: "stopped by hand",
}

func cancelled(a *engine.Args) string {
	by := cancels[a.By]
	switch a.Stage {
	case engine.ForRetry:
		return by + " before it was tried again"
	case engine.ForPace:
		return by + " before its turn came"
	case engine.ForDelay:
		return by + " before its delay was over"
	case engine.ForQuiet:
		return by + " before the files were quiet"
	case engine.ForNeeds:
		return by + " while it waited for " + Need(a.Need)
	}
	return by + " while it waited"
}

// Need names what a gate needs.
func Need(n *engine.Need) string {
	if n == nil {
		return "what it needs"
	}
	switch n.Kind {
	case engine.NeedPower:
		if n.Least == 0 {
			return "mains power"
		}
		charge := "an unknown one"
		if n.Charge > 0 {
			charge = fmt.Sprintf("%d%%", n.Charge)
		}
		return fmt.Sprintf("mains power or a charge of %d%% (it is at %s)", n.Least, charge)
	case engine.NeedPeople:
		if n.Account == "" {
			return "somebody logged on"
		}
		return n.Account + " logged on"
	case engine.NeedNobody:
		return "nobody logged on (" + n.Account + " is)"
	case engine.NeedPath:
		return n.Path
	case engine.NeedOnline:
		return "a network"
	case engine.NeedIdle:
		return Span(n.Span) + " of idleness"
	case engine.NeedDesktop:
		switch {
		case n.Any:
			return "somebody's desktop"
		case n.Account == "":
			return "a desktop"
		}
		return n.Account + "'s desktop"
	}
	return string(n.Kind)
}

// Waiting says what a start waits for.
func Waiting(kind engine.WaitKind, need *engine.Need) string {
	switch kind {
	case "":
		return ""
	case engine.ForNeeds:
		return Need(need)
	case engine.ForRun:
		return "its run to end"
	case engine.ForPace:
		return "its turn"
	case engine.ForRetry:
		return "its next try"
	case engine.ForQuiet:
		return "its files to be quiet"
	case engine.ForDelay:
		return "its delay to pass"
	}
	return string(kind)
}

func hazard(h *engine.Hazard) string {
	if h == nil {
		return "it is not safe"
	}
	text := h.Message
	if h.Remedy != "" {
		text += "; " + h.Remedy
	}
	return text
}

func loss(why engine.LossCode) string {
	if why == engine.LostMeanwhile {
		return "it ended while no keeper ran, so how it ended is not known"
	}
	return "it outlived the keeper that started it, and this system does not tell how it ended"
}

// Sentence writes a reason as one.
func Sentence(text string) string {
	if text == "" {
		return ""
	}
	return strings.ToUpper(text[:1]) + text[1:] + "."
}
