//go:build linux

package keeper

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/rehearsal"
	"timegate/core/replay"
	"timegate/gates"
	"timegate/home"
	"timegate/journal"
	"timegate/workstation/staged"
	"timegate/workstation/zones"
)

// happening is something that is staged at a time of day, and rehearsed.
type happening struct {
	at   time.Duration // after the beginning
	what string
}

// TestForesight: for days drawn by lot, a keeper of a staged machine with real programs
// starts what the rehearsal of the same day said beforehand, and a replay of what it has
// recorded gives the same once more.
func TestForesight(t *testing.T) {
	t.Parallel()
	days := 2 // more of them where nobody waits: the seeds go on
	if testing.Short() {
		days = 1
	}
	for seed := range days {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			foresee(t, rand.New(rand.NewPCG(uint64(seed), 11)))
		})
	}
}

func foresee(t *testing.T, r *rand.Rand) {
	moments := []string{"at 06:10, 06:40, 07:20", "every 20m", "logon of maren", "mains", "battery", "resume", "unlock + 5m", "end of first", "every 1h from 06:00 to 09:00"}
	rules := []string{"", "[rules]\nmissed = \"once\"\n", "[needs]\npower = \"mains\"\n", "[needs]\npeople = \"maren\"\nwait = \"30m\"\n", "[needs]\npower = \"mains\"\nwait = \"50m\"\n"}
	h := homeWith(t, "first", "run = [\"/bin/true\"]\nopens = [\"every 30m\"]\n")
	for i := range 4 {
		put(t, h, fmt.Sprintf("g%d", i), fmt.Sprintf("run = [\"/bin/true\"]\nopens = [%q]\n%s", moments[r.IntN(len(moments))], rules[r.IntN(len(rules))]))
	}
	verbs := []string{"logon maren", "logoff maren", "unlock maren", "battery 50%", "mains", "sleep", "resume"}
	var plan []happening
	on, asleep, battery := false, false, false
	for at := 6*time.Minute + 13*time.Second; at < 95*time.Minute; at += time.Duration(1+r.IntN(3)) * 5 * time.Minute {
		what := verbs[r.IntN(len(verbs))]
		switch { // what can happen
		case asleep && what != "resume", !asleep && what == "resume", what == "logon maren" && on, (what == "logoff maren" || what == "unlock maren") && !on,
			what == "mains" && !battery, what == "battery 50%" && battery:
			continue
		}
		asleep = what == "sleep" || asleep && what != "resume"
		on = what == "logon maren" || on && what != "logoff maren"
		battery = what == "battery 50%" || battery && what != "mains"
		plan = append(plan, happening{at, what})
	}
	if asleep {
		plan = append(plan, happening{96*time.Minute + 13*time.Second, "resume"})
	}
	const long = 100 * time.Minute
	began := morning.Add(time.Minute) // 06:00
	ws, err := staged.New(staged.Options{At: morning, Zone: calendar.UTC, BootID: "front-desk-1", Rate: 200})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { ws.Close() })
	over := make(chan struct{})
	for _, x := range plan {
		ws.At(began.Add(x.at), func() {
			if err := ws.Stage(strings.Fields(x.what)); err != nil {
				t.Error(x.what, err)
			}
		})
	}
	ws.At(began.Add(long), func() { close(over) })
	k := keep(t, h, ws)
	<-over
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	was := recordedStarts(t, h, began, began.Add(long))
	said := rehearsedStarts(t, h, ws.Host(), plan, began, began.Add(long))
	if a, b := strings.Join(was, "\n"), strings.Join(said, "\n"); a != b {
		t.Errorf("the keeper started\n%s\nand the rehearsal says\n%s\nof %v", a, b, plan)
	}
	replayFully(t, h)
}

// startText is a start to five minutes: a real machine is late by some minutes of a staged
// clock that runs so fast, and nothing happens shortly before the full five minutes.
func startText(d *engine.Decision) string {
	return fmt.Sprintf("%s %s/%s", d.At.Time().Truncate(5*time.Minute).Format("15:04"), d.Gate, d.Opening)
}

