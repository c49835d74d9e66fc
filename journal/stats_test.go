package journal

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// TestStats: over all time and over a part of it the figures are those that a look at each
// entry gives, and a history of some results has just those.
func TestStats(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	r := rand.New(rand.NewPCG(3, 3))
	results := []engine.Result{engine.ResultOK, engine.ResultOK, engine.ResultFailed, engine.ResultStopped, engine.ResultOverran}
	at := calendar.Instant(1000)
	for run := int64(1); run <= 120; run++ {
		at += 1000
		gate := fmt.Sprintf("gate-%d", r.IntN(4))
		if r.IntN(5) == 0 {
			s := skip(at, gate, "1", at)
			s.Decisions[0].Count = int64(r.IntN(3))
			if r.IntN(2) == 0 {
				s.Decisions[0].Result = engine.ResultMissed
			}
			write(t, j, s)
		}
		write(t, j, start(at, run, gate, "1", at), Record{Event: engine.Event{At: at + 1, Body: &engine.RunStarted{Run: run, PID: 1}}})
		if r.IntN(10) > 0 { // else it still runs
			write(t, j, end(at+20+calendar.Instant(r.IntN(900)), run, gate, results[r.IntN(len(results))]))
		}
	}
	for _, f := range []Filter{{}, {Gate: "gate-2"}, {Since: 40_000}, {Since: 40_000, Until: 80_000, Gate: "gate-1"}, {Until: 90_000}, {Gate: "nothing"},
		{Results: []engine.Result{engine.ResultFailed, engine.ResultLost}}, {Results: []engine.Result{engine.ResultFailed}, Since: 40_000}} {
		want := map[string]Stats{}
		all := f
		all.Results = nil
		entries, err := j.History(all)
		if err != nil {
			t.Fatal(err)
		}
		bad := func(r engine.Result) bool {
			return len(f.Results) == 0 && r != engine.ResultOK || slices.Contains(f.Results, r)
		}
		for _, e := range entries {
			s := want[e.Gate]
			switch s.Gate = e.Gate; {
			case e.Run == 0 && e.Result == engine.ResultMissed:
				s.Missed += max(e.Count, 1)
			case e.Run == 0:
				s.Skipped += max(e.Count, 1)
			case e.Ended != 0:
				s.Runs++
				s.Total += e.Ended.Sub(e.Started)
				s.Longest = max(s.Longest, e.Ended.Sub(e.Started))
				if bad(e.Result) {
					s.Bad++
				}
			}
			want[e.Gate] = s
		}
		got, err := j.Stats(f)
		if err != nil || len(got) != len(want) {
			t.Errorf("%+v: %d gates, want %d, %v", f, len(got), len(want), err)
		}
		for _, s := range got {
			if s != want[s.Gate] {
				t.Errorf("%+v: %+v, want %+v", f, s, want[s.Gate])
			}
		}
	}
	for _, of := range [][]engine.Result{{engine.ResultFailed}, {engine.ResultMissed}, {engine.ResultSkipped, engine.ResultOverran}, {"no'thing"}} {
		f := Filter{Results: of, Since: 20_000}
		got, err := j.History(f)
		all, allErr := j.History(Filter{Since: 20_000})
		if err != nil || allErr != nil {
			t.Fatal(err, allErr)
		}
		var is, want []string
		for _, e := range got {
			is = append(is, fmt.Sprint(e.Run, e.Decided))
		}
		for _, e := range all {
			if strings.Contains(fmt.Sprint(of), string(e.Result)) {
				want = append(want, fmt.Sprint(e.Run, e.Decided))
			}
		}
		if fmt.Sprint(is) != fmt.Sprint(want) {
			t.Errorf("%v: %v, want %v", of, is, want)
		}
	}
}

// TestUnusual: what stands out is judged by how far apart the runs usually are.
func TestUnusual(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		c    Cost
		took time.Duration
		want string
	}{
		{Cost{Runs: 15, Took: 10 * time.Second, Spread: time.Second}, 14 * time.Second, ""},
		{Cost{Runs: 15, Took: 10 * time.Second, Spread: time.Second}, 16 * time.Second, "long"},
		{Cost{Runs: 15, Took: 10 * time.Second, Spread: time.Second}, 4 * time.Second, "short"},
		{Cost{Runs: 15, Took: 10 * time.Second, Spread: 9 * time.Second}, 50 * time.Second, ""},
		{Cost{Runs: 15, Took: 10 * time.Second, Spread: 9 * time.Second}, time.Millisecond, ""},
		{Cost{Runs: 15, Took: 4 * time.Millisecond}, 900 * time.Millisecond, ""},
		{Cost{Runs: 15, Took: 4 * time.Millisecond}, 2 * time.Second, "long"},
		{Cost{Runs: 4, Took: time.Second}, time.Hour, ""},
	} {
		if got := tt.c.Unusual(tt.took); got != tt.want {
			t.Errorf("%v beside %+v stands out as %q, want %q", tt.took, tt.c, got, tt.want)
		}
	}
}
