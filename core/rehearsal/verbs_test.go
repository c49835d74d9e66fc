package rehearsal

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
	"timegate/core/phrase"
)

// playThrough plays a day of events through gates, given as name and text in turn.
func playThrough(t *testing.T, events string, files ...string) (*Day, *Played) {
	t.Helper()
	names := []string{}
	for i := 0; i < len(files); i += 2 {
		names = append(names, files[i])
	}
	e := env
	e.Gates = names
	d, found := Read("day.toml", []byte("from = \"2026-11-30 06:00\"\nto = \"2026-11-30 22:00\"\nevents = ["+events+"]\n"), e)
	if d == nil {
		t.Fatal(found)
	}
	p, err := Play(t.Context(), d, Setup{Environment: engine.Environment{Scope: gate.User, Account: "maren"}, Gates: gatesOf(t, d.Zone, files...), Usual: func(string) time.Duration { return time.Minute }})
	if err != nil {
		t.Fatal(err)
	}
	return d, p
}

// starts lists when a gate was started.
func starts(d *Day, p *Played, name string) string {
	var out []string
	for i := range p.Decisions {
		if k := &p.Decisions[i]; k.Gate == name && k.Starts() {
			out = append(out, clockText(k.At, d))
		}
	}
	return strings.Join(out, " ")
}

