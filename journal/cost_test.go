package journal

import (
	"slices"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
)

// TestCosts: what runs of a gate take is the middle of its last ones; what has not ended,
// or never started, does not count.
func TestCosts(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	run, at := int64(0), calendar.Instant(1000)
	ran := func(gate string, took calendar.Instant, u engine.Usage) {
		t.Helper()
		run, at = run+1, at+100_000
		over := end(at+took, run, gate, engine.ResultOK)
		over.Event.Body = &engine.RunEnded{Run: run, EndedAt: at + 1 + took, Usage: u}
		write(t, j, start(at, run, gate, "1", at), Record{Event: engine.Event{At: at + 1, Body: &engine.RunStarted{Run: run, PID: 1}}}, over)
	}
	for i := range 40 { // the first ones are long ago
		ran("vault-copy", 500_000, engine.Usage{UserMS: 9})
		if i > 20 {
			break
		}
	}
	for i := range 15 {
		ran("vault-copy", calendar.Instant(1000*(i+1)), engine.Usage{UserMS: int64(10 * i), SystemMS: 5, MaxRSS: int64(i) << 20, Read: int64(i), Written: int64(2 * i)})
	}
	ran("job-board", 2000, engine.Usage{})
	ran("job-board", 9000, engine.Usage{})
	run, at = run+1, at+100_000
	write(t, j, start(at, run, "glue-warm", "1", at), Record{Event: engine.Event{At: at + 1, Body: &engine.RunStarted{Run: run, PID: 1}}}) // it runs
	run, at = run+1, at+100_000
	write(t, j, start(at, run, "spool-reset", "1", at), end(at+5, run, "spool-reset", engine.ResultFailed)) // it never started
	got, err := j.Costs()
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]Cost{
		"vault-copy": {Runs: 15, Took: 8 * time.Second, Spread: 4 * time.Second, Late: time.Millisecond, Usage: engine.Usage{UserMS: 70, SystemMS: 5, MaxRSS: 7 << 20, Read: 7, Written: 14}},
		"job-board":  {Runs: 2, Took: 9 * time.Second, Spread: 7 * time.Second, Late: time.Millisecond},
	}
	if len(got) != len(want) {
		t.Errorf("costs of %d gates: %+v", len(got), got)
	}
	for name, c := range want {
		if got[name] != c {
			t.Errorf("%s takes %+v, want %+v", name, got[name], c)
		}
	}
}

// TestSessions: who logged on and off, and when the machine was plugged in or out, since a
// time, and nothing else.
func TestSessions(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	for i, o := range []engine.Occurred{{Event: phrase.Logon, Name: "ines"}, {Event: phrase.Logon, Name: "maren"}, {Event: phrase.Unlock, Name: "maren"}, {Event: phrase.Battery}, {Event: phrase.Mains}, {Event: phrase.Logoff, Name: "maren"}} {
		write(t, j, Record{Event: engine.Event{At: calendar.Instant(1000 * (i + 1)), Body: &o}})
	}
	list, err := j.Sessions(1500)
	want := []Session{{2000, phrase.Logon, "maren"}, {4000, phrase.Battery, ""}, {5000, phrase.Mains, ""}, {6000, phrase.Logoff, "maren"}}
	if err != nil || !slices.Equal(list, want) {
		t.Errorf("it tells %+v, %v", list, err)
	}
}

// TestSettled: how the machine fared after boots and logons is told, the newest first,
// and no more than was asked for.
func TestSettled(t *testing.T) {
	t.Parallel()
	j, _ := open(t)
	for i := range 5 {
		write(t, j, Record{Event: tick(calendar.Instant(1000 * i))}, Record{Event: engine.Event{At: calendar.Instant(1000*i + 1), Body: &engine.Settled{After: "boot", Since: calendar.Instant(i), For: 5, Calm: i%2 == 0}}})
	}
	list, err := j.Settled(3)
	if err != nil || len(list) != 3 || list[0].Since != 4 || !list[0].Calm || list[1].Since != 3 || list[1].Calm {
		t.Errorf("it tells %+v, %v", list, err)
	}
}