// recordedStarts are the starts that a keeper has recorded in a span.
func recordedStarts(t *testing.T, h home.Home, from, to time.Time) []string {
	t.Helper()
	j, err := journal.OpenReader(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	entries, err := j.History(journal.Filter{OnlyRuns: true})
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, e := range entries {
		if at := e.Decided.Time(); at.After(from.Add(30*time.Second)) && at.Before(to.Add(-30*time.Second)) {
			out = append(out, startText(&engine.Decision{At: e.Decided, Gate: e.Gate, Opening: e.Opening}))
		}
	}
	slices.Sort(out)
	return out
}

// rehearsedStarts are those of the rehearsal of the same day.
func rehearsedStarts(t *testing.T, h home.Home, host string, plan []happening, from, to time.Time) []string {
	t.Helper()
	here := gates.Here(h.Scope, calendar.UTC, host)
	files, err := gates.ReadFolder(h, gates.Env(here, calendar.UTC))
	if err != nil {
		t.Fatal(err)
	}
	setup := rehearsal.Setup{Environment: here, Pace: home.DefaultSettings.Pace, Usual: func(string) time.Duration { return 20 * time.Second }}
	var names []string
	for _, f := range files {
		setup.Gates, names = append(setup.Gates, f.Definition()), append(names, f.Name)
	}
	var events []string
	for _, x := range plan {
		events = append(events, fmt.Sprintf("%q", from.Add(x.at).Format("15:04:05")+" "+x.what))
	}
	text := fmt.Sprintf("from = %q\nto = %q\nzone = \"UTC\"\nevents = [%s]\n", morning.Format(time.DateTime), to.Format(time.DateTime), strings.Join(events, ", "))
	d, found := rehearsal.Read("day.toml", []byte(text), rehearsal.Env{Zone: calendar.UTC, Host: host, Find: zones.Find, Gates: names})
	if d == nil {
		t.Fatal(found)
	}
	// A staged machine is on when its keeper begins, whatever happens first.
	p, err := rehearsal.Play(t.Context(), d, setup)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for i := range p.Decisions {
		k := &p.Decisions[i]
		if at := k.At.Time(); k.Starts() && at.After(from.Add(30*time.Second)) && at.Before(to.Add(-30*time.Second)) {
			out = append(out, startText(k))
		}
	}
	slices.Sort(out)
	return out
}

// replayFully plays what was recorded through the gates as they are: nothing is otherwise.
func replayFully(t *testing.T, h home.Home) {
	t.Helper()
	j, err := journal.OpenReader(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	replayed(t, j) // byte for byte, with what the programs did
	past, err := j.Past(0, calendar.MaxInstant)
	if err != nil {
		t.Fatal(err)
	}
	open := func(def engine.Definition, env engine.Environment) (*gate.Gate, error) {
		return gates.Recorded(env, def, calendar.UTC, j.Text)
	}
	var actual []engine.Decision
	var e *engine.Engine
	if e, err = replay.Play(past.State, past.Events[:1], open, func(engine.Event, []engine.Decision) {}); err != nil {
		t.Fatal(err)
	}
	first := past.Events[0].At
	if _, err := replay.Play(past.State, past.Events, open, func(ev engine.Event, decisions []engine.Decision) {
		if ev.At > first {
			actual = append(actual, decisions...)
		}
	}); err != nil {
		t.Fatal(err)
	}
	here := gates.Here(h.Scope, calendar.UTC, e.Host)
	files, err := gates.ReadFolder(h, gates.Env(here, calendar.UTC))
	if err != nil {
		t.Fatal(err)
	}
	setup := rehearsal.Setup{Environment: e.Environment, Pace: e.Pace}
	for _, f := range files {
		setup.Gates = append(setup.Gates, f.Definition())
	}
	last := past.Events[len(past.Events)-1].At
	p, err := rehearsal.Replay(t.Context(), &rehearsal.Recorded{From: first, To: last, Zone: calendar.UTC, Host: e.Host, Engine: e, Events: past.Events[1:], Actual: actual}, setup)
	if err != nil {
		t.Fatal(err)
	}
	if diffs, same := rehearsal.Compare(actual, p.Decisions, setup.Gates); len(diffs) > 0 || same == 0 {
		for _, d := range diffs {
			t.Errorf("the replay differs: %s %s/%s was %s is %s", d.What, d.Gate, d.Opening, d.Was.Time().Format(time.TimeOnly), d.Is.Time().Format(time.TimeOnly))
		}
		t.Errorf("%d starts are the same", same)
	}
}
