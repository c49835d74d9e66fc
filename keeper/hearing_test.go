//go:build linux

package keeper

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/home"
	"timegate/journal"
	"timegate/workstation/staged"
	"timegate/workstation/wstest"
)

// TestHearing: a login manager's words open gates of a real keeper, a machine
// that goes down waits for the programs that are to run first, and a keeper
// that begins anew does not take old news for new.
func TestHearing(t *testing.T) {
	if !wstest.Alone(t, 0) {
		return
	}
	dir := t.TempDir()
	bus, copied := filepath.Join(dir, "bus"), filepath.Join(dir, "copied")
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+bus)
	wstest.StartBus(t, bus)
	login := wstest.NewLoginManager(t, bus, map[string]string{"1": "ines"})
	h := homeWith(t,
		"job-board", gateText(wstest.Script(t, `[ "$TIMEGATE_EVENT $TIMEGATE_ACCOUNT" = "logon maren" ]`), `"logon of maren"`),
		"glue-warm", gateText(wstest.Script(t, ``), `"first unlock of the day"`),
		"vault-copy", gateText(wstest.Script(t, `sleep 0.4; touch `+copied), `"shutdown"`),
		"stuck", gateText(wstest.Script(t, `trap '' TERM; while :; do sleep 1; done`), `"sleep"`, "[limits]", `longest = "200ms"`, `grace = "100ms"`),
		"stock-count", gateText(wstest.Script(t, ``), `"resume"`),
		"everyone", gateText(wstest.Script(t, ``), `"logon of ines", "logon of tobias"`))
	k := keep(t, h, newMachine(t))
	if d := k.ended("everyone"); d.Result != engine.ResultOK {
		t.Errorf("who was logged on when the first keeper began: %+v", d)
	}
	login.Logon("2", "maren", "user")
	if d := k.ended("job-board"); d.Result != engine.ResultOK {
		t.Errorf("logon: %+v", d)
	}
	for _, session := range []string{"2", "3"} { // the keeper is a person's: it is their own unlock that counts
		if session == "3" {
			login.Logon(session, home.Account(), "user")
		}
		login.SetLocked(session, true)
		login.SetLocked(session, false)
	}
	if d := k.until("an unlock", func(d engine.Decision) bool { return d.Starts() && d.Gate == "glue-warm" }); d.Cause == nil || d.Cause.Account != home.Account() {
		t.Errorf("unlock: %+v", d)
	}

	wstest.Await(t, "the delays", func() bool { return login.Held("sleep") && login.Held("shutdown") })
	login.Emit(wstest.LoginPath, "Manager.PrepareForSleep", true)
	if d := k.ended("stuck"); d.Result != engine.ResultOverran {
		t.Errorf("before sleep: %+v", d)
	}
	wstest.Await(t, "sleep", func() bool { return !login.Held("sleep") })
	login.Emit(wstest.LoginPath, "Manager.PrepareForSleep", false)
	k.ended("stock-count")
	login.Emit(wstest.LoginPath, "Manager.PrepareForShutdown", true)
	wstest.Await(t, "the machine to go down", func() bool { return !login.Held("shutdown") })
	if _, err := os.Stat(copied); err != nil {
		t.Errorf("the machine goes down before the copy is done: %v", err)
	}
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	// The next keeper was told of both; only tobias is news.
	k = keep(t, h, newMachine(t))
	login.Logon("4", "tobias", "user")
	if d := k.until("a start", func(d engine.Decision) bool { return d.Starts() }); d.Cause == nil || d.Cause.Account != "tobias" {
		t.Errorf("a logon was told twice: %+v", d)
	}
	k.ended("everyone")
}

// TestLateLogins: a login manager that answers when the keeper has begun long since tells of
// those who were logged on as if it had answered at once.
func TestLateLogins(t *testing.T) {
	if !wstest.Alone(t, 0) {
		return
	}
	bus := filepath.Join(t.TempDir(), "bus")
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+bus)
	wstest.StartBus(t, bus)
	answer := wstest.NewLoginManager(t, bus, map[string]string{"1": "ines"}).Hang()
	h := homeWith(t, "everyone", gateText(wstest.Script(t, ``), `"logon of ines"`))
	keep(t, h, newMachine(t)).end()
	k := keep(t, h, newMachine(t))
	answer()
	if d := k.until("a start", func(d engine.Decision) bool { return d.Starts() }); d.Cause == nil || d.Cause.Account != "ines" {
		t.Errorf("%+v", d)
	}
	k.ended("everyone")
}

