package journal

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/coretest"
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
	if _, err := j.Write(records...); err != nil {
		t.Fatal(err)
	}
}

func tick(at calendar.Instant) engine.Event { return engine.Event{At: at, Body: &engine.Tick{}} }

// start, end and skip are records of a gate's life.
func start(at calendar.Instant, run int64, gate, opening string, due calendar.Instant) Record {
	return Record{Event: tick(at), Programs: map[string]Program{gate: {Command: []string{"/opt/larkspur/bin/" + gate, "a b"}, Account: "maren"}},
		Decisions: []engine.Decision{{Kind: engine.Start, At: at, Gate: gate, Opening: opening, Due: due, Run: run, Moment: true, Reason: engine.Reason{Code: engine.CodeDue}}}}
}

func end(at calendar.Instant, run int64, gate string, result engine.Result) Record {
	return Record{Event: engine.Event{At: at, Body: &engine.RunEnded{Run: run, EndedAt: at - 10, Exit: 3, Usage: engine.Usage{UserMS: 5, MaxRSS: 4096, Output: 12}}},
		Decisions: []engine.Decision{{Kind: engine.End, At: at, Gate: gate, Due: at, Run: run, Result: result, Reason: engine.Reason{Code: engine.CodeExit, Args: engine.Args{Status: 3}}}}}
}

func skip(at calendar.Instant, gate, opening string, due calendar.Instant) Record {
	return Record{Event: tick(at),
		Decisions: []engine.Decision{{Kind: engine.Skip, At: at, Gate: gate, Opening: opening, Due: due, Result: engine.ResultSkipped, Count: 4, Reason: engine.Reason{Code: engine.CodeBusy}}}}
}

func TestHistory(t *testing.T) {
	t.Parallel()
	j, path := open(t)
	write(t, j, Record{Event: engine.Event{At: 1000, Body: &engine.Begin{BootID: "boot-a"}}, Delta: engine.Delta{Machine: []byte(`{"boot_id":"boot-a","booted":1000}`)}})
	for _, name := range []string{path, path + "-wal", path + "-shm"} {
		if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s may be read by others: %v, %v", name, info.Mode(), err)
		}
	}
	write(t, j, start(2000, 1, "job-board", "1", 1990))
	write(t, j, Record{Event: engine.Event{At: 2001, Body: &engine.RunStarted{Run: 1, PID: 4711}}})
	write(t, j, skip(3000, "stock-count", "1", 3000), end(3500, 1, "job-board", engine.ResultOK), start(4000, 2, "stock-count", "sat", 4000))

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
	one := `1 job-board/1 ok due=1990 started=2001 ended=3490 pid=4711 exit=3 x0 ["/opt/larkspur/bin/job-board" "a b"]`
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
	if e, ok, err := r.Run(1); err != nil || !ok || e.Usage.MaxRSS != 4096 || e.Outcome.Args.Status != 3 {
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

// TestState: what is committed of a state comes back, gate by gate, with the
// files that no run was told of yet.
func TestState(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	if _, ok, err := j.State(); ok || err != nil {
		t.Fatalf("the state of a new journal: %v, %v", ok, err)
	}
	gates := func(list map[string]string) map[string][]byte {
		out := map[string][]byte{}
		for name, body := range list {
			out[name] = nil
			if body != "" {
				out[name] = []byte(body)
			}
		}
		return out
	}
	files := func(added []string, settled, taken bool) engine.FileChange {
		return engine.FileChange{Gate: "proof-inbox", Opening: "1", Added: added, Settled: settled, Taken: taken}
	}
	inbox := `{"version":"v2","openings":[{"name":"1","phrase":"change in /srv"}]}`
	write(t, j,
		Record{Event: tick(1000), Delta: engine.Delta{Machine: []byte(`{"next_run":3,"now":900}`), Gates: gates(map[string]string{"glue-warm": `{"version":"v1"}`, "proof-inbox": inbox}),
			Files: []engine.FileChange{files([]string{"/srv/a", "/srv/b"}, false, false), files(nil, true, false), files(nil, false, true), files([]string{"/srv/c"}, false, false), files(nil, true, false)}}},
		Record{Event: tick(2000), Delta: engine.Delta{Gates: gates(map[string]string{"glue-warm": ""}), Files: []engine.FileChange{files([]string{"/srv/a", "/srv/d\n", "/srv/\xff"}, false, false)}}})
	s, ok, err := j.State()
	if err != nil || !ok || s.Version != engine.StateVersion || s.Machine.NextRun != 3 || len(s.Gates) != 1 {
		t.Fatalf("the state is %+v, %v, %v", s, ok, err)
	}
	o := s.Gates["proof-inbox"].Openings[0]
	if got := fmt.Sprintf("%q %q", o.Files.Paths(), o.MovingFiles.Paths()); got != `["/srv/c"] ["/srv/a" "/srv/d\n" "/srv/\xff"]` {
		t.Errorf("files that changed: %s", got)
	}
}

// TestEndedMeanwhile: a run that ended while no keeper ran has ended then, and took what it
// took, and not until somebody came to know.
func TestEndedMeanwhile(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	write(t, j, start(1000, 1, "glue-warm", "1", 1000), start(1000, 2, "job-board", "1", 1000),
		Record{Event: engine.Event{At: 1010, Body: &engine.RunStarted{Run: 1, PID: 7, StartedAt: 1010}}}, Record{Event: engine.Event{At: 1010, Body: &engine.RunStarted{Run: 2, PID: 8, StartedAt: 1010}}})
	ended := func(run int64, result engine.Result) engine.Decision {
		return engine.Decision{Kind: engine.End, At: 20_000, Gate: "g", Due: 1000, Run: run, Result: result}
	}
	write(t, j, Record{Event: engine.Event{At: 20_000, Body: &engine.Begin{BootID: "boot-a", Lost: []int64{2}, Ended: []engine.RunEnded{{Run: 1, EndedAt: 3010, Usage: engine.Usage{UserMS: 70}}}}},
		Decisions: []engine.Decision{ended(1, engine.ResultOK), ended(2, engine.ResultLost)}})
	runs, err := j.History(Filter{})
	if err != nil || len(runs) != 2 {
		t.Fatal(runs, err)
	}
	for _, r := range runs {
		if want := map[int64]calendar.Instant{1: 3010, 2: 20_000}[r.Run]; r.Ended != want || r.Run == 1 && (r.Ended-r.Started != 2000 || r.Usage.UserMS != 70) {
			t.Errorf("run %d ended at %d after %d, with %+v; want %d", r.Run, r.Ended, r.Ended-r.Started, r.Usage, want)
		}
	}
}

// TestAge: history goes in small steps up to the last checkpoint that is old
// enough, and no further; the state, runs that go on and the texts of gates in
// force stay. Numbers of events are never given again.
// TestEarlierVersion: the runs of a journal of the version before are carried
// over, and no number is given twice.
func TestEarlierVersion(t *testing.T) {
	t.Parallel()
	script, err := os.ReadFile("testdata/version4.sql")
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "journal.db")
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(string(script)); err != nil {
		t.Fatal(err)
	}
	db.Close()
	if _, err := OpenReader(path); err == nil || !strings.Contains(err.Error(), "let this one's keeper begin") {
		t.Errorf("a reader of it: %v", err)
	}
	j, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	list, err := j.History(Filter{})
	if err != nil || len(list) != 2 || list[0].Result != engine.ResultLost || list[1].Reason.Args.Detail != "due: every 10m" || list[1].Ended != 3500 || list[1].PID != 4711 {
		t.Errorf("history %+v, %v", list, err)
	}
	s, ok, err := j.State()
	if err != nil || !ok || s.Machine.NextRun != 9 || s.Machine.BootID != "boot-a" || s.Machine.Booted != 1000 {
		t.Errorf("state %+v, %v, %v", s.Machine, ok, err)
	}
}

