package words

import (
	"testing"
	"time"

	"timegate/core/engine"
	"timegate/core/phrase"
)

// TestReasons: each code has words of its own, which say what its arguments
// are.
func TestReasons(t *testing.T) {
	const minute = engine.Span(time.Minute)
	mains, path := &engine.Need{Kind: engine.NeedPower}, &engine.Need{Kind: engine.NeedPath, Path: "/media/vault"}
	for _, tt := range []struct {
		code engine.Code
		args engine.Args
		want string
	}{
		{engine.CodeDue, engine.Args{Phrase: "boot"}, "due: boot"},
		{engine.CodeDue, engine.Args{Phrase: "change in /srv", Count: 3, Kind: phrase.Change, Waited: &engine.Waited{For: engine.ForNeeds, Span: minute, Need: mains}}, "due: change in /srv; 3 files; waited 1 min for mains power"},
		{engine.CodeDue, engine.Args{Phrase: `line "x" in /log`, Count: 2, Kind: phrase.Line}, `due: line "x" in /log; 2 lines`},
		{engine.CodeRepeat, engine.Args{Phrase: "boot, then every 1m for 5m", Number: 4}, "repeat 4: boot, then every 1m for 5m"},
		{engine.CodeOpened, engine.Args{}, "opened by hand"},
		{engine.CodeTry, engine.Args{Number: 2, Of: 3}, "try 2 of 3"},
		{engine.CodeCatchUp, engine.Args{Count: 1, Span: minute}, "started 1 min late: it was missed"},
		{engine.CodeCatchUp, engine.Args{Count: 4, Span: minute}, "started 1 min late, for 4 starts that were missed"},
		{engine.CodeAfter, engine.Args{Run: 7, Span: minute}, "waited 1 min for run 7 to end"},
		{engine.CodeNeeds, engine.Args{Need: path, Span: minute}, "it needs /media/vault and waits for that up to 1 min"},
		{engine.CodeBusy, engine.Args{Run: 7, Span: engine.Span(8060 * time.Millisecond)}, "run 7 has been running for 8 s"},
		{engine.CodeReplaces, engine.Args{Run: 7, Span: minute}, "run 7 has been running for 1 min and is replaced"},
		{engine.CodeOneWaits, engine.Args{Run: 7, Span: minute}, "run 7 has been running for 1 min, and one start waits already"},
		{engine.CodeTryIn, engine.Args{Span: minute, Number: 2, Of: 3}, "tried again in 1 min: try 2 of 3"},
		{engine.CodeDelay, engine.Args{Span: minute, Event: "logon of maren"}, "1 min after logon of maren"},
		{engine.CodeQuiet, engine.Args{Span: minute}, "until nothing has changed for 1 min"},
		{engine.CodeTurn, engine.Args{Count: 1}, "1 program starts at once, and its turn comes after them"},
		{engine.CodePressure, engine.Args{Percent: 70}, "the machine is busy (work waits 70% of the time)"},
		{engine.CodeUnmet, engine.Args{Need: &engine.Need{Kind: engine.NeedPeople, Account: "maren"}}, "it needs maren logged on"},
		{engine.CodeUnmet, engine.Args{Need: &engine.Need{Kind: engine.NeedNobody, Account: "maren"}}, "it needs nobody logged on (maren is)"},
		{engine.CodeUnmet, engine.Args{Need: &engine.Need{Kind: engine.NeedPower, Least: 40, Charge: 30}}, "it needs mains power or a charge of 40% (it is at 30%)"},
		{engine.CodeNeverCame, engine.Args{Need: &engine.Need{Kind: engine.NeedDesktop, Account: "maren"}, Span: minute}, "it needs maren's desktop, which did not come within 1 min"},
		{engine.CodeOvertaken, engine.Args{}, "a later moment has taken its place"},
		{engine.CodeCameAgain, engine.Args{}, "the same came again before its delay was over"},
		{engine.CodeCancelled, engine.Args{By: engine.BySwitch, Stage: engine.ForNeeds, Need: &engine.Need{Kind: engine.NeedOnline}}, "switched off while it waited for a network"},
		{engine.CodeCancelled, engine.Args{By: engine.ByChange, Stage: engine.ForQuiet}, "its opening was changed before the files were quiet"},
		{engine.CodeCancelled, engine.Args{By: engine.ByHand, Stage: engine.ForRun}, "stopped by hand while it waited"},
		{engine.CodePaused, engine.Args{Count: 5, Span: minute}, "paused: 5 starts in 1 min"},
		{engine.CodeNoKeeper, engine.Args{}, "no keeper ran"},
		{engine.CodeForward, engine.Args{}, "the clock was set past it"},
		{engine.CodeAsleep, engine.Args{}, "the machine was asleep"},
		{engine.CodeWentDown, engine.Args{}, "the machine went down while it waited"},
		{engine.CodeGrace, engine.Args{Span: minute}, "it did not end within 1 min"},
		{engine.CodeLongest, engine.Args{Span: minute}, "it has taken longer than 1 min"},
		{engine.CodeReplaced, engine.Args{}, "replaced by a new start"},
		{engine.CodeStopped, engine.Args{}, "stopped by hand"},
		{engine.CodeNeedLost, engine.Args{Need: mains}, "what it needs was lost: mains power"},
		{engine.CodeExit, engine.Args{Status: 3}, "exit status 3"},
		{engine.CodeSignal, engine.Args{Signal: "KILL"}, "ended by signal KILL"},
		{engine.CodeNotStarted, engine.Args{Detail: "not found"}, "not found"},
		{engine.CodeUnsafe, engine.Args{Hazard: &engine.Hazard{Message: "tobias can write it", Remedy: "chmod o-w x"}}, "tobias can write it; chmod o-w x"},
		{engine.CodeUnseen, engine.Args{Detail: string(engine.LostMeanwhile)}, "it ended while no keeper ran, so how it ended is not known"},
		{engine.CodeMachineWaited, engine.Args{Event: "sleep", Span: minute}, "the machine waited 1 min with its sleep"},
		{"earlier", engine.Args{Detail: "as it was worded"}, "as it was worded"},
	} {
		if got := Reason(engine.Reason{Code: tt.code, Args: tt.args}); got != tt.want {
			t.Errorf("%s: %q, want %q", tt.code, got, tt.want)
		}
	}
	for kind, want := range map[engine.WaitKind]string{engine.ForRun: "its run to end", engine.ForPace: "its turn", engine.ForRetry: "its next try", "": ""} {
		if got := Waiting(kind, nil); got != want {
			t.Errorf("waiting for %q: %q", kind, got)
		}
	}
	if got := Sentence("due: boot"); got != "Due: boot." {
		t.Errorf("a sentence: %q", got)
	}
}
