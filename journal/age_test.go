package journal

import (
	"fmt"
	"slices"
	"testing"
	"timegate/core/calendar"
	"timegate/core/engine"
)

func TestAge(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	gates := map[string][]byte{"job-board": []byte(`{"version":"v1","days":{"/srv/closed":"d1"}}`)}
	write(t, j, Record{Event: engine.Event{At: 1, Body: &engine.GatesChanged{Set: []engine.Definition{{Name: "job-board", Version: "v1"}, {Name: "gone", Version: "v0"}}}},
		Texts: map[string]string{"v9": "nobody's", "v0": "old", "v1": "now", "d1": "days"}, Delta: engine.Delta{Machine: []byte(`{}`), Gates: gates}})
	write(t, j, start(2, 1, "job-board", "1", 2)) // goes on
	for i := range int64(1500) {
		at := calendar.Instant(110 + i)
		begins := start(at, i+2, "job-board", "1", at)
		begins.Delta.Machine = fmt.Appendf(nil, `{"next_run":%d}`, i+3)
		write(t, j, begins, end(at, i+2, "job-board", engine.ResultOK))
		if i%500 == 499 {
			if err := j.Checkpoint(); err != nil {
				t.Fatal(err)
			}
		}
	}
	// Since the checkpoint from which is replayed, the gate was changed, and one came back.
	gates["job-board"] = []byte(`{"version":"v2","days":{"/srv/closed":"d2"}}`)
	write(t, j, Record{Event: engine.Event{At: 1610, Body: &engine.GatesChanged{Set: []engine.Definition{{Name: "job-board", Version: "v2"}, {Name: "back", Version: "v0"}}}},
		Texts: map[string]string{"v2": "new", "d2": "more days", "v0": "old"}, Delta: engine.Delta{Machine: []byte(`{}`), Gates: gates}})
	steps := 0
	for more := true; more; steps++ {
		var err error
		if more, err = j.Age(1200, 0); err != nil {
			t.Fatal(err)
		}
	}
	past, err := j.Past(0, calendar.MaxInstant)
	if err != nil || len(past.Events) != 1001 || past.Events[0].At != 1110 || past.State.Gates["job-board"].Version != "v1" || steps < 3 {
		t.Errorf("after ageing in %d steps there are %d events, %v", steps, len(past.Events), err)
	}
	runs, err := j.History(Filter{})
	if err != nil || len(runs) != 501 || runs[len(runs)-1].Run != 1 {
		t.Errorf("%d runs, the oldest %+v, %v", len(runs), runs[len(runs)-1], err)
	}
	for version, want := range map[string]bool{"v9": false, "v0": true, "v1": true, "d1": true, "v2": true, "d2": true} {
		if _, err := j.Text(version); (err == nil) != want {
			t.Errorf("the text %s is there: %v, want %v", version, err == nil, want)
		}
	}
	for more := true; more; {
		if more, err = j.Age(0, 1); err != nil { // nothing is too old, but all too large
			t.Fatal(err)
		}
	}
	if last, err := j.Write(Record{Event: tick(5000)}); err != nil || last != 3004 {
		t.Errorf("the next event has the number %d, %v", last, err)
	}
	if s, ok, err := j.State(); !ok || err != nil || len(s.Gates) != 1 {
		t.Errorf("the state after ageing: %+v, %v", s, err)
	}
}

// TestClockAhead: a clock that was a year ahead for a while changes neither what is found of a
// time nor what is kept of it: the order of what was recorded is that of its numbers.
func TestClockAhead(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	const hour, year = 3600_000, 365 * 24 * 3600_000
	runs := func() (list []int64) {
		entries, err := j.History(Filter{OnlyRuns: true})
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			list = append(list, e.Run)
		}
		return list
	}
	for i, at := range []calendar.Instant{11 * hour, 12 * hour, year, year + hour, 13 * hour, 14 * hour} {
		begins := start(at, int64(i+1), "job-board", "1", at)
		begins.Delta.Machine = fmt.Appendf(nil, `{"next_run":%d}`, i+2)
		write(t, j, begins, end(at, int64(i+1), "job-board", engine.ResultOK))
		wants, err := j.WantsCheckpoint(at-90*60_000, 1000)
		if err != nil || wants != (i != 1 && i != 3 && i != 5) { // the first, after an hour and a half, and where the last is later than now
			t.Errorf("after event %d a checkpoint is wanted: %v, %v", 2*(i+1), wants, err)
		}
		if wants {
			if err := j.Checkpoint(); err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, tt := range []struct {
		from, to calendar.Instant
		after    int64
		events   int
	}{
		{0, calendar.MaxInstant, 0, 12},
		{0, 13 * hour, 0, 10}, // the year's among them
		{12 * hour, 15 * hour, 2, 10},
		{13 * hour, 14 * hour, 10, 2},
		{11 * hour, 11 * hour, 2, 0},
	} {
		p, err := j.Past(tt.from, tt.to)
		if err != nil || p.After != tt.after || len(p.Events) != tt.events {
			t.Errorf("from %d to %d: %d events after %d, %v; want %d after %d", tt.from, tt.to, len(p.Events), p.After, err, tt.events, tt.after)
		}
	}
	for i, want := range [][]int64{{6, 5, 4, 3, 2}, {6}} {
		before := calendar.Instant(13+i) * hour
		for more := true; more; {
			var err error
			if more, err = j.Age(before, 0); err != nil {
				t.Fatal(err)
			}
		}
		if got := runs(); !slices.Equal(got, want) {
			t.Errorf("aged to %d there are %v, want %v", before, got, want)
		}
	}
}