// TestPace: what opens at boot starts one after the other where the settings
// say so, also when they are changed meanwhile; wrong settings are refused.
func TestPace(t *testing.T) {
	t.Parallel()
	h := homeWith(t)
	for _, name := range []string{"a", "b", "c", "d"} {
		put(t, h, name, gateText(wstest.Script(t, ""), `"boot"`))
	}
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(h.Settings(), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("[pace]\nat_once = 1\nroom = \"50ms\"\n")
	m, err := staged.New(staged.Options{At: morning, Zone: calendar.UTC, BootID: "studio-laptop-1"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	k := keep(t, h, m)
	var at []calendar.Instant
	for _, want := range []string{"a", "b"} {
		d := k.until("a start", func(d engine.Decision) bool { return d.Starts() })
		if d.Gate != want {
			t.Errorf("%s starts, want %s", d.Gate, want)
		}
		at = append(at, d.At)
	}
	if room := at[1].Sub(at[0]); room < 50*time.Millisecond {
		t.Errorf("only %v of room", room)
	}
	write("[pace]\nat_once = 0\n")
	k.ended("d")
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{
		"[pace]\nat_one = 2\n":                 `settings.toml:2:1: there is no key "pace.at_one"`,
		"[pace]\nat_once = -1\n":               "settings.toml:2:1: at_once is 0",
		"[pace]\nroom = \"soon\"\n":            "settings.toml:2:1: room: ",
		"[pace]\n\ncalm = \"0%\"\n":            "settings.toml:3:1: calm is a share",
		"[pace]\nlongest = 5\n":                `"pace.longest" is of the wrong type`,
		"[keep]\noutputs = \"a while\"\n":      "settings.toml:2:1: outputs: ",
		"[keep]\noutputs_size = \"5%\"\n":      "settings.toml:2:1: outputs_size is an amount",
		"[keep]\nwithout_journal = \"no\"\n":   "settings.toml:2:1: without_journal is",
		"[pace\n":                              "settings.toml:1:",
		"[pace]\ncalm = \"40\"\nat_once = 1\n": "calm is a share",
	} {
		write(text)
		if _, err := home.ReadSettings(h.Settings()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want …%s…", text, err, want)
		}
	}
}

// TestOutputsGo: what was printed too long ago is taken away when a keeper
// begins, and nothing else.
func TestOutputsGo(t *testing.T) {
	t.Parallel()
	h := homeWith(t)
	if err := os.WriteFile(h.Settings(), []byte("[keep]\noutputs = \"2d\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, days := range map[string]int{"7.txt": 3, "8.txt.tail": 3, "9.txt": 1, "notes.txt": 3, "10.txt": 3} {
		path, at := filepath.Join(h.Outputs(), name), time.Now().AddDate(0, 0, -days)
		if err := errors.Join(os.WriteFile(path, nil, 0o600), os.Chtimes(path, at, at)); err != nil {
			t.Fatal(err)
		}
	}
	nobodys := func([]int64) (map[int64]string, error) { return nil, nil }
	if _, _, err := removeOutputs(filepath.Join(h.State, "nowhere"), tidyRule{}, nobodys); err == nil {
		t.Error("outputs that are nowhere were looked through")
	}
	if _, _, err := removeOutputs(h.Outputs(), tidyRule{before: time.Now().AddDate(0, 0, -2), running: map[int64]bool{7: true, 8: true}}, nobodys); err != nil {
		t.Fatal(err)
	}
	left := func() string {
		files, err := filepath.Glob(filepath.Join(h.Outputs(), "*"))
		if err != nil {
			t.Fatal(err)
		}
		for i := range files {
			files[i] = filepath.Base(files[i])
		}
		return strings.Join(files, " ")
	}
	if got := left(); got != "7.txt 8.txt.tail 9.txt notes.txt" {
		t.Errorf("beside runs that go on: %s", got)
	}
	keep(t, h, newMachine(t))
	wstest.Await(t, "the old ones to go", func() bool { return left() == "9.txt notes.txt" })
}

// TestOutputsAreBounded: of what accounts print, the oldest goes when it is too
// much, of one account and of all; what still comes stays.
func TestOutputsAreBounded(t *testing.T) {
	t.Parallel()
	h := homeWith(t)
	for run := 1; run <= 10; run++ {
		if err := os.WriteFile(h.Output(int64(run)), make([]byte, 100), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	accounts := func([]int64) (map[int64]string, error) {
		return map[int64]string{1: "maren", 2: "tobias", 3: "maren", 4: "maren", 5: "tobias", 6: "maren", 7: "maren", 8: "tobias", 9: "root", 10: "root"}, nil
	}
	left := func() (out []int64) {
		list, err := outputsIn(h.Outputs())
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range list {
			out = append(out, o.run)
		}
		return out
	}
	for _, tt := range []struct {
		rule  tidyRule
		files int
		want  []int64
	}{
		{tidyRule{each: 500, all: 1000}, 0, []int64{1, 2, 3, 4, 5, 6, 7, 8, 9, 10}},
		{tidyRule{each: 300, running: map[int64]bool{1: true}}, 2, []int64{1, 2, 5, 6, 7, 8, 9, 10}},
		{tidyRule{all: 450}, 4, []int64{7, 8, 9, 10}},
	} {
		files, bytes, err := removeOutputs(h.Outputs(), tt.rule, accounts)
		if got := left(); err != nil || files != tt.files || bytes != int64(files)*100 || !slices.Equal(got, tt.want) {
			t.Errorf("%+v: took %d (%d bytes), %v; left are %v, want %v", tt.rule, files, bytes, err, got, tt.want)
		}
	}
}

// TestReadings: what was measured before and after a run is kept with it.
func TestReadings(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "stock-count", gateText(wstest.Script(t, ""), `"unlock"`, `measure = ["memory", "disk:/"]`))
	m, err := staged.New(staged.Options{At: morning, Zone: calendar.UTC, BootID: "studio-laptop-1"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	stage := func(words ...string) {
		t.Helper()
		if err := m.Stage(words); err != nil {
			t.Fatal(err)
		}
	}
	stage("memory", "300MiB")
	stage("disk", "/", "5GiB")
	k := keep(t, h, m)
	stage("logon")
	stage("unlock")
	k.ended("stock-count")
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	j, err := journal.OpenReader(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	e, _, err := j.Run(1)
	if err != nil || e.Before["memory"] != 300<<20 || e.After["memory"] != 300<<20 || e.Before["disk:/"] != 5<<30 || len(e.After) != 2 {
		t.Errorf("run %+v, %v", e, err)
	}
}
