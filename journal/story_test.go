package journal

import (
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"strings"
	"testing"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// TestStory: the last moments of a gate, newest first, each with all that was
// decided about it; that files had begun to change is no moment of its own.
func TestStory(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	wait := func(at calendar.Instant, opening string, due calendar.Instant, what engine.WaitKind) Record {
		d := engine.Decision{Kind: engine.Wait, At: at, Gate: "proof-inbox", Opening: opening, Due: due, For: what}
		if what == engine.ForQuiet {
			d.Code = engine.CodeQuiet
		}
		return Record{Event: tick(at), Decisions: []engine.Decision{d}}
	}
	over := func(at calendar.Instant, run int64, opening string, due calendar.Instant) Record {
		r := end(at, run, "proof-inbox", engine.ResultOK)
		r.Decisions[0].Opening, r.Decisions[0].Due = opening, due
		return r
	}
	write(t, j,
		wait(1000, "1", 6000, engine.ForQuiet), start(9000, 1, "proof-inbox", "1", 9000), over(9500, 1, "1", 9000),
		wait(10_000, "2", 10_000, engine.ForNeeds), skip(10_500, "proof-inbox", "1", 10_500), start(11_000, 2, "proof-inbox", "2", 10_000),
		start(12_000, 3, "job-board", "1", 12_000), over(13_000, 2, "2", 10_000), wait(14_000, "1", 19_000, engine.ForQuiet))
	tell := func(limit int) string {
		t.Helper()
		moments, err := j.Story("proof-inbox", limit)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, m := range moments {
			line := fmt.Sprintf("%s@%d", m.Opening, m.Due)
			for _, d := range m.Decisions {
				line += " " + string(d.Kind)
			}
			out = append(out, fmt.Sprintf("%s, %d runs", line, len(m.Runs)))
		}
		return strings.Join(out, "; ")
	}
	const want = "2@10000 wait start end, 1 runs; 1@10500 skip, 0 runs; 1@9000 start end, 1 runs"
	if got := tell(10); got != want {
		t.Errorf("story\n got %s\nwant %s", got, want)
	}
	if got := tell(1); got != "2@10000 wait start end, 1 runs" {
		t.Errorf("the last alone: %s", got)
	}
}

// TestVersions: what a gate's file was, newest first, once for each that is another; a
// gate that was removed has an end; and whether a keeper was there.
func TestVersions(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	begin := func(at calendar.Instant, texts map[string]string, gates ...engine.Definition) Record {
		return Record{Event: engine.Event{At: at, Body: &engine.Begin{BootID: "one", Gates: gates}}, Texts: texts}
	}
	change := func(at calendar.Instant, texts map[string]string, removed []string, set ...engine.Definition) Record {
		return Record{Event: engine.Event{At: at, Body: &engine.GatesChanged{Set: set, Removed: removed}}, Texts: texts}
	}
	job := func(version string) engine.Definition { return engine.Definition{Name: "job-board", Version: version} }
	other := engine.Definition{Name: "glue-warm", Version: "g"}
	write(t, j,
		begin(1000, map[string]string{"a": "first", "g": "glue"}, job("a"), other),
		Record{Event: engine.Event{At: 2000, Body: &engine.Ended{}}},
		begin(5000, nil, job("a"), other),
		change(6000, map[string]string{"b": "second"}, nil, job("b")),
		change(7000, nil, []string{"job-board"}),
		change(8000, nil, nil, job("a"), other))
	versions, err := j.Versions("job-board")
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, v := range versions {
		got = append(got, fmt.Sprintf("%d %s", v.At, v.Text))
	}
	if want := "8000 first, 7000 , 6000 second, 1000 first"; strings.Join(got, ", ") != want {
		t.Errorf("versions %q, want %q", strings.Join(got, ", "), want)
	}
	if versions, err = j.Versions("nobody"); err != nil || len(versions) > 0 {
		t.Errorf("of a gate that never was: %v, %v", versions, err)
	}
	for at, want := range map[calendar.Instant]bool{500: false, 1000: true, 1999: true, 2000: false, 4999: false, 5000: true, 9000: true} {
		if kept, err := j.Kept(at); err != nil || kept != want {
			t.Errorf("a keeper at %d: %v, %v, want %v", at, kept, err, want)
		}
	}
}

// TestRenamed: what is known of a gate is found under its present name alone, whoever
// reads, and giving it another name is one row, however much is known.
func TestRenamed(t *testing.T) {
	t.Parallel()
	j, path := open(t)
	at, run := calendar.Instant(1000), int64(0)
	once := func(gate string) { // a run that ends well, a moment that passes
		run++
		passed := skip(at+600, gate, "1", at+600)
		passed.Programs = map[string]Program{gate: {Account: "maren"}}
		write(t, j, start(at, run, gate, "1", at), Record{Event: engine.Event{At: at + 1, Body: &engine.RunStarted{Run: run, PID: 4711}}}, end(at+500, run, gate, engine.ResultOK), passed)
		at += 1000
	}
	rename := func(pairs ...string) {
		t.Helper()
		var before, after int64
		d := engine.Delta{}
		for i := 0; i < len(pairs); i += 2 {
			d.Renamed = append(d.Renamed, engine.Renamed{From: pairs[i], To: pairs[i+1]})
		}
		count := func(to *int64) {
			if err := j.quick.QueryRow("SELECT total_changes()").Scan(to); err != nil {
				t.Fatal(err)
			}
		}
		count(&before)
		write(t, j, Record{Event: tick(at), Delta: d})
		if count(&after); after-before > int64(1+len(pairs)) { // the event, and each name put and changed
			t.Errorf("%v changed %d rows", pairs, after-before)
		}
	}
	// check compares how many runs are known of gates, by each way of asking.
	check := func(what string, want map[string]int) {
		t.Helper()
		viewer, err := j.Viewer("maren")
		if err != nil {
			t.Fatal(err)
		}
		defer viewer.Close()
		for _, r := range []*Journal{j, viewer} {
			all, err := r.History(Filter{OnlyRuns: true})
			if err != nil {
				t.Fatal(err)
			}
			got := map[string]int{}
			for _, e := range all {
				got[e.Gate]++
			}
			if !maps.Equal(got, want) {
				t.Errorf("%s: the history is of %v, want %v", what, got, want)
			}
			stats, statsErr := r.Stats(Filter{})
			some, someErr := r.Stats(Filter{Until: at})
			last, lastErr := r.LastRuns()
			good, goodErr := r.LastGood()
			longest, longestErr := r.Longest()
			costs, costsErr := r.Costs()
			if err := errors.Join(statsErr, someErr, lastErr, goodErr, longestErr, costsErr); err != nil {
				t.Fatal(err)
			}
			if len(stats) != len(want) || len(some) != len(want) || len(last) != len(want) || len(good) != len(want) || len(longest) != len(want) || len(costs) != len(want) {
				t.Errorf("%s: %d, %d, %d, %d, %d, %d gates are known, want %d", what, len(stats), len(some), len(last), len(good), len(longest), len(costs), len(want))
			}
			for i, s := range stats {
				of, err := r.Stats(Filter{Gate: s.Gate})
				if int(s.Runs) != want[s.Gate] || int(s.Skipped) != 4*want[s.Gate] || some[i] != s || err != nil || len(of) != 1 || of[0] != s || costs[s.Gate].Runs != want[s.Gate] {
					t.Errorf("%s: the figures of %s are %+v, %+v and %+v, %v", what, s.Gate, s, some[i], of, err)
				}
			}
			for _, name := range []string{"spool-clean", "spool-tidy", "spool-reset"} {
				list, err := r.History(Filter{Gate: name, OnlyRuns: true})
				moments, storyErr := r.Story(name, 100)
				if err != nil || storyErr != nil || len(list) != want[name] || len(moments) != 3*want[name] || len(list) > 0 && last[name].Run != list[0].Run {
					t.Errorf("%s: %s has %d runs and %d moments, %v, %v; want %d", what, name, len(list), len(moments), err, storyErr, want[name])
				}
				for _, m := range moments {
					if m.Decisions[0].Gate != name {
						t.Errorf("%s: the story of %s is of %s", what, name, m.Decisions[0].Gate)
					}
				}
			}
		}
	}
	once("job-board")
	once("spool-clean")
	once("spool-clean")
	rename("spool-clean", "spool-tidy", "spool-tidy", "spool-reset")
	once("spool-reset")
	check("after two names", map[string]int{"job-board": 1, "spool-reset": 3})
	once("spool-clean") // another gate
	check("with another gate of the former name", map[string]int{"job-board": 1, "spool-reset": 3, "spool-clean": 1})
	j.Close()
	j, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	once("spool-clean")
	rename("spool-clean", "spool-tidy")
	once("spool-tidy")
	once("spool-clean") // a third one
	check("opened anew", map[string]int{"job-board": 1, "spool-reset": 3, "spool-tidy": 3, "spool-clean": 1})
	rename("spool-tidy", "spool-reset") // which was taken away
	once("spool-reset")
	check("in the place of one that is gone", map[string]int{"job-board": 1, "spool-reset": 7, "spool-clean": 1})
	rename("spool-clean", "job-board", "job-board", "spool-clean")
	check("there and back", map[string]int{"spool-reset": 7, "spool-clean": 2})

	other, err := j.Viewer("tobias")
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if n, err := collect(other, "SELECT count(*) FROM names", func(rows *sql.Rows) (n int, err error) { return n, rows.Scan(&n) }); err != nil || n[0] != 0 {
		t.Errorf("who runs nothing sees %v names, %v", n, err)
	}
}