// TestVerbs lets everything happen that can: each opens what waits for it, and nothing
// that does not.
func TestVerbs(t *testing.T) {
	for _, tt := range []struct{ events, opens, rest, want string }{
		{`"07:00 boot"`, "boot", "", "07:00"},
		{`"07:00 boot", "09:00 boot"`, "boot", "", "07:00 09:00"}, // it was reset
		{`"08:00 logon maren", "09:00 logon ines"`, "logon of maren", "", "08:00"},
		{`"08:00 logon maren", "09:00 logon ines"`, "logon", "", "08:00"}, // one's own
		{`"08:00 logon maren", "17:00 logoff maren"`, "logoff of maren", "", "17:00"},
		{`"08:00 logon maren", "09:00 lock", "09:30 unlock"`, "unlock", "", "09:30"},
		{`"08:00 logon maren", "09:00 lock", "09:30 unlock"`, "lock", "", "09:00"},
		{`"10:00 sleep", "11:00 resume"`, "resume", "", "11:00"},
		{`"10:00 sleep", "11:00 resume"`, "sleep", "", "10:00"},
		{`"10:00 shutdown"`, "shutdown", "", "10:00"},
		{`"10:00 battery 40%", "11:00 mains"`, "battery", "", "10:00"},
		{`"10:00 battery 40%", "10:30 battery 30%", "11:00 mains"`, "battery", "", "10:00"}, // it was on it already
		{`"10:00 battery 40%", "11:00 mains"`, "mains", "", "11:00"},
		{`"10:00 offline", "11:00 online"`, "online", "", "11:00"},
		{`"10:00 offline", "11:00 online"`, "offline", "", "10:00"},
		{`"10:00 idle 5m"`, "idle 10m", "", "10:05"},
		{`"10:00 idle 5m", "10:03 active"`, "idle 10m", "", ""},
		{`"10:00 idle 5m", "10:03 active"`, "active", "", "10:03"},
		{`"10:00 mount /media/vault", "11:00 mount /media/other"`, "mount /media/vault", "", "10:00"},
		{`"10:00 mount /media/vault", "11:00 unmount /media/vault"`, "unmount /media/vault", "", "11:00"},
		{`"10:00 device label-printer", "11:00 device mouse"`, "device label-*", "", "10:00"},
		{`"10:00 change /srv/proofs/a.pdf", "11:00 change /srv/proofs/a.txt", "12:00 change /srv/other"`, "change in /srv/proofs matching *.pdf quiet 5s", "", "10:00:05"},
		{`"10:00 memory 300MiB", "11:00 memory 200MiB", "12:00 memory 2GiB", "13:00 memory 100MiB"`, "low memory 500MiB", "", "10:00 13:00"},
		{`"10:00 memory 400MiB", "11:00 memory 520MiB", "12:00 memory 400MiB"`, "low memory 500MiB", "", "10:00"}, // as the machine itself tells it
		{`"10:00 mount /media/vault"`, "mount /media/vault/", "", "10:00"},
		{`"10:00 change /srv/proofs/new/a.pdf", "11:00 change /srv/proofs/a.pdf"`, "change in /srv/proofs matching new/*.pdf quiet 5s", "", "10:00:05"},
		{`"10:00 logoff maren", "11:00 logon maren", "12:00 logon maren", "13:00 logoff maren"`, "logon of maren", "", "11:00"},
		{`"10:00 logoff maren", "11:00 logon maren", "12:00 logon maren", "13:00 logoff maren"`, "logoff of maren", "", "13:00"},
		{`"10:00 mains", "11:00 battery 40%", "12:00 mains", "13:00 mains"`, "mains", "", "12:00"},
		{`"10:00 online", "11:00 offline", "12:00 online"`, "online", "", "12:00"},
		{`"10:00 disk /srv 3%", "11:00 disk /home 1%"`, "low disk /srv 5%", "", "10:00"},
		{`"10:00 signal tidy", "11:00 signal other"`, "signal tidy", "", "10:00"},
		{`"10:00 open g"`, "boot", "", "10:00"},
		{`"10:00 pause", "12:30 continue"`, "at 11:00, 12:00, 13:00", "", "13:00"},
		// What cannot happen does not.
		{`"07:00 boot", "10:00 sleep", "10:30 logon maren", "11:00 resume"`, "logon", "", ""},
		{`"07:00 boot", "10:00 shutdown", "10:30 mains", "11:00 boot"`, "mains", "", ""},
		{`"10:00 sleep", "13:00 resume"`, "at 11:00, 12:00", "[rules]\nmissed = \"once\"\n", "13:00"},
		{`"10:00 sleep", "13:00 resume"`, "at 11:00, 12:00", "", ""},
		{`"10:00 sleep"`, "at 11:00", "[rules]\nwake = \"5m\"\n", "11:00"}, // its alarm wakes the machine
		{`"07:00 boot", "10:00 shutdown", "13:00 boot"`, "at 11:00, 12:00", "[rules]\nmissed = \"once\"\n", "13:00"},
		// Needs hold as they were said.
		{`"10:00 battery 40%"`, "at 09:00, 11:00", "[needs]\npower = \"mains\"\n", "09:00"},
		{`"10:00 battery 40%"`, "at 09:00, 11:00", "[needs]\npower = \"mains or 30%\"\n", "09:00 11:00"},
		{`"10:00 logon maren"`, "at 09:00, 11:00", "[needs]\npeople = \"someone\"\n", "11:00"},
		{`"10:00 logon maren", "12:00 logoff maren"`, "at 09:00, 11:00, 13:00", "[needs]\npeople = \"nobody\"\n", "09:00 13:00"},
		{`"10:00 mount /media/vault", "12:00 unmount /media/vault"`, "at 09:00, 11:00, 13:00", "[needs]\npaths = [\"/media/vault/jobs\", \"/media/vault\"]\n", "11:00"},
		{`"10:00 offline", "12:00 online"`, "at 09:00, 11:00, 13:00", "[needs]\nonline = true\n", "09:00 13:00"},
		{`"10:00 logon maren"`, "at 09:00, 11:00", "[as]\ndesktop = true\n", "11:00"},
		{`"10:30 logon maren"`, "at 10:00", "[as]\ndesktop = true\n[needs]\nwait = \"1h\"\n", "10:30"},
	} {
		d, p := playThrough(t, tt.events, "g", fmt.Sprintf("opens = [%q]\n%s", tt.opens, tt.rest))
		if got := starts(d, p, "g"); got != tt.want {
			t.Errorf("%s through %q %q: it starts at %q, want %q\n%s", tt.events, tt.opens, tt.rest, got, tt.want, tell(d, p))
		}
	}
}

