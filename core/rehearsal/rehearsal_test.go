package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/words"
)

var env = Env{Zone: calendar.UTC, Host: "studio", Gates: []string{"vault-copy", "stock-count", "job-board", "glue-warm"}, Find: func(name string) (*calendar.Zone, error) {
	loc, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("there is no zone %q", name)
	}
	return calendar.NewZone(loc), nil
}}

// gatesOf reads gates, given as name and text in turn.
func gatesOf(t testing.TB, zone *calendar.Zone, files ...string) []engine.Definition {
	t.Helper()
	var out []engine.Definition
	for i := 0; i < len(files); i += 2 {
		g, found := gate.Read(files[i], files[i]+".toml", []byte("run = [\"/bin/true\"]\n"+files[i+1]), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: zone, Host: "studio", Account: "maren"}})
		if g == nil {
			t.Fatal(found)
		}
		out = append(out, engine.Definition{Name: g.Name, Version: "1", Gate: g})
	}
	return out
}

// bindery are the gates of the tests.
func bindery(t *testing.T, zone *calendar.Zone) []engine.Definition {
	return gatesOf(t, zone,
		"glue-warm", "opens = [\"at 06:45, 09:45\"]\n[again]\ntimes = 1\npause = \"10m\"\n",
		"job-board", "opens = [\"first logon of the day\", \"boot\"]\n[as]\ndesktop = true\n[needs]\nwait = \"1h\"\n",
		"stock-count", "opens = [\"every 3h from 08:00 to 17:00\"]\n[rules]\nmissed = \"once\"\n",
		"vault-copy", "opens = [\"at 12:00, 15:00\", \"mains\", \"mount /media/vault\"]\n[needs]\npower = \"mains\"\npaths = [\"/media/vault\"]\n[limits]\nlongest = \"2h\"\n")
}

// play reads a day and plays it.
func play(t *testing.T, text string) (*Day, *Played) {
	t.Helper()
	d, found := Read("day.toml", []byte(text), env)
	if d == nil {
		t.Fatal(found)
	}
	p, err := Play(t.Context(), d, Setup{Environment: engine.Environment{Scope: gate.User, Account: "maren"}, Gates: bindery(t, d.Zone), Pace: engine.Pace{AtOnce: 4, Room: time.Second}})
	if err != nil {
		t.Fatal(err)
	}
	return d, p
}

// tell lists decisions, one a line.
func tell(d *Day, p *Played) string {
	var b strings.Builder
	for i := range p.Decisions {
		k := &p.Decisions[i]
		fmt.Fprintf(&b, "%s %s %s", clockText(k.At, d), k.Gate, k.Kind)
		if k.Result != "" {
			fmt.Fprintf(&b, " %s", k.Result)
		}
		fmt.Fprintf(&b, ": %s\n", words.Reason(k.Reason))
	}
	return b.String()
}

const monday = `from = "2026-11-30"
events = ["06:30 boot", "06:40 logon maren", "08:10 mount /media/vault", "11:50 battery 64%%", "12:20 mains", "13:20 sleep", "14:35 resume", "17:05 logoff maren", "18:30 shutdown"]
expect = [%s]
[takes]
glue-warm = "40s exit 3, 20s"
stock-count = "25m"
vault-copy = "3h"
job-board = "1m"
`

