package journal

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"timegate/core/calendar"
	"timegate/core/coretest"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// definition reads a gate as the engine is told of it.
func definition(t *testing.T, name, text string) engine.Definition {
	t.Helper()
	text = "run = [\"/opt/larkspur/bin/run\"]\n" + text
	g, found := gate.Read(name, name+".toml", []byte(text), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: calendar.UTC, Account: "maren"}})
	if g == nil {
		t.Fatal(found)
	}
	return engine.Definition{Name: name, Version: text, Gate: g}
}

// TestStateOfRandomDays: whatever happens, what a journal has kept of an engine, delta by
// delta or several in one, is the engine's state; an engine that goes on from it decides
// as the first does.
func TestStateOfRandomDays(t *testing.T) {
	t.Parallel()
	texts := []string{
		"opens = [\"every 5m\", \"boot + 90s, then every 1m for 5m\"]\n[rules]\nbusy = \"queue\"\n[again]\ntimes = 2\npause = \"2m\"\n",
		"opens = [\"change in /srv/proofs quiet 30s\"]\n", "opens = [\"change in /srv/proofs\"]\n[rules]\nbusy = \"queue\"\n",
		"opens = [\"every 3m\"]\n[needs]\npower = \"mains\"\nwait = \"10m\"\n",
		"opens = [\"idle 10m\", \"at 09:00\"]\n", "opens = [\"every 4m after success\", \"end of gate-0\"]\n[needs]\nidle = \"5m\"\n",
	}
	files, renamed := 0, 0
	for seed := range uint64(coretest.Size(200, 20, 5)) {
		r := rand.New(rand.NewPCG(seed, 3))
		j, _ := open(t)
		e, now := engine.New(), calendar.Instant(1_790_000_000_000)
		var defs []engine.Definition
		for i, text := range texts {
			defs = append(defs, definition(t, fmt.Sprintf("gate-%d", i), text))
		}
		runs := map[int64]bool{}
		var kept engine.Delta
		compare := func() *engine.Engine {
			state, ok, err := j.State()
			if err != nil || !ok {
				t.Fatal(ok, err)
			}
			second, err := engine.Restore(state, defs)
			if err != nil {
				t.Fatal(err)
			}
			if got, want := asJSON(t, second.Snapshot()), asJSON(t, e.Snapshot()); got != want {
				t.Fatalf("seed %d: kept is\n%s\nand the engine's state is\n%s", seed, got, want)
			}
			return second
		}
		do := func(ev engine.Event) {
			for _, d := range e.Handle(ev) {
				if d.Starts() {
					runs[d.Run] = true
				} else if d.Kind == engine.End {
					delete(runs, d.Run)
				}
			}
			delta := e.Delta()
			files, renamed = files+len(delta.Files), renamed+len(delta.Renamed)
			if kept.Add(&delta); r.IntN(3) == 0 {
				write(t, j, Record{Event: ev, Delta: kept})
				kept = engine.Delta{}
				compare()
			}
		}
		do(engine.Event{At: now, Body: &engine.Begin{BootID: "boot-a", Gates: defs}})
		for range 300 {
			now += calendar.Instant(r.IntN(120_000))
			do(engine.Event{At: now, Body: randomBody(r, now, runs, &defs)})
		}
		write(t, j, Record{Event: tick(now), Delta: kept})
		second := compare()
		for range 50 { // both go on alike
			now += calendar.Instant(r.IntN(120_000))
			ev := engine.Event{At: now, Body: randomBody(rand.New(rand.NewPCG(seed, uint64(now))), now, runs, nil)}
			if a, b := asJSON(t, e.Handle(ev)), asJSON(t, second.Handle(ev)); a != b {
				t.Fatalf("seed %d: one decides %s, the other %s", seed, a, b)
			}
		}
		j.Close()
	}
	if files == 0 || renamed == 0 {
		t.Errorf("in all these days there were %d changes of files and %d new names", files, renamed)
	}
}

// randomBody is something that happens; gates change only where they are given.
func randomBody(r *rand.Rand, now calendar.Instant, runs map[int64]bool, defs *[]engine.Definition) engine.Body {
	switch k := r.IntN(17); {
	case k < 4 && len(runs) > 0:
		var list []int64
		for run := range runs {
			list = append(list, run)
		}
		slices.Sort(list)
		return &engine.RunEnded{Run: list[r.IntN(len(list))], Exit: r.IntN(2)}
	case k < 7:
		file := fmt.Sprintf("/srv/proofs/%d", r.IntN(6))
		return &engine.Occurred{Event: phrase.Change, Name: phrase.EventSpec{Kind: phrase.Change, Paths: []string{"/srv/proofs"}}.Watch(), Files: []string{file}}
	case k == 7:
		return &engine.PauseAsked{}
	case k == 8:
		return &engine.ResumeAsked{}
	case k == 9:
		return &engine.FactsChanged{Facts: engine.Facts{OnBattery: r.IntN(2) == 0}}
	case k == 10 && defs != nil: // a gate goes on under another name
		i := r.IntN(len(*defs))
		d := (*defs)[i]
		was := d.Name
		d.Name = fmt.Sprintf("%.6s-%d", d.Name, r.IntN(1000)+10)
		g := *d.Gate
		g.Name, g.Was = d.Name, []string{was}
		d.Gate, d.Version = &g, d.Version+" "
		(*defs)[i] = d
		return &engine.GatesChanged{Set: []engine.Definition{d}, Removed: []string{was}}
	case k == 11 && defs != nil: // one is changed, switched off or on
		d := &(*defs)[r.IntN(len(*defs))]
		g := *d.Gate
		g.Enabled = r.IntN(3) > 0
		d.Gate, d.Version = &g, d.Version+" "
		return &engine.GatesChanged{Set: []engine.Definition{*d}}
	case k == 12 && defs != nil: // the machine is in another zone
		return &engine.GatesChanged{Zone: []string{"UTC", "Europe/London", "Asia/Tokyo"}[r.IntN(3)], Set: slices.Clone(*defs)}
	case k == 13:
		return &engine.FactsChanged{Facts: engine.Facts{IdleSince: now - calendar.Instant(r.IntN(900_000))}}
	case k == 14:
		return &engine.FactsChanged{}
	case k == 15:
		return &engine.ClockSet{By: calendar.Instant(r.IntN(3)-1) * 3_600_000}
	}
	return &engine.Tick{}
}

func asJSON(t *testing.T, v any) string {
	t.Helper()
	data, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}
