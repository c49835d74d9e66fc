//go:build linux

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/home"
	"timegate/journal"
)

// TestStartupCost tells what a logon cost, from what a keeper has recorded, with advice
// whose command makes it come later, and draws it.
func TestStartupCost(t *testing.T) {
	dir := t.TempDir()
	h := home.At(dir, gate.User)
	timegate := func(args ...string) string {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = dir, []string{"TIMEGATE_HOME=" + dir, "TZ=Europe/London", "PATH=/usr/bin:/bin", "HOME=" + dir}
		out, err := cmd.CombinedOutput()
		return string(out) + strings.TrimPrefix(fmt.Sprintf("%v", err), "<nil>")
	}
	if got := timegate("startup", "--cost"); !strings.Contains(got, "no boot or logon was seen yet") {
		t.Errorf("with nothing recorded: %s", got)
	}
	timegate("add", "glue-warm", "--open", "logon", "--", "/bin/true")
	if err := h.Prepare(); err != nil {
		t.Fatal(err)
	}
	j, err := journal.Open(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	at := calendar.InstantOf(time.Date(2026, time.November, 26, 7, 30, 0, 0, time.UTC))
	record := func(ms calendar.Instant, body engine.Body, decisions ...engine.Decision) journal.Record {
		return journal.Record{Event: engine.Event{At: at + ms, Body: body}, Decisions: decisions, Programs: map[string]journal.Program{"glue-warm": {Command: []string{"/bin/true"}}}}
	}
	settled := func(since, lasted calendar.Instant) *engine.Settled {
		return &engine.Settled{After: phrase.Logon, Name: "maren", Since: at + since, For: lasted, Calm: true, Processor: 31_000, Disk: 200}
	}
	why := engine.Reason{Code: engine.CodeDue, Args: engine.Args{Phrase: "logon of maren"}}
	_, err = j.Write(record(-9000, settled(-90_000, 35_000)), record(-8000, settled(-80_000, 33_000)),
		record(100, &engine.Occurred{Event: phrase.Logon, Name: "maren"}, engine.Decision{Kind: engine.Start, At: at + 100, Gate: "glue-warm", Opening: "1", Due: at, Run: 1, Reason: why}),
		record(200, &engine.RunStarted{Run: 1, PID: 7}),
		record(20_200, &engine.RunEnded{Run: 1, EndedAt: at + 20_200, Usage: engine.Usage{UserMS: 18_000, MaxRSS: 30 << 20, Read: 5e6}}, engine.Decision{Kind: engine.End, At: at + 20_200, Gate: "glue-warm", Run: 1, Result: engine.ResultOK}),
		record(60_000, settled(0, 42_000)))
	if err != nil {
		t.Fatal(err)
	}
	got := timegate("startup", "--cost")
	for _, want := range []string{"logon of maren", "calm after 42 s (2 times before: 35 s); work waited 31 s for a processor\n", "glue-warm  +0.2 s   20 s  18 s       31 MB   5.0 MB",
		"advice: glue-warm asks for 18 s of processor and disk in the 42 s until the machine is calm\n  let it start later: timegate change glue-warm/1 --open 'logon + 1m'\n"} {
		if !strings.Contains(got, want) {
			t.Errorf("it does not tell %q:\n%s", want, got)
		}
	}
	if got := timegate("startup", "--cost", "--json"); !strings.Contains(got, `"usual_s": 35`) || !strings.Contains(got, `"processor_s": 18`) {
		t.Errorf("in JSON: %s", got)
	}
	if got := timegate("change", "glue-warm/1", "--open", "logon + 1m"); !strings.Contains(got, "written") { // the advice, taken
		t.Error(got)
	}
	if got := timegate("startup", "--png", "logon.png"); !strings.Contains(got, "written logon.png") {
		t.Error(got)
	}
	if data, err := os.ReadFile(filepath.Join(dir, "logon.png")); err != nil || !strings.HasPrefix(string(data), "\x89PNG") {
		t.Errorf("the picture: %v", err)
	}
	if got := timegate("startup", "gate:glue-warm"); !strings.Contains(got, "20 s, 18 s processor, 31 MB memory, 5.0 MB read, 0 B written (its one run)") {
		t.Errorf("of the item: %s", got)
	}
}
