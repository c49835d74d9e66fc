package replay_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/coretest"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/replay"
)

// TestReplay: for random gates, days and restarts, in several zones, what was
// recorded gives the same decisions as the keeper's engine has made, and the
// same state, byte for byte: from the beginning, and from any point at which
// the state was kept.
func TestReplay(t *testing.T) {
	sets := coretest.Size(2000, 250, 80)
	counts := map[engine.Code]int{}
	for seed := range sets {
		d := newDay(t, uint64(seed))
		d.play(90)
		d.check(0)
		d.check(d.r.IntN(len(d.kept) + 1))
		for _, k := range d.kept {
			for _, x := range k.decisions {
				counts[x.Code]++
			}
		}
		if t.Failed() {
			t.Fatalf("seed %d", seed)
		}
	}
	// A test that never comes to a rule does not test it.
	for _, code := range []engine.Code{engine.CodeDue, engine.CodeRepeat, engine.CodeTry, engine.CodeCatchUp, engine.CodeAfter, engine.CodeNeeds, engine.CodeBusy,
		engine.CodeReplaces, engine.CodeTryIn, engine.CodeDelay, engine.CodeQuiet, engine.CodeTurn, engine.CodePressure, engine.CodeUnmet, engine.CodeNeverCame,
		engine.CodeOvertaken, engine.CodeCameAgain, engine.CodeCancelled, engine.CodePaused, engine.CodeNoKeeper, engine.CodeForward, engine.CodeAsleep, engine.CodeWentDown,
		engine.CodeGrace, engine.CodeLongest, engine.CodeReplaced, engine.CodeStopped, engine.CodeNeedLost, engine.CodeExit, engine.CodeSignal, engine.CodeNotStarted,
		engine.CodeUnsafe, engine.CodeUnseen, engine.CodeMachineWaited} {
		if counts[code] == 0 && sets >= 250 {
			t.Errorf("nothing was ever decided for the reason %q", code)
		}
	}
}

// kept is what a journal keeps of an event: its JSON, and the state after it.
type kept struct {
	at        calendar.Instant
	kind      engine.Kind
	body      []byte
	decisions []engine.Decision
	state     []byte
}

// day plays a random day.
type day struct {
	t      *testing.T
	r      *rand.Rand
	clock  *rand.Rand // how the wall clock goes
	engine *engine.Engine
	rec    replay.Recorder
	now    calendar.Instant
	env    engine.Environment
	boot   string
	uptime int64
	facts  engine.Facts
	pace   engine.Pace
	gates  map[string]string // text by name
	ever   map[string]string // text by version
	alive  map[int64]bool
	kept   []kept
}

var dayZones = []string{"UTC", "Europe/London", "America/New_York", "Asia/Kolkata", "Australia/Lord_Howe", "Pacific/Apia"}

func zone(name string) *calendar.Zone {
	loc, err := time.LoadLocation(name)
	if err != nil {
		panic(err)
	}
	return calendar.NewZone(loc)
}

var zones = map[string]*calendar.Zone{}

func open(texts map[string]string) replay.Open {
	return func(def engine.Definition, env engine.Environment) (*gate.Gate, error) {
		if zones[env.Zone] == nil {
			zones[env.Zone] = zone(env.Zone)
		}
		text, ok := texts[def.Version]
		if !ok {
			return nil, errors.New("no text of version " + def.Version)
		}
		g, found := gate.Read(def.Name, def.Name+".toml", []byte(text), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: zones[env.Zone], Host: env.Host}})
		if g == nil {
			return nil, found
		}
		return g, nil
	}
}

func newDay(t *testing.T, seed uint64) *day {
	d := &day{t: t, r: rand.New(rand.NewPCG(seed, 7)), clock: rand.New(rand.NewPCG(seed, 9)), engine: engine.New(), boot: "a", uptime: 60_000, gates: map[string]string{}, ever: map[string]string{}, alive: map[int64]bool{}}
	d.env = engine.Environment{Zone: pick(d.r, dayZones...), Scope: gate.User, Host: "front-desk"}
	// Around clock changes, and on other days.
	dates := []string{"2026-11-23T08:00:00Z", "2027-03-28T00:30:00Z", "2026-11-01T05:30:00Z", "2027-04-03T14:00:00Z"}
	at, err := time.Parse(time.RFC3339, pick(d.r, dates...))
	if err != nil {
		t.Fatal(err)
	}
	d.now = calendar.InstantOf(at)
	if d.r.IntN(4) == 0 {
		d.pace = engine.Pace{AtOnce: 1, Room: time.Minute}
	}
	for i := range 2 + d.r.IntN(4) {
		d.write(fmt.Sprintf("gate-%d", i))
	}
	return d
}