// TestEnds: programs take what was said, run in turn, and stand still while the machine
// sleeps; what a shutdown ends, the next keeper finds lost.
func TestEnds(t *testing.T) {
	for _, tt := range []struct{ events, takes, rest, want string }{
		{``, "10m", "", "08:00-08:10 ok, 09:00-09:10 ok"},
		{``, "10m exit 2, 20m", "", "08:00-08:10 failed, 09:00-09:20 ok"},
		{`"08:05 sleep", "08:35 resume"`, "10m", "", "08:00-08:40 ok, 09:00-09:10 ok"},
		{`"07:00 boot", "08:05 shutdown", "08:35 boot"`, "10m", "", "08:00-08:05 lost, 09:00-09:10 ok"},
		{``, "90m", "[rules]\nbusy = \"queue\"\n", "08:00-09:30 ok, 09:30-11:00 ok"},
		{``, "90m", "[rules]\nbusy = \"replace\"\n", "08:00-09:00 stopped, 09:00-10:30 ok"},
		{``, "90m", "[limits]\nlongest = \"30m\"\n", "08:00-08:30 overran, 09:00-09:30 overran"},
		{`"08:20 stop g"`, "90m", "", "08:00-08:20 stopped, 09:00-10:30 ok"},
		{`"08:20 battery 50%"`, "30m", "[needs]\npower = \"mains\"\nif_lost = \"stop\"\n", "08:00-08:20 stopped"},
		{``, "10m exit 1, 5m", "[again]\ntimes = 1\npause = \"2m\"\n", "08:00-08:10 failed, 08:12-08:17 ok, 09:00-09:05 ok"},
	} {
		e := env
		e.Gates = []string{"g"}
		d, found := Read("day.toml", fmt.Appendf(nil, "from = \"2026-11-30 06:00\"\nto = \"2026-11-30 22:00\"\nevents = [%s]\n[takes]\ng = %q\n", tt.events, tt.takes), e)
		if d == nil {
			t.Fatal(found)
		}
		p, err := Play(t.Context(), d, Setup{Environment: engine.Environment{Scope: gate.User}, Gates: gatesOf(t, d.Zone, "g", "opens = [\"at 08:00, 09:00\"]\n"+tt.rest)})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, r := range p.Runs {
			got = append(got, fmt.Sprintf("%s-%s %s", clockText(r.Started, d), clockText(r.End, d), r.Result))
		}
		if strings.Join(got, ", ") != tt.want {
			t.Errorf("%s, %s %q\n got %s\nwant %s", tt.events, tt.takes, tt.rest, strings.Join(got, ", "), tt.want)
		}
	}
}

// TestClockChange: a night in which the clock goes forward, and one in which it goes back.
func TestClockChange(t *testing.T) {
	for day, want := range map[string]string{
		"2027-03-28": "00:30 02:00 02:30",       // 01:30 does not exist: the first instant after the gap, which is 02:00
		"2026-10-25": "00:30 01:30 02:00 02:30", // 01:30 comes twice, and the first counts
	} {
		e := env
		e.Gates = []string{"g"}
		d, found := Read("day.toml", []byte("from = \""+day+"\"\nzone = \"Europe/London\"\n"), e)
		if d == nil {
			t.Fatal(found)
		}
		p, err := Play(t.Context(), d, Setup{Environment: engine.Environment{Scope: gate.User}, Gates: gatesOf(t, d.Zone, "g", "opens = [\"at 00:30, 01:30, 02:00, 02:30\"]\n")})
		if err != nil {
			t.Fatal(err)
		}
		if got := starts(d, p, "g"); got != want {
			t.Errorf("on %s it starts at %s, want %s", day, got, want)
		}
	}
}