// TestPlay plays a day with nearly everything in it: what comes of it was read by a
// person, line by line.
func TestPlay(t *testing.T) {
	d, p := play(t, fmt.Sprintf(monday, ""))
	want := `06:30 job-board wait: it needs a desktop and waits for that up to 1 h
06:40 job-board start: due: boot; waited 10 min for a desktop
06:40 job-board skip skipped: run 1 has been running for <1 ms
06:41 job-board end ok: exit status 0
06:45 glue-warm start: due: at 06:45, 09:45
06:45:40 glue-warm end failed: exit status 3
06:45:40 glue-warm wait: tried again in 10 min: try 2 of 2
06:55:40 glue-warm retry: try 2 of 2
06:56 glue-warm end ok: exit status 0
08:00 stock-count start: due: every 3h from 08:00 to 17:00
08:10 vault-copy start: due: mount /media/vault
08:25 stock-count end ok: exit status 0
09:45 glue-warm start: due: at 06:45, 09:45
09:45:20 glue-warm end ok: exit status 0
10:10 vault-copy stop: it has taken longer than 2 h
10:10 vault-copy end overran: it has taken longer than 2 h
11:00 stock-count start: due: every 3h from 08:00 to 17:00
11:25 stock-count end ok: exit status 0
12:00 vault-copy skip skipped: it needs mains power
12:20 vault-copy start: due: mains
14:35 stock-count catch-up: started 35 min late: it was missed
14:35 vault-copy stop: it has taken longer than 2 h
14:35 vault-copy end overran: it has taken longer than 2 h
15:00 stock-count end ok: exit status 0
15:00 vault-copy start: due: at 12:00, 15:00
17:00 stock-count start: due: every 3h from 08:00 to 17:00
17:00 vault-copy stop: it has taken longer than 2 h
17:00 vault-copy end overran: it has taken longer than 2 h
17:25 stock-count end ok: exit status 0
`
	got := tell(d, p)
	if got != want {
		t.Errorf("it decides\n%s\nwant\n%s", got, want)
	}
	var states []string
	for _, s := range p.States {
		states = append(states, clockText(s.From, d)+" "+s.Text())
	}
	if got, want := strings.Join(states, "; "), "00:00 off; 06:30 on mains; 06:40 on mains, maren logged on; 11:50 on battery, maren logged on; 12:20 on mains, maren logged on; 13:20 asleep; 14:35 on mains, maren logged on; 17:05 on mains; 18:30 off"; got != want {
		t.Errorf("the machine is %s\nwant %s", got, want)
	}
}

// TestExpect: what holds is no failure; what does not is told with what is so instead.
func TestExpect(t *testing.T) {
	for sentence, want := range map[string]string{
		"vault-copy opens at 12:20": "", "vault-copy opens 3 times": "", "vault-copy opens at least 2 times": "", "vault-copy opens at most 3 times": "",
		"stock-count ends before 18:00": "", "stock-count opens after 07:59": "", "vault-copy skipped at 12:00 because power": "", "vault-copy skipped once": "",
		"glue-warm fails once": "", "vault-copy overruns": "", "glue-warm never opens while asleep": "", "never more than 2 at once": "", "job-board waits because desktop": "",
		"glue-warm succeeds at 06:56": "", "stock-count opens on mon": "", "job-board never opens while maren is logged on": "job-board opened once, at 06:40, when the machine was on mains, maren logged on",
		"vault-copy opens at 13:15":                 "vault-copy opened 3 times, at 08:10, 12:20, 15:00",
		"stock-count ends before 12:00":             "stock-count ended 2 times, at 15:00, 17:25",
		"vault-copy never opens":                    "vault-copy opened 3 times, at 08:10, 12:20, 15:00",
		"never more than 1 at once":                 "2 ran at once at 08:10",
		"vault-copy skipped at 12:00 because maren": "vault-copy was skipped once, at 12:00 (it needs mains power)",
		"job-board opens at least 3 times":          "job-board opened once, at 06:40",
		"glue-warm missed":                          "glue-warm was never missed",
		"stock-count opens at 08:00 on sun":         "",
	} {
		d, p := play(t, fmt.Sprintf(monday, fmt.Sprintf("%q", sentence)))
		got := ""
		if f := p.Check(d); len(f) > 0 {
			got = f[0].Actual
		}
		if sentence == "stock-count opens at 08:00 on sun" { // there is no Sunday in it: it never came
			if got == "" {
				t.Errorf("%q holds", sentence)
			}
			continue
		}
		if got != want {
			t.Errorf("%q\n got %q\nwant %q", sentence, got, want)
		}
	}
	// What happens at 12:00 comes before what is due at 12:00, for the table and for sentences.
	now, then := play(t, "from = \"2026-11-30\"\nevents = [\"08:10 mount /media/vault\", \"12:00 battery 64%\", \"15:00 mains\"]\nexpect = [\"vault-copy skipped at 12:00 because power\", \"vault-copy opens at 15:00\", \"vault-copy never opens while on battery\"]\n")
	if f := then.Check(now); len(f) > 0 {
		t.Errorf("within an instant: %+v\n%s", f, tell(now, then))
	}
	// In a week, a sentence about days is about each of them.
	d, p := play(t, "from = \"2026-11-30\"\nto = \"2026-12-04\"\nevents = [\"mon-wed 07:00 boot\", \"mon-wed 20:00 shutdown\"]\nexpect = [\"stock-count opens at 08:00 on mon-wed\", \"stock-count opens at 08:00 on mon-fri\"]\n")
	f := p.Check(d)
	if len(f) != 1 || !strings.Contains(f[0].Actual, "; not on Thu 3 Dec") {
		t.Errorf("of the week: %+v\n%s", f, tell(d, p))
	}
}