func pick[T any](r *rand.Rand, list ...T) T { return list[r.IntN(len(list))] }

// write writes a random gate.
func (d *day) write(name string) {
	r := d.r
	minutes := 5 * (1 + r.IntN(6))
	opens := []string{
		fmt.Sprintf("every %dm", pick(r, 5, 10, 20, 30, 60)), fmt.Sprintf("at 0%d:%02d, then every 7m for 1h", r.IntN(10), r.IntN(60)),
		fmt.Sprintf("boot + %ds, then every 1m for %dm", 1+r.IntN(90), minutes), "logon", "logon of maren + 2m", "first unlock of the day", "logoff", "idle 10m", "active",
		"change in /srv/proofs quiet 30s", "change in /srv/proofs", "signal proofs, 3 times", "signal proofs + 5m", "end of gate-0", "failure of gate-1", "start of gate-2 + 10s",
		"sleep", "sleep + 2s", "resume", "shutdown", "mains", "battery", "every 2h after success", fmt.Sprintf("every 90m since 2026-11-01 0%d:15", r.IntN(9)),
		"every 20m from 22:00 to 02:00", "at 01:30, 02:30", `line "glue" in /var/log/press`, "device label*",
	}
	var list []string
	for range 1 + r.IntN(3) {
		if o := pick(r, opens...); !strings.Contains(o, " of "+name) { // no circles of one
			list = append(list, fmt.Sprintf("%q", o))
		}
	}
	text := fmt.Sprintf("run = [\"/opt/larkspur/bin/%s\"]\nopens = [%s]\nenabled = %t\n[rules]\nbusy = %q\nmissed = %q\nspread = %q\n[limits]\nlongest = %q\ngrace = \"20s\"\n[again]\ntimes = %d\npause = \"2m\"\n[needs]\n",
		name, strings.Join(list, ", "), r.IntN(8) > 0, pick(r, "skip", "queue", "replace", "beside"), pick(r, "skip", "once"), pick(r, "0s", "4m"), pick(r, "3m", "25m"), r.IntN(3))
	needs := ""
	for _, need := range []string{"power = \"mains or 40%\"", "people = \"someone\"", "online = true", "idle = \"5m\"", "paths = [\"/media/vault\"]"} {
		if r.IntN(6) == 0 {
			needs += need + "\n"
		}
	}
	if needs != "" {
		needs += fmt.Sprintf("wait = %q\nif_lost = %q\n", pick(r, "0s", "20m"), pick(r, "stop", "carry on"))
	}
	text += needs + fmt.Sprintf("[as]\ndesktop = %t\n", r.IntN(8) == 0)
	d.gates[name] = text
	d.ever[text] = text
}

func (d *day) definitions(names []string) []engine.Definition {
	var out []engine.Definition
	for _, name := range names {
		def := engine.Definition{Name: name, Version: d.gates[name]}
		g, err := open(d.ever)(def, d.env)
		if err != nil {
			d.t.Fatalf("%v in\n%s", err, d.gates[name])
		}
		def.Gate = g
		out = append(out, def)
	}
	return out
}

// send hands an event to the engine, and what is to be kept to the journal.
func (d *day) send(body engine.Body) {
	ev := engine.Event{At: d.now, Body: body}
	switch body.(type) {
	case *engine.Begin, *engine.ClockSet:
	default:
		if d.clock.IntN(8) == 0 { // it goes back by less than would be called set
			ev.At -= calendar.Instant(d.clock.IntN(1500))
		}
	}
	decisions := d.engine.Handle(ev)
	for _, x := range decisions {
		switch {
		case x.Starts():
			d.alive[x.Run] = true
		case x.Kind == engine.End, x.Kind == engine.Refuse:
			delete(d.alive, x.Run)
		}
	}
	d.keep(d.rec.Take(d.engine, ev, decisions))
}

func (d *day) keep(list []replay.Recorded) {
	for _, r := range list {
		d.kept = append(d.kept, kept{at: r.Event.At, kind: r.Event.Kind(), body: asJSON(r.Event.Body), decisions: r.Decisions})
	}
	if n := len(d.kept); len(list) > 0 {
		d.kept[n-1].state = asJSON(d.engine.Snapshot())
	}
}

func asJSON(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return b
}

func (d *day) play(events int) {
	d.begin()
	for range events {
		if at, ok := d.engine.Wake(); ok && d.r.IntN(2) > 0 && at < d.now.Add(12*time.Hour) {
			late := calendar.Instant(d.r.IntN(3) * d.r.IntN(3000))
			if d.r.IntN(12) == 0 {
				late = calendar.Instant(d.r.IntN(9_000_000)) // slept through
			}
			d.pass(max(at, d.now) + late)
			d.send(&engine.Tick{})
			continue
		}
		d.pass(d.now + calendar.Instant(d.r.IntN(200_000)))
		d.something()
	}
	d.keep(d.rec.Flush())
}

