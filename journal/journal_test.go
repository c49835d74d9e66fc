package journal

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"timegate/core/calendar"
	"timegate/core/engine"
)

func open(t *testing.T) (*Journal, string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "a journal?#%.db")
	j, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { j.Close() })
	return j, path
}

func write(t *testing.T, j *Journal, records ...Record) {
	t.Helper()
	if err := j.Write(records...); err != nil {
		t.Fatal(err)
	}
}

// start, end and skip are records of a gate's life.
func start(at calendar.Instant, run int64, gate, opening string, due calendar.Instant) Record {
	return Record{Event: engine.Event{Kind: engine.Tick, At: at}, Programs: map[string]Program{gate: {Command: []string{"/opt/larkspur/bin/" + gate, "a b"}, Account: "maren"}},
		Decisions: []engine.Decision{{Kind: engine.Start, At: at, Gate: gate, Opening: opening, Due: due, Run: run, Moment: true, Reason: "due"}}}
}

func end(at calendar.Instant, run int64, gate string, result engine.Result) Record {
	return Record{Event: engine.Event{Kind: engine.Ended, At: at, Run: run, Exit: 3, Usage: &engine.Usage{UserMS: 5, MaxRSS: 4096, Output: 12}},
		Decisions: []engine.Decision{{Kind: engine.End, At: at, Gate: gate, Due: at, Run: run, Result: result, Reason: "exit status 3"}}}
}

func skip(at calendar.Instant, gate, opening string, due calendar.Instant) Record {
	return Record{Event: engine.Event{Kind: engine.Tick, At: at},
		Decisions: []engine.Decision{{Kind: engine.Skip, At: at, Gate: gate, Opening: opening, Due: due, Result: engine.Skipped, Count: 4, Reason: "busy"}}}
}

func TestHistory(t *testing.T) {
	j, path := open(t)
	write(t, j, Record{Event: engine.Event{Kind: engine.Boot, At: 1000}, BootID: "boot-a"})
	for _, name := range []string{path, path + "-wal", path + "-shm"} {
		if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s may be read by others: %v, %v", name, info.Mode(), err)
		}
	}
	write(t, j, start(2000, 1, "job-board", "1", 1990))
	write(t, j, Record{Event: engine.Event{Kind: engine.Started, At: 2001, Run: 1, PID: 4711}})
	write(t, j, skip(3000, "stock-count", "1", 3000), end(3500, 1, "job-board", engine.OK), start(4000, 2, "stock-count", "sat", 4000))

	// A reader sees all of it while the writer has the journal open.
	r, err := OpenReader(path)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	lines := func(f Filter) string {
		entries, err := r.History(f)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, e := range entries {
			out = append(out, fmt.Sprintf("%d %s/%s %s due=%d started=%d ended=%d pid=%d exit=%d x%d %q", e.Run, e.Gate, e.Opening, e.Result, e.Due, e.Started, e.Ended, e.PID, e.Exit, e.Count, e.Command))
		}
		return strings.Join(out, "\n")
	}
	two := `2 stock-count/sat running due=4000 started=0 ended=0 pid=0 exit=0 x0 ["/opt/larkspur/bin/stock-count" "a b"]`
	skipped := `0 stock-count/1 skipped due=3000 started=0 ended=0 pid=0 exit=0 x4 []`
	one := `1 job-board/1 ok due=1990 started=2001 ended=3500 pid=4711 exit=3 x0 ["/opt/larkspur/bin/job-board" "a b"]`
	for _, tt := range []struct {
		filter Filter
		want   []string
	}{
		{Filter{}, []string{two, skipped, one}},
		{Filter{Limit: 2}, []string{two, skipped}},
		{Filter{Gate: "job-board"}, []string{one}},
		{Filter{Gate: "stock-count"}, []string{two, skipped}},
		{Filter{Since: 3000}, []string{two, skipped}},
		{Filter{OnlyRuns: true}, []string{two, one}},
		{Filter{Gate: "nobody"}, nil},
	} {
		if got, want := lines(tt.filter), strings.Join(tt.want, "\n"); got != want {
			t.Errorf("History(%+v):\n got %s\nwant %s", tt.filter, got, want)
		}
	}
	if e, ok, err := r.Run(1); err != nil || !ok || e.Usage.MaxRSS != 4096 || e.Outcome != "exit status 3" {
		t.Errorf("Run(1) = %+v, %v, %v", e, ok, err)
	}
	if _, ok, err := r.Run(99); ok || err != nil {
		t.Errorf("Run(99) = %v, %v", ok, err)
	}
	last, err := r.LastRuns()
	if err != nil || len(last) != 2 || last["stock-count"].Run != 2 {
		t.Errorf("LastRuns = %v, %v", last, err)
	}
	if id, at, err := r.Booted(); err != nil || id != "boot-a" || at != 1000 {
		t.Errorf("Booted = %q, %d, %v", id, at, err)
	}
}

