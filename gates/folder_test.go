package gates

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/home"
)

func TestDays(t *testing.T) {
	t.Parallel()
	days, err := parseDays("holidays", []byte("# closed\n2026-12-25\n2026-12-28..2026-12-31  # between the years\n\n"))
	if err != nil || len(days) != 2 || days[1].From.String() != "2026-12-28" || days[1].To.String() != "2026-12-31" {
		t.Errorf("parseDays = %v, %v", days, err)
	}
	for text, want := range map[string]string{"2026-12-25\n25.12.2026": ":2:", "2026-12-25..2026-12-24": "ends before"} {
		if _, err := parseDays("holidays", []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("the days in %q: %v, want …%s…", text, err, want)
		}
	}
}

// TestRecorded: a gate is known by its text and by its files of days, and can
// be read again as it was.
func TestRecorded(t *testing.T) {
	t.Parallel()
	h := home.At(t.TempDir(), gate.User)
	closed := filepath.Join(t.TempDir(), "closed")
	text := "run = [\"/bin/true\"]\nopens = [\"at 09:00, except days in " + closed + "\"]\n"
	read := func(days string) File {
		if err := os.WriteFile(closed, []byte(days), 0o600); err != nil {
			t.Fatal(err)
		}
		return Parse(h, "job-board", []byte(text), Env(Here(h.Scope, calendar.UTC, ""), calendar.UTC))
	}
	one, two := read("2026-12-24\n"), read("2026-12-25\n")
	if again := read("2026-12-25\n"); one.Same(&two) || !two.Same(&again) {
		t.Error("a change of the days is no change of the gate, or none is one")
	}
	g, err := Recorded(Here(h.Scope, calendar.UTC, ""), one.Definition(), calendar.UTC, func(version string) (string, error) {
		return map[string]string{one.Version: text, one.Days[0].Version: one.Days[0].Text}[version], nil
	})
	if err != nil {
		t.Fatal(err)
	}
	eve := calendar.DayOf(2026, 12, 24)
	if next, _ := g.Opens[0].Plan.NextMoment(calendar.InstantOf(eve.Noon().Add(-12 * time.Hour))); next.Time().Format("02 15:04") != "25 09:00" {
		t.Errorf("as recorded, it is due at %v", next.Time())
	}
	if _, err := Recorded(Here(h.Scope, calendar.UTC, ""), one.Definition(), calendar.UTC, func(string) (string, error) { return "", errors.New("gone") }); err == nil {
		t.Error("a text that is gone was read")
	}
	os.Remove(closed)
	if f := Parse(h, "job-board", []byte(text), Env(Here(h.Scope, calendar.UTC, ""), calendar.UTC)); f.Gate != nil || len(f.Days) != 1 {
		t.Errorf("without its days: %+v", f)
	}
}

func TestReadFolder(t *testing.T) {
	t.Parallel()
	h := home.At(t.TempDir(), gate.User)
	if err := h.Prepare(); err != nil {
		t.Fatal(err)
	}
	const good = "run = [\"/bin/true\"]\nopens = [\"boot\"]\n"
	for name, text := range map[string]string{"a": good, "b": "run = 1", "UPPER": good, "large": strings.Repeat("#", 10<<20), ".#swap": "x"} {
		if err := os.WriteFile(h.GateFile(name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(os.Mkdir(h.GateFile("folder"), 0o700), os.Symlink("/nowhere", h.GateFile("link")), os.WriteFile(h.Gates+"/notes.txt", nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	files, err := ReadFolder(h, Env(Here(h.Scope, calendar.UTC, ""), calendar.UTC))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, f := range files {
		code := "good"
		if f.Gate == nil {
			code = f.Findings[0].Code
		}
		got = append(got, f.Name+":"+code)
	}
	if want := "UPPER:name a:good b:wrong-type folder:unreadable large:too-large link:unreadable"; strings.Join(got, " ") != want {
		t.Errorf("ReadFolder: %v, want %s", got, want)
	}
}