// TestVersionBefore: a journal of version 5 did not know what runs read and wrote, one of
// version 6 counted what passed by looking at it, one of version 7 read all events for
// a few, and in one of version 8 a gate had no name but that under which it was recorded; all else is in them, also where they must be set aside.
func TestVersionBefore(t *testing.T) {
	t.Parallel()
	const eight = "DROP TABLE names; PRAGMA user_version = 8;"
	const seven = eight + "DROP INDEX sessions; DROP INDEX versions; PRAGMA user_version = 7;"
	const six = seven + "DROP INDEX passed_gate; CREATE INDEX passed_gate ON decisions (gate, at) WHERE kind = 'skip'; PRAGMA user_version = 6;"
	const five = six + "ALTER TABLE runs DROP COLUMN read; ALTER TABLE runs DROP COLUMN written; DROP INDEX settled; PRAGMA user_version = 5"
	for _, tt := range []struct {
		before string
		aside  bool
	}{{five, false}, {five, true}, {six, false}, {six, true}, {seven, false}, {seven, true}, {eight, false}, {eight, true}} {
		j, path := open(t)
		write(t, j, start(2000, 1, "job-board", "1", 1990))
		if _, err := j.durable.Exec(tt.before); err != nil {
			t.Fatal(err)
		}
		j.Close()
		if _, err := OpenReader(path); err == nil || !strings.Contains(err.Error(), "let this one's keeper begin") {
			t.Errorf("a reader says %v", err)
		}
		if tt.aside {
			if s, err := SetAside(path, time.Unix(0, 0)); err != nil || s.Runs != 1 {
				t.Errorf("set aside: %+v, %v", s, err)
			}
		}
		j, err := Open(path)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := j.Write(Record{Event: engine.Event{At: 2500, Body: &engine.Settled{After: "logon", Name: "maren", Since: 1000, For: 1500, Calm: true}}}); err != nil {
			t.Fatal(err)
		}
		if s, err := j.Settled(5); err != nil || len(s) != 1 || s[0].Name != "maren" || s[0].For != 1500 {
			t.Errorf("settled: %+v, %v", s, err)
		}
		over := end(3000, 1, "job-board", engine.ResultOK)
		over.Event.Body.(*engine.RunEnded).Usage = engine.Usage{Read: 512, Written: 4096}
		write(t, j, over)
		e, ok, err := j.Run(1)
		if err != nil || !ok || e.Gate != "job-board" || e.Usage.Read != 512 || e.Usage.Written != 4096 {
			t.Errorf("the run is %+v, %v, %v", e, ok, err)
		}
		var index string
		if err := j.durable.QueryRow("SELECT sql FROM sqlite_schema WHERE name = 'passed_gate'").Scan(&index); err != nil || !strings.Contains(index, "$.count") {
			t.Errorf("what passed is looked for by %q, %v", index, err)
		}
		j.Close()
	}
}

