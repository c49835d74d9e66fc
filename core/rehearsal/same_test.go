package rehearsal

import (
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// TestReplayOfTheSame: with the gates unchanged nothing differs, whatever happened on the
// day: a clock that was set, a gate that was given another name.
func TestReplayOfTheSame(t *testing.T) {
	const minute = calendar.Instant(60_000)
	begins := calendar.InstantOf(time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC))
	texts := map[string]string{
		"humidity-log": "opens = [\"every 10m\"]\n", "stock-count": "opens = [\"every 25m since 2026-11-23 08:00\"]\n[rules]\nbusy = \"queue\"\n",
		"glue-warm": "opens = [\"at 09:30, then every 7m for 1h\"]\n", "proof-inbox": "opens = [\"end of humidity-log + 2m\"]\n[again]\ntimes = 1\n",
	}
	define := func(name, text string) engine.Definition {
		g, found := gate.Read(name, name+".toml", []byte("run = [\"/bin/true\"]\n"+text), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: calendar.UTC}})
		if g == nil {
			t.Fatal(found)
		}
		return engine.Definition{Name: name, Version: text, Gate: g}
	}
	gatesNow := func() (out []engine.Definition) {
		for _, name := range []string{"glue-warm", "humidity-log", "proof-inbox", "stock-count"} {
			out = append(out, define(name, texts[name]))
		}
		return out
	}
	listener := define("proof-inbox", strings.ReplaceAll(texts["proof-inbox"], "humidity-log", "humidity"))
	renamed := define("humidity", "was = [\"humidity-log\"]\n"+texts["humidity-log"])
	for _, tt := range []struct {
		name    string
		happens engine.Body // at 10:03
		rename  bool
	}{
		{"nothing", nil, false}, {"the clock is set forward", &engine.ClockSet{By: 61 * minute}, false}, {"the clock is set back", &engine.ClockSet{By: -47 * minute}, false},
		{"a gate has another name", &engine.GatesChanged{Set: []engine.Definition{renamed, listener}, Removed: []string{"humidity-log"}}, true},
	} {
		t.Run(tt.name, func(t *testing.T) {
			e, now := engine.New(), begins
			env := engine.Environment{Scope: gate.User, Account: "maren", Zone: "UTC", Host: "studio"}
			var events []engine.Event
			var actual []engine.Decision
			var first *engine.Engine
			running := map[int64]calendar.Instant{} // until when
			do := func(body engine.Body) {
				ev := engine.Event{At: now, Body: body}
				decisions := e.Handle(ev)
				if first == nil {
					first = e.Clone()
					return
				}
				events, actual = append(events, ev), append(actual, decisions...)
				for _, d := range decisions {
					if d.Starts() {
						running[d.Run] = now + 3*minute
						events = append(events, engine.Event{At: now, Body: &engine.RunStarted{Run: d.Run, PID: 1}})
						e.Handle(events[len(events)-1])
					}
				}
			}
			do(&engine.Begin{Environment: env, BootID: "b", Gates: gatesNow()})
			left := tt.happens
			for now < begins+5*60*minute {
				next, run := now+10*minute, int64(0)
				if at, ok := e.Wake(); ok {
					next = min(next, at)
				}
				for id, until := range running {
					if until < next || until == next && (run == 0 || id < run) {
						next, run = until, id
					}
				}
				if left != nil && next >= begins+123*minute {
					now = begins + 123*minute
					if set, ok := left.(*engine.ClockSet); ok {
						now += set.By
						for id := range running {
							running[id] += set.By
						}
					}
					do(left)
					left = nil
					continue
				}
				now = max(now, next)
				if run != 0 {
					delete(running, run)
					do(&engine.RunEnded{Run: run, EndedAt: now})
					continue
				}
				do(&engine.Tick{})
			}
			gates := gatesNow()
			if tt.rename {
				gates = append(slices.DeleteFunc(gates, func(d engine.Definition) bool { return d.Name == "humidity-log" || d.Name == "proof-inbox" }), renamed, listener)
			}
			p, err := Replay(t.Context(), &Recorded{From: begins, To: now, Zone: calendar.UTC, Host: "studio", Engine: first, Events: events, Actual: actual}, Setup{Environment: env, Gates: gates})
			if err != nil {
				t.Fatal(err)
			}
			diffs, same := Compare(actual, p.Decisions, gates)
			if len(diffs) > 0 || same < 30 {
				t.Errorf("%d are the same, and these are not: %+v", same, diffs)
			}
		})
	}
}