// TestRandomDays: for random gates and random days a rehearsal gives the same once more,
// and so does a replay of what was recorded of it.
func TestRandomDays(t *testing.T) {
	days := 2000
	if testing.Short() {
		days = 60
	}
	moments := []string{"every 20m", "at 08:00, 12:00, 16:30", "boot", "logon", "mains", "unlock + 2m", "every 1h from 08:00 to 17:00", "battery", "resume", "end of g0", "boot + 1m, then every 10m for 1h", "every 7h since 2026-11-30 05:00"}
	rules := []string{"", "[rules]\nmissed = \"once\"\n", "[rules]\nbusy = \"queue\"\n", "[needs]\npower = \"mains\"\nwait = \"40m\"\n", "[again]\ntimes = 2\npause = \"3m\"\n", "[limits]\nlongest = \"15m\"\n", "[needs]\npeople = \"someone\"\n"}
	verbs := []string{"logon maren", "logoff maren", "lock", "unlock", "battery 50%", "mains", "sleep", "resume", "offline", "online", "idle 10m", "active"}
	for seed := range days {
		r := rand.New(rand.NewPCG(uint64(seed), 7))
		var files []string
		for i := range 1 + r.IntN(5) {
			opens := moments[r.IntN(len(moments))]
			if i == 0 && strings.Contains(opens, "g0") {
				opens = "every 20m"
			}
			files = append(files, fmt.Sprintf("g%d", i), fmt.Sprintf("opens = [%q]\n%s", opens, rules[r.IntN(len(rules))]))
		}
		var events []string
		minute := 0
		for range r.IntN(25) {
			minute += 1 + r.IntN(50)
			if minute >= 24*60-30 {
				break
			}
			events = append(events, fmt.Sprintf("\"%02d:%02d:17 %s\"", minute/60, minute%60, verbs[r.IntN(len(verbs))]))
		}
		text := fmt.Sprintf("from = \"2026-11-30\"\nevents = [%s]\n", strings.Join(events, ", "))
		d, found := Read("day.toml", []byte(text), env)
		if d == nil {
			t.Fatal(found)
		}
		setup := Setup{Environment: engine.Environment{Scope: gate.User, Account: "maren"}, Gates: gatesOf(t, d.Zone, files...), Pace: engine.Pace{AtOnce: 2, Room: time.Second},
			Usual: func(name string) time.Duration { return time.Duration(3+len(name)*int(name[1]-'0')) * time.Minute }}
		first, err := Play(t.Context(), d, setup)
		if err != nil {
			t.Fatal(err)
		}
		var heard []engine.Event
		setup.heard = func(ev engine.Event) {
			switch b := ev.Body.(type) { // whose room is used again
			case *engine.RunEnded:
				c := *b
				ev.Body = &c
			case *engine.RunStarted:
				c := *b
				ev.Body = &c
			}
			heard = append(heard, ev)
		}
		again, err := Play(t.Context(), d, setup)
		if err != nil {
			t.Fatal(err)
		}
		if a, b := tell(d, first), tell(d, again); a != b {
			t.Fatalf("seed %d: it is another day once more\n%s\n%s", seed, a, b)
		}
		checkDay(t, seed, d, first)
		e := engine.New()
		e.Handle(engine.Event{At: d.From - 1, Body: &engine.Begin{Environment: setup.Environment, BootID: "rehearsed-0", Pace: setup.Pace}})
		e.Handle(heard[0]) // the gates
		setup.heard = nil
		replayed, err := Replay(t.Context(), &Recorded{From: d.From, To: d.To, Zone: d.Zone, Host: d.Host, Engine: e, Events: heard[1:], Actual: first.Decisions}, setup)
		if err != nil {
			t.Fatal(err)
		}
		if diffs, _ := Compare(first.Decisions, replayed.Decisions, nil); len(diffs) > 0 {
			t.Errorf("seed %d: replayed it is another day: %+v\n%s\n%s", seed, diffs, text, tell(d, replayed))
		}
		if diffs, _ := Compare(first.Decisions, again.Decisions, nil); len(diffs) > 0 {
			t.Fatalf("seed %d: compared with itself it differs: %+v", seed, diffs)
		}
	}
}