// TestWrongDays: what is wrong in a day file is told with its place and a remedy.
func TestWrongDays(t *testing.T) {
	for text, want := range map[string]string{
		"":                      "does not say when it begins",
		"from = \"tomorrow\"\n": "day.toml:1:9: \"tomorrow\" is no date and time",
		"from = \"2026-11-30\"\nto = \"2026-11-29\"\n":                              "it ends before it begins",
		"from = \"2026-11-30\"\nto = \"2066-11-29\"\n":                              "longer than ten years",
		"from = \"2026-11-30\"\nevent = [\"07:00 boot\"]\n":                         "did you mean \"events\"?",
		"from = \"2026-11-30\"\nevents = \"07:00 boot\"\n":                          "wrong kind",
		"from = \"2026-11-30\"\nevents = [\"boot\"]\n":                              "day.toml:2:12: it does not say when",
		"from = \"2026-11-30\"\nevents = [\"07:00 boot\", \"07:05 bot\"]\n":         "day.toml:2:26: \"bot\" is nothing that can happen here; did you mean \"boot\"?",
		"from = \"2026-11-30\"\nevents = [\"07:00 battery 640%\"]\n":                "\"640%\" is no charge",
		"from = \"2026-11-30\"\nevents = [\"07:00 logon\"]\n":                       "\"logon\" takes NAME",
		"from = \"2026-11-30\"\nevents = [\"someday 07:00 boot\"]\n":                "is no time such as",
		"from = \"2026-11-30\"\nevents = [\"sun 07:00 boot\"]\n":                    "does not happen between",
		"from = \"2026-11-30\"\nevents = [\"07:00 open vault-cpy\"]\n":              "did you mean \"vault-copy\"?",
		"from = \"2026-11-30\"\nevents = [\"07:00 mount vault\"]\n":                 "no whole path",
		"from = \"2026-11-30\"\nzone = \"Europe/Larkspur\"\n":                       "there is no zone",
		"from = \"2026-11-30\"\n[takes]\nvault-copi = \"5m\"\n":                     "there is no gate \"vault-copi\"; did you mean \"vault-copy\"?",
		"from = \"2026-11-30\"\n[takes]\nvault-copy = \"long\"\n":                   "how long it takes",
		"from = \"2026-11-30\"\n[takes]\nvault-copy = \"5m exit 999\"\n":            "no exit status",
		"from = \"2026-11-30\"\nexpect = [\"vault-copy open at 9\"]\n":              "\"9\" is no time of day",
		"from = \"2026-11-30\"\nexpect = [\"vault-copy hums\"]\n":                   "nothing that a gate does",
		"from = \"2026-11-30\"\nexpect = [\"vault-copy opns\"]\n":                   "did you mean \"opens\"?",
		"from = \"2026-11-30\"\nexpect = [\"valt-copy opens\"]\n":                   "did you mean \"vault-copy\"?",
		"from = \"2026-11-30\"\nexpect = [\"never more than many at once\"]\n":      "how many at once",
		"from = \"2026-11-30\"\nexpect = [\"vault-copy opens while it rains\"]\n":   "no state of the machine",
		"from = \"2026-11-30\"\nexpect = [\"vault-copy never opens 3 times\"]\n":    "says never, and how often",
		"from = \"2026-11-30\"\nexpect = [\"vault-copy opens on someday\"]\n":       "are no days",
		"from = \"2026-11-30\"\nexpect = [\"vault-copy opens loudly\"]\n":           "does not belong here",
		"from = \"2026-11-30\"\nexpect = [\"vault-copy never opens on battery\"]\n": "write while on battery",
		"from = \"2026-11-30\"\nexpect = [\"vault-copy skipped because\"]\n":        "says no reason",
		"from = \"2026-11-30\"\nexpect = [\"vault-copy opens at least often\"]\n":   "does not say how often",
	} {
		d, found := Read("day.toml", []byte(text), env)
		if d != nil || !slices.ContainsFunc(found, func(f gate.Finding) bool { return strings.Contains(f.Error()+"; "+f.Remedy, want) }) {
			t.Errorf("%q: %v, want …%s…", text, found, want)
		}
	}
}

