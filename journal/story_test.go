package journal

import (
	"fmt"
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
		return Record{Event: tick(at),
			Decisions: []engine.Decision{{Kind: engine.Wait, At: at, Gate: "proof-inbox", Opening: opening, Due: due, For: what}}}
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

// TestRenamed: what is known of a gate is found under its new name alone.
func TestRenamed(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	write(t, j, start(1000, 1, "spool-clean", "1", 1000), end(1500, 1, "spool-clean", engine.ResultOK), skip(2000, "spool-clean", "1", 2000), start(2500, 2, "job-board", "1", 2500))
	r := tick(3000)
	write(t, j, Record{Event: r, Delta: engine.Delta{Renamed: []engine.Renamed{{From: "spool-clean", To: "spool-tidy"}, {From: "spool-tidy", To: "spool-reset"}}}})
	entries, err := j.History(Filter{})
	if err != nil {
		t.Fatal(err)
	}
	count := map[string]int{}
	for _, e := range entries {
		count[e.Gate]++
	}
	if count["spool-reset"] != 2 || count["job-board"] != 1 || len(count) != 2 {
		t.Errorf("the history is of %v", count)
	}
	moments, err := j.Story("spool-reset", 10)
	if err != nil || len(moments) != 3 || moments[1].Decisions[0].Gate != "spool-reset" {
		t.Errorf("the story has %+v, %v", moments, err)
	}
	if moments, err := j.Story("spool-clean", 10); err != nil || len(moments) != 0 {
		t.Errorf("under the old name there is %+v, %v", moments, err)
	}
	good, err := j.LastGood()
	if err != nil || good["spool-reset"] != 1490 || good["spool-clean"] != 0 {
		t.Errorf("the last good runs are %v, %v", good, err)
	}
}