func TestMemory(t *testing.T) {
	j, _ := open(t)
	m, err := j.Memory("boot-a")
	if err != nil || m.LastSeen != 0 || m.NextRun != 1 || m.Booted != 0 {
		t.Fatalf("memory of a new journal: %+v, %v", m, err)
	}
	defs := []engine.Definition{{Name: "job-board", Version: "v1"}, {Name: "glue-warm", Version: "v1"}}
	write(t, j, Record{Event: engine.Event{Kind: engine.Begin, At: 900, Set: defs}, Texts: map[string]string{"v1": "run = []"}})
	write(t, j, Record{Event: engine.Event{Kind: engine.Boot, At: 1000}, BootID: "boot-a"})
	write(t, j, Record{Event: engine.Event{Kind: engine.Gates, At: 1500, Set: []engine.Definition{{Name: "job-board", Version: "v2"}}, Removed: []string{"glue-warm"}}})
	write(t, j, start(2000, 1, "job-board", "1", 1990), end(2500, 1, "job-board", engine.OK))
	write(t, j, start(3000, 2, "job-board", "1", 2990), skip(3100, "job-board", "1", 3100))
	write(t, j, Record{Event: engine.Event{Kind: engine.Pause, At: 3200, Until: 9000}})
	m, err = j.Memory("boot-a")
	want := &engine.Memory{LastSeen: 3200, NextRun: 3, Booted: 1000, Paused: true, PausedSince: 3200, PauseUntil: 9000,
		Versions: map[string]string{"job-board": "v2"}, Openings: map[string]engine.OpeningMemory{"job-board/1": {Last: 3100, Moment: 2990, Count: 2}},
		LastGood: map[string]calendar.Instant{"job-board": 2500},
		Running:  []engine.RunMemory{{Run: 2, Gate: "job-board", Opening: "1", Due: 2990}}}
	if err != nil || !reflect.DeepEqual(m, want) {
		t.Errorf("memory:\n got %+v, %v\nwant %+v", m, err, want)
	}
	write(t, j, Record{Event: engine.Event{Kind: engine.Resume, At: 3300}})
	if m, err = j.Memory("boot-b"); err != nil || m.Booted != 0 || m.Paused {
		t.Errorf("after a boot and a resume: %+v, %v", m, err)
	}
	if text, err := j.Text("v1"); err != nil || text != "run = []" {
		t.Errorf("Text = %q, %v", text, err)
	}
}

// TestWaits: a start that waits is remembered until something is decided
// about it.
func TestWaits(t *testing.T) {
	j, _ := open(t)
	wait := func(at calendar.Instant, gate string, due, until calendar.Instant, try int) Record {
		return Record{Event: engine.Event{Kind: engine.Tick, At: at}, Decisions: []engine.Decision{
			{Kind: engine.Wait, At: at, Gate: gate, Opening: "1", Due: due, Until: until, Try: try, Reason: "waits"}}}
	}
	waiting := func() string {
		m, err := j.Memory("boot")
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, w := range m.Waiting {
			out = append(out, fmt.Sprintf("%s@%d until %d try %d", w.Gate, w.Due, w.Until, w.Try))
		}
		return strings.Join(out, ", ")
	}
	write(t, j, start(1000, 1, "stock-count", "1", 1000), wait(2000, "stock-count", 2000, 0, 0))
	write(t, j, start(1000, 2, "vault-copy", "1", 1000), end(1500, 2, "vault-copy", engine.Failure), wait(1500, "vault-copy", 1000, 6000, 1))
	if got, want := waiting(), "stock-count@2000 until 0 try 0, vault-copy@1000 until 6000 try 1"; got != want {
		t.Errorf("waiting are %s, want %s", got, want)
	}
	write(t, j, skip(3000, "stock-count", "1", 2000), start(7000, 3, "vault-copy", "1", 7000))
	if got := waiting(); got != "" {
		t.Errorf("still waiting are %s", got)
	}
	retry := start(8000, 4, "vault-copy", "1", 7000)
	retry.Decisions[0].Kind, retry.Decisions[0].Try = engine.Retry, 2
	write(t, j, retry)
	m, err := j.Memory("boot")
	if err != nil || m.Running[len(m.Running)-1].Try != 2 {
		t.Errorf("the run that goes on is %+v, %v", m.Running, err)
	}
}

func TestWriteIsWhole(t *testing.T) {
	j, _ := open(t)
	write(t, j, start(2000, 1, "job-board", "1", 1990))
	// The second start has a number that is taken: nothing of the batch stays.
	if err := j.Write(start(3000, 2, "job-board", "1", 3000), start(3000, 1, "job-board", "1", 3000)); err == nil {
		t.Fatal("a run was recorded twice")
	}
	entries, err := j.History(Filter{})
	events, err2 := j.Events("ORDER BY id")
	if err != nil || err2 != nil || len(entries) != 1 || len(events) != 1 {
		t.Errorf("after a failed batch there are %d entries, %d events, %v, %v", len(entries), len(events), err, err2)
	}
}

