//go:build linux

package cli_test

import (
	"encoding/xml"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
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
	t.Parallel()
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

// TestReadyDays: each ready day is played, its events and what they mean are told, and the
// report of a folder of days is read by an XML parser.
func TestReadyDays(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	run := func(args ...string) (string, int) {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = dir, []string{"TIMEGATE_HOME=" + filepath.Join(dir, "tg"), "TZ=Europe/London", "PATH=/usr/bin:/bin", "HOME=" + dir}
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	run("add", "humidity-log", "--open", "every 1h", "--open", "resume", "--open", "boot", "--", "/bin/true")
	if err := os.Mkdir(filepath.Join(dir, "days"), 0o755); err != nil {
		t.Fatal(err)
	}
	for day, want := range map[string][]string{
		"office-day": {"07:10 humidity-log/3 run 1", "17:32 shutdown", "07:12 logon maren"},
		"laptop-day": {"13:15 humidity-log/2 run", "resume", "the machine was asleep: 3 starts in 2 h", "battery 64%"},
		"night":      {"Tue 1 Dec", "the machine was asleep", "logon maren"},
		"dst-night":  {"Sat 27 Mar", "Europe/London", "02:00"},
	} {
		out, status := run("rehearse", "--example", day)
		for _, w := range want {
			if !strings.Contains(strings.Join(strings.Fields(out), " "), w) {
				t.Errorf("%s does not tell %q:\n%s", day, w, out)
			}
		}
		if status != 0 || strings.Contains(out, "nothing happens") {
			t.Errorf("%s: status %d\n%s", day, status, out)
		}
		if out, status := run("rehearse", "--example", day, "--write", filepath.Join("days", day+".toml")); status != 0 {
			t.Error(out)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "days/odd <name>.toml"), []byte("from = \"2026-11-30\"\nexpect = [\"humidity-log opens 3 times\", \"humidity-log never fails\"]\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, status := run("rehearse", "days", "--junit", "report.xml"); status != 3 || !strings.Contains(out, "1 of 5 days not as expected") {
		t.Errorf("status %d\n%s", status, out)
	}
	data, err := os.ReadFile(filepath.Join(dir, "report.xml"))
	if err != nil {
		t.Fatal(err)
	}
	type suite struct {
		Name     string `xml:"name,attr"`
		Tests    int    `xml:"tests,attr"`
		Failures int    `xml:"failures,attr"`
		Cases    []struct {
			Name    string `xml:"name,attr"`
			Failure *struct {
				Message string `xml:"message,attr"`
			} `xml:"failure"`
		} `xml:"testcase"`
	}
	var report struct {
		Suites []suite `xml:"testsuite"`
	}
	if err := xml.Unmarshal(data, &report); err != nil || len(report.Suites) != 5 {
		t.Fatalf("%v, %d suites\n%s", err, len(report.Suites), data)
	}
	i := slices.IndexFunc(report.Suites, func(s suite) bool { return s.Name == "odd <name>" })
	if i < 0 || report.Suites[i].Tests != 2 || report.Suites[i].Failures != 1 || report.Suites[i].Cases[0].Failure == nil || !strings.Contains(report.Suites[i].Cases[0].Failure.Message, "opened 24 times") || report.Suites[i].Cases[1].Failure != nil {
		t.Errorf("the report tells %+v", report.Suites)
	}
}

// TestUsualWeek: from what a keeper has recorded of its days comes a week that is usual, as
// a day file that is played.
func TestUsualWeek(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	h := home.At(dir, gate.User)
	if err := h.Prepare(); err != nil {
		t.Fatal(err)
	}
	j, err := journal.Open(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	now := time.Now().UTC()
	for back := 24; back > 0; back-- { // on from seven to six, maren from ten past seven on, asleep at noon
		day := time.Date(now.Year(), now.Month(), now.Day()-back, 0, 0, 0, 0, time.UTC)
		at := func(hour, minute int) calendar.Instant {
			return calendar.InstantOf(day.Add(time.Duration(hour)*time.Hour + time.Duration(minute)*time.Minute))
		}
		event := func(at calendar.Instant, body engine.Body) journal.Record {
			return journal.Record{Event: engine.Event{At: at, Body: body}}
		}
		boot := event(at(7, 0), &engine.Begin{BootID: fmt.Sprint("boot-", back)})
		boot.Delta.Machine = fmt.Appendf(nil, `{"boot_id":"boot-%d","booted":%d}`, back, at(7, 0))
		if _, err := j.Write(boot, event(at(7, 15), &engine.Occurred{Event: phrase.Logon, Name: "maren"}), event(at(13, 0), &engine.Slept{For: at(13, 0) - at(12, 0)}),
			event(at(17, 30), &engine.Occurred{Event: phrase.Logoff, Name: "maren"}), event(at(18, 0), &engine.Ended{})); err != nil {
			t.Fatal(err)
		}
	}
	run := func(args ...string) string {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = dir, []string{"TIMEGATE_HOME=" + dir, "TZ=UTC", "PATH=/usr/bin:/bin", "HOME=" + dir}
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Errorf("%v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	run("add", "stock-count", "--open", "at 12:30", "--set", "rules.missed=once", "--", "/bin/true")
	run("rehearse", "--usual", "--write", "usual.toml")
	text, err := os.ReadFile(filepath.Join(dir, "usual.toml"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"07:00 boot", "07:15 logon maren", "12:00 sleep", "13:00 resume", "18:00 shutdown"} {
		if !strings.Contains(string(text), "mon-sun "+want) {
			t.Errorf("the usual week lacks %q:\n%s", want, text)
		}
	}
	if out := run("rehearse", "--usual"); strings.Count(out, "catch-up") != 7 {
		t.Errorf("played, it tells\n%s", out)
	}
	// And a moment at which the machine usually sleeps is marked.
	if out := run("preview", "stock-count", "--count", "2"); !strings.Contains(out, "usually asleep or off then (") || !strings.Contains(run("why", "stock-count"), "Unless the machine is asleep or off then, as it was on ") {
		t.Errorf("of its next moments is told\n%s", out)
	}
}