// pass lets time pass.
func (d *day) pass(to calendar.Instant) {
	d.uptime += int64(to - d.now)
	d.now = to
}

// begin lets a keeper begin, or the next one.
func (d *day) begin() {
	b := &engine.Begin{Environment: d.env, BootID: d.boot, Uptime: d.uptime, Pace: d.pace, Facts: d.facts.Clone()}
	b.Gates = d.definitions(slices.Sorted(maps.Keys(d.gates)))
	for _, r := range d.engine.AliveRuns() {
		if _, here := d.gates[r.Gate]; !here && !slices.ContainsFunc(b.Gone, func(x engine.Definition) bool { return x.Name == r.Gate }) {
			g, err := open(d.ever)(engine.Definition{Name: r.Gate, Version: r.Version}, d.env)
			if err != nil {
				d.t.Fatal(err)
			}
			b.Gone = append(b.Gone, engine.Definition{Name: r.Gate, Version: r.Version, Gate: g})
		}
		if d.r.IntN(3) == 0 || strings.HasSuffix(d.boot, "!") {
			b.Lost = append(b.Lost, r.ID)
		}
	}
	d.boot = strings.TrimSuffix(d.boot, "!")
	b.BootID = d.boot
	d.send(b)
}

// restart ends the keeper and lets the next one begin from what was kept.
func (d *day) restart() {
	d.keep(d.rec.Flush())
	var s engine.State
	if err := json.Unmarshal(asJSON(d.engine.Snapshot()), &s); err != nil {
		d.t.Fatal(err)
	}
	e, err := engine.Restore(s, nil)
	if err != nil {
		d.t.Fatal(err)
	}
	d.engine = e
	d.pass(d.now + calendar.Instant(d.r.IntN(3)*d.r.IntN(4_000_000)))
	switch d.r.IntN(4) {
	case 0:
		d.boot, d.uptime = d.boot+"+!", int64(d.r.IntN(100_000)) // the runs are gone with it
	case 1:
		d.now += calendar.Instant(d.r.IntN(7_200_000) - 3_600_000) // the clock was set meanwhile
	}
	d.begin()
}

func (d *day) something() {
	r := d.r
	name := fmt.Sprintf("gate-%d", r.IntN(5))
	runs := slices.Sorted(maps.Keys(d.alive))
	switch k := r.IntN(34); {
	case k < 9 && len(runs) > 0:
		d.run(runs[r.IntN(len(runs))])
	case k < 12:
		d.change()
	case k == 12:
		d.send(&engine.OpenAsked{Gate: name})
	case k == 13:
		d.send(&engine.StopAsked{Gate: name})
	case k == 14:
		d.send(&engine.PauseAsked{Until: pick(r, 0, d.now+600_000)})
	case k == 15:
		d.send(&engine.ResumeAsked{})
	case k == 16:
		d.boot += "+"
		d.send(&engine.Booted{BootID: d.boot, Facts: d.facts.Clone()})
	case k < 19:
		d.restart()
	case k == 19:
		by := calendar.Instant(r.IntN(4)*r.IntN(3_000_000) - r.IntN(2)*3_600_000)
		d.now += by
		d.send(&engine.ClockSet{By: by})
	case k == 20:
		d.pace = engine.Pace{AtOnce: r.IntN(3), Room: time.Second, Calm: pick(r, 0, 50), Longest: time.Minute}
		d.send(&engine.PaceSet{Pace: d.pace})
	case k < 23:
		d.send(&engine.SignalSent{Name: "proofs"})
	case k == 23:
		d.edit(name)
	case k == 24:
		d.env.Zone = pick(r, dayZones...)
		d.send(&engine.GatesChanged{Zone: d.env.Zone, Set: d.definitions(slices.Sorted(maps.Keys(d.gates)))})
	case k < 28:
		d.learn()
		d.send(&engine.FactsChanged{Facts: d.facts.Clone()})
	default:
		d.occur()
	}
}

// run lets something become of a run.
func (d *day) run(id int64) {
	switch d.r.IntN(8) {
	case 0:
		d.send(&engine.RunStarted{Run: id, PID: 77})
	case 1:
		d.send(&engine.StartFailed{Run: id, Detail: "not found"})
	case 2:
		d.send(&engine.StartUnsafe{Run: id, Hazard: engine.Hazard{Code: "path-hazard", Message: "others can write it"}})
	case 3:
		d.send(&engine.RunLost{Run: id, Why: engine.LostStatus})
	default:
		d.send(&engine.RunEnded{Run: id, EndedAt: d.now - 5, Exit: d.r.IntN(2), Signal: pick(d.r, "", "", "TERM")})
	}
}