// TestCompare: of two lists of starts, those at the same moment are the same, those of
// one opening that are near are moved, and the others are lost or new.
func TestCompare(t *testing.T) {
	list := func(text string) (out []engine.Decision) { // GATE@MINUTE=RESULT
		for i, one := range strings.Fields(text) {
			var minute int64
			name, rest, _ := strings.Cut(one, "@")
			at, result, _ := strings.Cut(rest, "=")
			fmt.Sscan(at, &minute)
			when := calendar.Instant(minute * 60_000)
			out = append(out, engine.Decision{Kind: engine.Start, Gate: name, Opening: "1", Due: when, At: when, Run: int64(i + 1)},
				engine.Decision{Kind: engine.End, Gate: name, Opening: "1", Due: when, At: when + 1000, Run: int64(i + 1), Result: engine.Result(result)})
		}
		return out
	}
	for _, tt := range []struct{ was, is, want string }{
		{"a@1=ok b@2=ok", "b@2=ok a@1=ok", "2 same"},
		{"a@1=ok", "a@1=failed", "0 same, result a 1 1"},
		{"a@1=ok", "", "0 same, lost a 1 0"},
		{"", "a@1=ok", "0 same, new a 0 1"},
		{"a@60=ok a@120=ok", "a@61=ok", "0 same, moved a 60 61, lost a 120 0"},
		{"a@1=ok", "a@900=ok", "0 same, lost a 1 0, new a 0 900"},
		{"a@660=ok a@1020=ok", "a@600=ok a@720=ok a@960=ok", "0 same, moved a 660 600, new a 0 720, moved a 1020 960"},
		{"a@5=ok", "b@5=ok", "0 same, lost a 5 0, new b 0 5"},
	} {
		diffs, same := Compare(list(tt.was), list(tt.is), nil)
		got := fmt.Sprintf("%d same", same)
		for _, d := range diffs {
			got += fmt.Sprintf(", %s %s %d %d", d.What, d.Gate, d.Was/60_000, d.Is/60_000)
		}
		if got != tt.want {
			t.Errorf("%s | %s\n got %s\nwant %s", tt.was, tt.is, got, tt.want)
		}
	}
}