// checkDay checks what holds of every day: time goes forward, every run that was started
// ends at most once and after its start, nothing starts while the machine sleeps, and the
// states of the machine follow each other without gaps.
func checkDay(t *testing.T, seed int, d *Day, p *Played) {
	t.Helper()
	var last calendar.Instant
	began, over := map[int64]calendar.Instant{}, map[int64]bool{}
	for i := range p.Decisions {
		k := &p.Decisions[i]
		if k.At < last || k.At < d.From || k.At > d.To {
			t.Errorf("seed %d: a decision at %s comes after one at %s", seed, clockText(k.At, d), clockText(last, d))
		}
		last = k.At
		switch {
		case k.Starts():
			if _, twice := began[k.Run]; twice {
				t.Errorf("seed %d: run %d is started twice", seed, k.Run)
			}
			began[k.Run] = k.At
			if s := p.StateAt(k.At); s.Asleep && s.From < k.At && k.At < s.To {
				t.Errorf("seed %d: %s starts at %s while the machine sleeps", seed, k.Gate, clockText(k.At, d))
			}
		case k.Kind == engine.End:
			if at, was := began[k.Run]; !was || over[k.Run] || k.At < at {
				t.Errorf("seed %d: run %d ends at %s, began %v, over %v", seed, k.Run, clockText(k.At, d), was, over[k.Run])
			}
			over[k.Run] = true
		}
	}
	for i := 1; i < len(p.States); i++ {
		if p.States[i].From != p.States[i-1].To {
			t.Errorf("seed %d: between two states there is a gap", seed)
		}
	}
	if n := len(p.States); n == 0 || p.States[0].From != d.From || p.States[n-1].To != d.To {
		t.Errorf("seed %d: the states are not those of the whole day: %+v", seed, p.States)
	}
	if len(p.Runs) != len(began) {
		t.Errorf("seed %d: %d runs, and %d starts", seed, len(p.Runs), len(began))
	}
}

// TestFromState: a day that begins with what a keeper knows goes on where that was.
func TestFromState(t *testing.T) {
	zone := calendar.UTC
	gates := gatesOf(t, zone, "g", "opens = [\"every 20m\"]\n[rules]\nmissed = \"once\"\n", "off", "opens = [\"first logon of the day\"]\n")
	at := func(h, m int) calendar.Instant {
		i, _ := zone.Resolve(calendar.DayOf(2026, 11, 30), int64(h*60+m)*60_000)
		return i
	}
	e := engine.New()
	environment := engine.Environment{Scope: gate.User, Account: "maren", Zone: "UTC", Host: "studio"}
	e.Handle(engine.Event{At: at(8, 0), Body: &engine.Begin{Environment: environment, BootID: "b", Gates: gates}})
	var run int64
	for _, k := range e.Handle(engine.Event{At: at(8, 20), Body: &engine.Tick{}}) {
		if k.Starts() {
			run = k.Run
		}
	}
	e.Handle(engine.Event{At: at(8, 20), Body: &engine.RunStarted{Run: run, PID: 1}})
	e.Handle(engine.Event{At: at(8, 21), Body: &engine.Occurred{Event: phrase.Logon, Name: "maren", Facts: &engine.Facts{People: []engine.Person{{Account: "maren", Since: at(8, 21)}}}}})
	en := env
	en.Gates, en.Now = []string{"g", "off"}, at(8, 30)
	d, found := Read("day.toml", []byte("events = [\"09:10 logon maren\"]\n"), en)
	if d == nil {
		t.Fatal(found)
	}
	p, err := Play(t.Context(), d, Setup{Environment: environment, Gates: gates, State: e.Snapshot(), Usual: func(string) time.Duration { return 15 * time.Minute }})
	if err != nil {
		t.Fatal(err)
	}
	if d.To.Sub(d.From) != 24*time.Hour || d.From != at(8, 30) {
		t.Errorf("the day is %v long from %v", d.To.Sub(d.From), d.From.Time())
	}
	if !slices.ContainsFunc(p.Decisions, func(k engine.Decision) bool { return k.Run == run && k.Kind == engine.End }) {
		t.Errorf("the run that went on does not end:\n%s", tell(d, p))
	}
	if got := starts(d, p, "off"); got != "" { // it was the first of the day already
		t.Errorf("what has opened today opens again at %s", got)
	}
	if got := starts(d, p, "g"); !strings.HasPrefix(got, "09:00") && !strings.HasPrefix(got, "08:40") {
		t.Errorf("it goes on at %.40s", got)
	}
}