// change lets files change, some of them again and again.
func (d *day) change() {
	for range 1 + d.r.IntN(6) {
		var files []string
		for range 1 + d.r.IntN(4) {
			files = append(files, fmt.Sprintf("/srv/proofs/%d.pdf", d.r.IntN(6)))
		}
		d.send(&engine.Occurred{Event: phrase.Change, Name: pick(d.r, "change in /srv/proofs", "change in /srv/proofs", "change in /srv/paper"), Count: int64(len(files)), Files: files})
		d.pass(d.now + calendar.Instant(d.r.IntN(20_000)))
	}
}

func (d *day) edit(name string) {
	if d.r.IntN(4) == 0 && d.gates[name] != "" && len(d.gates) > 1 {
		delete(d.gates, name)
		d.send(&engine.GatesChanged{Removed: []string{name}})
		return
	}
	d.write(name)
	d.send(&engine.GatesChanged{Set: d.definitions([]string{name})})
}

func (d *day) learn() {
	r, f := d.r, &d.facts
	f.OnBattery, f.Charge, f.Online, f.Pressure = r.IntN(2) == 0, r.IntN(100), r.IntN(3) > 0, r.IntN(100)
	f.IdleSince = pick(r, 0, d.now-calendar.Instant(r.IntN(900_000)))
	f.Desktops, f.Paths = nil, nil
	if r.IntN(2) == 0 {
		f.Desktops, f.Paths = []string{""}, []string{"/media/vault"}
	}
}

func (d *day) occur() {
	r := d.r
	b := &engine.Occurred{Event: pick(r, phrase.Logon, phrase.Logon, phrase.Logoff, phrase.Lock, phrase.Unlock, phrase.Sleep, phrase.Resume, phrase.Shutdown, phrase.Mains, phrase.Battery, phrase.Line, phrase.Device)}
	switch b.Event {
	case phrase.Logon, phrase.Logoff, phrase.Lock, phrase.Unlock:
		b.Name = pick(r, "maren", "tobias")
		d.facts.People = slices.DeleteFunc(slices.Clone(d.facts.People), func(p engine.Person) bool { return p.Account == b.Name })
		if b.Event == phrase.Logon {
			d.facts.People = append(d.facts.People, engine.Person{Account: b.Name, Since: d.now})
		}
	case phrase.Sleep, phrase.Shutdown:
		b.Holds = r.IntN(3) > 0
	case phrase.Line:
		b.Name, b.Text, b.Count = `line "glue" in /var/log/press`, "glue low", int64(1+r.IntN(3))
	case phrase.Device:
		b.Name, b.Subject = "device label*", "label-printer"
	}
	f := d.facts.Clone()
	b.Facts = &f
	d.send(b)
}

// check plays what was kept, from a point on, and compares.
func (d *day) check(from int) {
	d.t.Helper()
	var s engine.State
	for from > 0 && d.kept[from-1].state == nil {
		from--
	}
	if from > 0 {
		if err := json.Unmarshal(d.kept[from-1].state, &s); err != nil {
			d.t.Fatal(err)
		}
	}
	var events []engine.Event
	var want strings.Builder
	for _, k := range d.kept[from:] {
		ev, err := engine.DecodeEvent(k.at, k.kind, k.body)
		if err != nil {
			d.t.Fatal(err)
		}
		events = append(events, ev)
		fmt.Fprintf(&want, "%s %s\n", k.kind, asJSON(k.decisions))
	}
	var got strings.Builder
	e, err := replay.Play(s, events, open(d.ever), func(ev engine.Event, decisions []engine.Decision) {
		fmt.Fprintf(&got, "%s %s\n", ev.Kind(), asJSON(decisions))
	})
	if err != nil {
		d.t.Fatal(err)
	}
	if got.String() != want.String() {
		w, g := strings.Split(want.String(), "\n"), strings.Split(got.String(), "\n")
		for i := range w {
			if w[i] != g[i] {
				d.t.Errorf("from event %d on, event %d differs:\nwas %s\nis  %s\nbody %s", from, i, w[i], g[i], d.kept[from+i].body)
				return
			}
		}
	}
	if state := asJSON(e.Snapshot()); string(state) != string(asJSON(d.engine.Snapshot())) {
		d.t.Errorf("from event %d on, the replay ends with the state\n%s\nand the keeper with\n%s", from, state, asJSON(d.engine.Snapshot()))
	}
}