// TestReplay: a rehearsed day, recorded as a journal would, gives the same through the
// same gates, and just the difference through others.
func TestReplay(t *testing.T) {
	d, was := play(t, fmt.Sprintf(monday, ""))
	e := engine.New()
	facts := engine.Facts{Online: true}
	begin := &engine.Begin{Environment: engine.Environment{Scope: gate.User, Account: "maren", Zone: "UTC", Host: "studio"}, BootID: "b", Pace: engine.Pace{AtOnce: 4, Room: time.Second}, Gates: bindery(t, d.Zone), Facts: facts}
	at := func(h, m int) calendar.Instant {
		return d.From.Add(time.Duration(h)*time.Hour + time.Duration(m)*time.Minute)
	}
	e.Handle(engine.Event{At: at(6, 30), Body: begin})
	events := []engine.Event{{At: at(7, 0), Body: &engine.FactsChanged{Facts: facts}}, {At: at(13, 20), Body: &engine.Occurred{Event: phrase.Sleep}},
		{At: at(14, 35), Body: &engine.Occurred{Event: phrase.Resume}}, {At: at(14, 35), Body: &engine.Slept{For: at(14, 35) - at(13, 20)}}}
	for _, run := range was.Runs { // as a keeper records how they have ended
		events = append(events, engine.Event{At: run.End, Body: &engine.RunEnded{Run: run.Run, EndedAt: run.End}})
	}
	slices.SortStableFunc(events, func(a, b engine.Event) int { return int(a.At - b.At) })
	replay := func(gates []engine.Definition, actual []engine.Decision) *Played {
		t.Helper()
		p, err := Replay(t.Context(), &Recorded{From: at(6, 45) - 1, To: at(18, 0), Zone: d.Zone, Host: "studio", Engine: e.Clone(), Events: events, Actual: actual}, Setup{Environment: begin.Environment, Gates: gates})
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	first := replay(bindery(t, d.Zone), was.Decisions)
	again := replay(bindery(t, d.Zone), first.Decisions)
	if diffs, same := Compare(first.Decisions, again.Decisions, nil); len(diffs) > 0 || same < 5 {
		t.Errorf("through the same gates: %d same, %+v", same, diffs)
	}
	later := bindery(t, d.Zone)
	later[2] = gatesOf(t, d.Zone, "stock-count", "opens = [\"every 3h from 09:00 to 17:00\"]\n")[0]
	later[2].Version = "2"
	changed := replay(later, first.Decisions)
	diffs, _ := Compare(first.Decisions, changed.Decisions, later)
	if len(diffs) == 0 || slices.ContainsFunc(diffs, func(d Difference) bool { return d.Gate != "stock-count" }) {
		t.Errorf("a change of one gate changes %+v", diffs)
	}
}

// TestInterrupted: a rehearsal that is too long can be given up.
func TestInterrupted(t *testing.T) {
	d, found := Read("day.toml", []byte("from = \"2026-01-01\"\nto = \"2030-12-31\"\n"), env)
	if d == nil {
		t.Fatal(found)
	}
	ctx, stop := context.WithCancel(t.Context())
	stop()
	if _, err := Play(ctx, d, Setup{Environment: engine.Environment{Scope: gate.User}, Gates: bindery(t, calendar.UTC)}); !errors.Is(err, context.Canceled) {
		t.Errorf("Play = %v", err)
	}
}

// FuzzExpectation: whatever is written is read, or told what is wrong.
func FuzzExpectation(f *testing.F) {
	f.Add("vault-copy opens at 13:15 on mon-fri because power")
	f.Add("never more than 2 at once")
	d := &Day{Zone: calendar.UTC}
	f.Fuzz(func(t *testing.T, text string) {
		x, err := ParseExpectation(text, d, env.Gates)
		if err == nil && x.Text != text {
			t.Errorf("%q is kept as %q", text, x.Text)
		}
	})
}

// BenchmarkYear plays a year of 1,000 gates on a workstation that is switched off at night:
// some eight million decisions. Its floor is a map that is written for each of them.
func BenchmarkYear(b *testing.B) {
	openings := []string{"every 1h", "at %02d:%02d", "every 30m from 08:00 to 17:00", "every 20m on mon-fri", "at %02d:%02d on mon-fri", "logon"}
	var defs []engine.Definition
	for i := range 1000 {
		open := strings.NewReplacer("%02d:%02d", fmt.Sprintf("%02d:%02d", 7+i%11, i%60)).Replace(openings[i%len(openings)])
		g, found := gate.Read(fmt.Sprintf("g%d", i), "g.toml", fmt.Appendf(nil, "run = [\"/bin/true\"]\nopens = [%q]\n", open), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: calendar.UTC}})
		if g == nil {
			b.Fatal(found)
		}
		defs = append(defs, engine.Definition{Name: g.Name, Version: "1", Gate: g})
	}
	d, found := Read("year.toml", []byte(`from = "2026-01-01"
to = "2027-01-01"
zone = "UTC"
events = ["06:30 boot", "06:40 logon maren", "21:00 logoff maren", "21:10 shutdown"]
`), env)
	if d == nil {
		b.Fatal(found)
	}
	var played, floor time.Duration
	for b.Loop() {
		began := time.Now()
		p, err := Play(b.Context(), d, Setup{Environment: engine.Environment{Scope: gate.User, Account: "maren"}, Gates: defs, Most: 20_000})
		if err != nil {
			b.Fatal(err)
		}
		played += time.Since(began)
		b.StopTimer()
		began = time.Now()
		counts := map[string]int{}
		for i := range p.Count {
			counts[defs[i%int64(len(defs))].Name]++
		}
		floor += time.Since(began)
		b.ReportMetric(float64(p.Count), "decisions")
		b.StartTimer()
	}
	b.ReportMetric(float64(played)/float64(floor), "×floor")
}