// TestNoWake: where nothing can wake the machine, a gate that wants it woken starts when the
// machine is back, or not at all.
func TestNoWake(t *testing.T) {
	for _, tt := range []struct {
		rest   string
		noWake bool
		want   string
	}{
		{"[rules]\nwake = \"5m\"\n", false, "11:00"},
		{"[rules]\nwake = \"5m\"\n", true, ""},
		{"[rules]\nwake = \"5m\"\nmissed = \"once\"\n", true, "13:00"},
	} {
		e := env
		e.Gates = []string{"g"}
		d, found := Read("day.toml", []byte("from = \"2026-11-30 06:00\"\nto = \"2026-11-30 22:00\"\nevents = [\"10:00 sleep\", \"13:00 resume\"]\n"), e)
		if d == nil {
			t.Fatal(found)
		}
		p, err := Play(t.Context(), d, Setup{Environment: engine.Environment{Scope: gate.User, NoWake: tt.noWake}, Gates: gatesOf(t, d.Zone, "g", "opens = [\"at 11:00\"]\n"+tt.rest)})
		if err != nil {
			t.Fatal(err)
		}
		if got := starts(d, p, "g"); got != tt.want {
			t.Errorf("%q, nothing wakes it: %v: it starts at %q, want %q", tt.rest, tt.noWake, got, tt.want)
		}
	}
}

// TestEachMoment: of moments that one row stands for, each counts; an opening is named as rows
// name it.
func TestEachMoment(t *testing.T) {
	for sentence, want := range map[string]string{
		"poll missed at 13:30": "", "poll missed at 14:30": "", "poll missed 4 times": "", "poll/1 missed at 13:00": "", "poll/weekend missed": "poll/weekend was never missed",
		"poll/1 opens at 12:30": "", "poll missed at 15:30": "poll was missed 4 times, at 13:00, 13:30, 14:00, 14:30", "poll missed before 14:00": "poll was missed 2 times, at 14:00, 14:30",
	} {
		e := env
		e.Gates = []string{"poll"}
		d, found := Read("day.toml", fmt.Appendf(nil, "from = \"2026-11-30 06:00\"\nto = \"2026-11-30 22:00\"\nevents = [\"12:45 sleep\", \"14:45 resume\"]\nexpect = [%q]\n", sentence), e)
		if d == nil {
			t.Fatal(found)
		}
		p, err := Play(t.Context(), d, Setup{Environment: engine.Environment{Scope: gate.User}, Gates: gatesOf(t, d.Zone, "poll", "opens = [\"every 30m\", { name = \"weekend\", when = \"at 09:00 on sat\" }]\n")})
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		if f := p.Check(d); len(f) > 0 {
			got = f[0].Actual
		}
		if got != want {
			t.Errorf("%q\n got %q\nwant %q", sentence, got, want)
		}
	}
}