func TestFilesThatAreNoJournal(t *testing.T) {
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	sqlite := func(name, statements string) {
		db, err := sql.Open("sqlite", path(name))
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		if _, err := db.Exec(statements); err != nil {
			t.Fatal(err)
		}
	}
	files := map[string]string{"text": strings.Repeat("stock of boards and cloth\n", 50), "short": "x", "torn": "SQLite format 3\x00" + strings.Repeat("\xff", 5000)}
	for name, content := range files {
		if err := os.WriteFile(path(name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Mkdir(path("folder"), 0o700); err != nil {
		t.Fatal(err)
	}
	sqlite("other", "CREATE TABLE jobs (id INTEGER)")
	sqlite("marked", "PRAGMA application_id = 77; CREATE TABLE jobs (id INTEGER)")
	sqlite("later", fmt.Sprintf("PRAGMA application_id = %d; PRAGMA user_version = 99; CREATE TABLE runs (id INTEGER)", applicationID))
	for name, want := range map[string]string{"text": "another file", "short": "another file", "torn": "another program's", "folder": "it is a folder",
		"other": "another program's", "marked": "another program's", "later": "later Time Gate"} {
		before, _ := os.ReadFile(path(name))
		_, err := Open(path(name))
		var fe *FileError
		if !errors.As(err, &fe) || !strings.Contains(err.Error(), want) || fe.Remedy == "" {
			t.Errorf("Open(%s) = %v, want …%s… and a remedy", name, err, want)
		}
		if after, _ := os.ReadFile(path(name)); string(after) != string(before) {
			t.Errorf("Open(%s) changed the file", name)
		}
	}
	if _, err := OpenReader(path("nothing")); !errors.Is(err, ErrNone) {
		t.Errorf("OpenReader of nothing = %v", err)
	}
	if err := os.WriteFile(path("empty"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	j, err := Open(path("empty"))
	if err != nil {
		t.Fatalf("an empty file: %v", err)
	}
	j.Close()
}

func TestDamaged(t *testing.T) {
	j, path := open(t)
	for i := range int64(200) {
		write(t, j, start(calendar.Instant(i), i+1, "job-board", "1", calendar.Instant(i)))
	}
	j.Close()
	data, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for i := 4096; i < len(data); i++ {
		data[i] = 0xaa
	}
	if err := os.WriteFile(path, data, 0o600); err != nil {
		t.Fatal(err)
	}
	r, err := OpenReader(path)
	if err == nil {
		_, err = r.History(Filter{})
		r.Close()
	}
	var fe *FileError
	if !errors.As(err, &fe) || fe.Reason != "it is damaged" {
		t.Errorf("a damaged journal gives %v", err)
	}
}

func BenchmarkIntent(b *testing.B) {
	j, err := Open(filepath.Join(b.TempDir(), "journal.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer j.Close()
	run := int64(0)
	for b.Loop() {
		run++
		if err := j.Write(start(calendar.Instant(run), run, "job-board", "1", calendar.Instant(run))); err != nil {
			b.Fatal(err)
		}
	}
}

// TestAbsences: when the machine slept, and when it was off, as far as that is
// certain.
func TestAbsences(t *testing.T) {
	j, path := open(t)
	const hour = 3600_000
	for _, ev := range []engine.Event{
		{Kind: engine.Begin, At: 1 * hour}, {Kind: engine.Boot, At: 1 * hour},
		{Kind: engine.Asleep, At: 9 * hour, By: 7 * hour},
		{Kind: engine.Rest, At: 10 * hour}, {Kind: engine.Begin, At: 11 * hour}, // the keeper alone
		{Kind: engine.Begin, At: 20 * hour}, {Kind: engine.Boot, At: 20 * hour}, // the power had failed
		{Kind: engine.Rest, At: 30 * hour}, {Kind: engine.Begin, At: 40 * hour}, {Kind: engine.Boot, At: 40 * hour},
		{Kind: engine.Rest, At: 41 * hour}, {Kind: engine.Begin, At: 42 * hour}, {Kind: engine.Tick, At: 43 * hour},
		{Kind: engine.Begin, At: 50 * hour}, {Kind: engine.Boot, At: 50 * hour},
	} {
		write(t, j, Record{Event: ev})
	}
	viewer, err := OpenViewer(path, "maren")
	if err != nil {
		t.Fatal(err)
	}
	defer viewer.Close()
	want := Absences{Since: 1 * hour, Spans: []Absence{{2 * hour, 9 * hour, false}, {30 * hour, 40 * hour, true}}}
	for name, reader := range map[string]*Journal{"the keeper": j, "a viewer": viewer} {
		if got, err := reader.Absences(0); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %+v, %v, want %+v", name, got, err, want)
		}
	}
	if got, err := j.Absences(35 * hour); err != nil || got.Since != 40*hour || len(got.Spans) != 0 {
		t.Errorf("from later on: %+v, %v", got, err)
	}
}