func TestWriteIsWhole(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	write(t, j, start(2000, 1, "job-board", "1", 1990))
	// The second start has a number that is taken: nothing of the batch stays.
	if _, err := j.Write(start(3000, 2, "job-board", "1", 3000), start(3000, 1, "job-board", "1", 3000)); err == nil {
		t.Fatal("a run was recorded twice")
	}
	entries, err := j.History(Filter{})
	events, err2 := j.Past(0, calendar.MaxInstant)
	if err != nil || err2 != nil || len(entries) != 1 || len(events.Events) != 1 {
		t.Errorf("after a failed batch there are %d entries, %d events, %v, %v", len(entries), len(events.Events), err, err2)
	}
}

func TestFilesThatAreNoJournal(t *testing.T) {
	t.Parallel()
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
	t.Parallel()
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
		if _, err := j.Write(start(calendar.Instant(run), run, "job-board", "1", calendar.Instant(run))); err != nil {
			b.Fatal(err)
		}
	}
}

// TestDamagedPages: a damaged page, whichever it is, is noticed when a keeper begins after one
// that has not ended in good order, and whenever that is asked for; and what can be read is
// taken over.
func TestDamagedPages(t *testing.T) {
	t.Parallel()
	j, path := open(t)
	write(t, j, Record{Event: engine.Event{At: 1000, Body: &engine.Begin{BootID: "a"}}, Delta: engine.Delta{Machine: []byte(`{"boot_id":"a"}`)}})
	const runs = 60
	for i := range int64(runs) {
		at := calendar.Instant(2000 + 10*i)
		write(t, j, start(at, i+1, "job-board", "1", at), end(at+5, i+1, "job-board", engine.ResultOK))
	}
	j.Close()
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	const size = 4096
	damaged := func(page int) (refused error) {
		os.Remove(path + "-wal")
		os.Remove(path + "-shm")
		text := slices.Clone(whole)
		copy(text[page*size:(page+1)*size], bytes.Repeat([]byte{0xa5}, size))
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
		j, err := Open(path)
		if err != nil {
			return err
		}
		defer j.Close()
		return j.Damage(false)
	}
	saved, tried := int64(0), int64(0)
	pages, apart := len(whole)/size, coretest.Size(1, 1, 12)
	for page := 1; page < pages; page += apart {
		tried++
		bad, is := errors.AsType[*FileError](damaged(page))
		if !is || !bad.Unusable {
			t.Errorf("page %d of %d is damaged, and what comes of it is %v", page+1, pages, bad)
			continue
		}
		s, err := SetAside(path, time.Unix(int64(page), 0))
		if err != nil {
			t.Error(err)
		}
		saved += s.Runs
		j, err := Open(path)
		if err != nil {
			t.Fatal(err)
		}
		if err := j.Damage(true); err != nil {
			t.Errorf("the new one: %v", err)
		}
		j.Close()
	}
	if least := tried * runs * 7 / 10; apart == 1 && saved < least || saved == 0 {
		t.Errorf("of %d journals with %d runs %d were saved, want %d", tried, runs, saved, least)
	}
}

// TestAbsences: when the machine slept, and when it was off, as far as that is
// certain.
func TestAbsences(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	const hour = 3600_000
	boot := "a"
	event := func(at calendar.Instant, body engine.Body) {
		machine := []byte(fmt.Sprintf(`{"boot_id":%q}`, boot))
		write(t, j, Record{Event: engine.Event{At: at * hour, Body: body}, Delta: engine.Delta{Machine: machine}})
	}
	begin := func(at calendar.Instant) { event(at, &engine.Begin{BootID: boot}) }
	begin(1)
	event(9, &engine.Slept{For: 7 * hour})
	event(10, &engine.Ended{})
	begin(11) // the keeper alone had ended
	boot = "b"
	begin(20) // the power had failed
	event(30, &engine.Ended{})
	boot = "c"
	begin(40)
	event(41, &engine.Ended{})
	begin(42)
	event(43, &engine.Tick{})
	boot = "d"
	begin(50)
	viewer, err := j.Viewer("maren")
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
