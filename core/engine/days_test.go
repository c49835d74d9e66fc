package engine_test

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	. "timegate/core/engine"
	"timegate/core/phrase"
)

// dayGates use every rule, beside and against each other.
var dayGates = []string{
	"opens = [\"every 5m\", \"boot + 90s, then every 1m for 5m\"]\n[rules]\nbusy = \"skip\"\nmissed = \"once\"\nmissed_within = \"20m\"\n",
	"opens = [\"every 7m from 08:00 to 18:00\", \"logon of maren + 1m\"]\n[rules]\nbusy = \"queue\"\n[again]\ntimes = 2\npause = \"2m\"\n",
	"opens = [\"every 10m after success\"]\n[again]\ntimes = 1\npause = \"30s\"\n",
	"opens = [\"change in /srv/proofs quiet 30s\"]\n[rules]\nbusy = \"queue\"\n", "opens = [\"change in /srv/orders\"]\n",
	"opens = [\"every 6m\"]\n[needs]\npower = \"mains\"\nwait = \"4m\"\nif_lost = \"stop\"\n",
	"opens = [\"at 09:00, then every 3m for 2h\"]\n[needs]\npower = \"mains or 50%\"\nonline = true\n",
	"opens = [\"end of gate-0\", \"failure of gate-1\"]\n[rules]\nbusy = \"replace\"\n[limits]\nlongest = \"4m\"\ngrace = \"20s\"\n",
	"opens = [\"idle 5m\", \"resume\", \"signal proofs\"]\n[rules]\nbusy = \"beside\"\n",
	"opens = [\"every 15m since 2026-11-30 08:00\", \"mains\", \"battery\"]\n[needs]\npeople = \"someone\"\nwait = \"10m\"\n[rules]\nmissed = \"once\"\n",
	"opens = [\"first unlock of the day\", \"lock\"]\n", "opens = [\"every 4m\"]\n[rules]\nspread = \"2m\"\nwake = \"30s\"\n", "opens = [\"boot\"]\n", "opens = [\"boot\"]\n", "opens = [\"logon\"]\n",
}

// TestDays: random days on which things happen at the instants that matter, and a
// millisecond before and after. The same day has the same decisions as ever: what was
// decided yesterday can be replayed tomorrow. A digest of each day is kept, with what was
// decided how often; -update takes it down anew, when a rule is meant to change.
func TestDays(t *testing.T) {
	var got strings.Builder
	for seed := range uint64(120) {
		day := playDay(t, seed)
		counts := map[string]int{}
		for line := range strings.Lines(day) {
			if f := strings.Fields(line); len(f) > 1 {
				counts[f[1]]++
			}
		}
		sum := sha256.Sum256([]byte(day))
		fmt.Fprintf(&got, "day %d %x %v\n", seed, sum[:6], counts)
	}
	const file = "testdata/days/digests"
	if *update {
		if err := os.WriteFile(file, []byte(got.String()), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if got.String() != string(want) {
		t.Errorf("days are decided otherwise (-update takes them down anew): %s", firstDifference(string(want), got.String()))
	}
}

// playDay makes up a day and returns the decisions of it.
func playDay(t *testing.T, seed uint64) string {
	r := rand.New(rand.NewPCG(seed, 5))
	s := newScript(t)
	for i, text := range dayGates {
		s.define(fmt.Sprintf("gate-%d", i), text)
	}
	e := s.engine
	var out strings.Builder
	now := s.instant("07:58")
	runs := map[int64]bool{}
	facts := Facts{Online: true, Charge: 80}
	do := func(body Body) {
		for _, d := range e.Handle(Event{At: now, Body: body}) {
			text, err := json.Marshal(d)
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprintf(&out, "%d %s %s\n", d.At, d.Kind, text)
			if d.Starts() {
				runs[d.Run] = true
			} else if d.Kind == End {
				delete(runs, d.Run)
			}
		}
		if at, ok := e.Wake(); ok {
			fmt.Fprintf(&out, "%d wake\n", at)
		}
	}
	begin := &Begin{BootID: "boot-a", Uptime: 60_000, Gates: s.pending, Facts: facts, Pace: Pace{AtOnce: 1 + r.IntN(2), Room: 3 * time.Second, Calm: 20, Longest: 40 * time.Second}}
	begin.Environment = Environment{Zone: "UTC", Account: "maren", NoWake: seed%2 == 0}
	do(begin)
	for range 250 {
		instant(r, e, &now)
		do(somethingOfADay(r, s, runs, &facts, now))
		if r.IntN(60) == 0 { // the keeper begins anew, now and then after a while
			state := e.Snapshot()
			next, err := Restore(state, s.pending)
			if err != nil {
				t.Fatal(err)
			}
			e = next
			again := *begin
			down := calendar.Instant(r.IntN(3) * 400_000)
			now += down
			again.Facts, again.Uptime = facts, 60_000+int64(now-s.instant("07:58"))
			if r.IntN(3) == 0 {
				again.BootID, again.Uptime = fmt.Sprint("boot-", now), 30_000
			}
			for _, run := range sorted(runs) {
				if again.BootID != begin.BootID || r.IntN(2) == 0 {
					again.Lost = append(again.Lost, run)
				}
			}
			begin = &again
			do(begin)
		}
	}
	return out.String()
}

// instant goes on to one that matters: when the engine wants to be told, as it is then,
// a moment before or after, or about as late as is still in time.
func instant(r *rand.Rand, e *Engine, now *calendar.Instant) {
	at, ok := e.Wake()
	switch k := r.IntN(10); {
	case ok && k < 5:
		*now = max(*now, at+calendar.Instant(r.IntN(3)-1))
	case ok && k < 7:
		*now = max(*now, at.Add(Tolerance)+calendar.Instant(r.IntN(3)-1))
	case k < 9:
		*now += calendar.Instant(r.IntN(4)) * 30_000
	default:
		*now += calendar.Instant(r.IntN(30)) * 60_000
	}
}

func sorted(runs map[int64]bool) (out []int64) {
	for run := range runs {
		out = append(out, run)
	}
	slices.Sort(out)
	return out
}

// somethingOfADay is what happens next.
func somethingOfADay(r *rand.Rand, s *script, runs map[int64]bool, facts *Facts, now calendar.Instant) Body {
	name := fmt.Sprintf("gate-%d", r.IntN(len(dayGates)))
	list := sorted(runs)
	happens := func(kind phrase.EventKind, name string) Body {
		f := facts.Clone()
		return &Occurred{Event: kind, Name: name, Facts: &f, Holds: r.IntN(2) == 0}
	}
	switch k := r.IntN(34); {
	case k < 8 && len(list) > 0:
		return &RunEnded{Run: list[r.IntN(len(list))], EndedAt: now - calendar.Instant(r.IntN(2)), Exit: r.IntN(2)}
	case k == 8 && len(list) > 0:
		return &RunLost{Run: list[r.IntN(len(list))], Why: LostStatus}
	case k == 9 && len(list) > 0:
		return &StartFailed{Run: list[r.IntN(len(list))]}
	case k == 10:
		return &OpenAsked{Gate: name}
	case k == 11:
		return &StopAsked{Gate: name}
	case k == 12:
		return &PauseAsked{Until: now + calendar.Instant(r.IntN(2))*600_000}
	case k == 13:
		return &ResumeAsked{}
	case k == 14:
		facts.OnBattery = !facts.OnBattery
		return happens(map[bool]phrase.EventKind{true: phrase.Battery, false: phrase.Mains}[facts.OnBattery], "")
	case k == 15:
		facts.Charge = 49 + r.IntN(3)
		return &FactsChanged{Facts: facts.Clone()}
	case k == 16:
		facts.Online = !facts.Online
		return happens(map[bool]phrase.EventKind{true: phrase.Online, false: phrase.Offline}[facts.Online], "")
	case k == 17:
		if len(facts.People) > 0 {
			facts.People, facts.Desktops = nil, nil
			return happens(phrase.Logoff, "maren")
		}
		facts.People, facts.Desktops = []Person{{Account: "maren"}}, []string{""}
		return happens(phrase.Logon, "maren")
	case k == 18:
		return happens(phrase.Lock, "maren")
	case k == 19:
		return happens(phrase.Unlock, "maren")
	case k == 20:
		return happens(phrase.Sleep, "")
	case k == 21:
		return happens(phrase.Resume, "")
	case k == 22:
		facts.IdleSince = now - calendar.Instant(r.IntN(2))*300_000
		return &FactsChanged{Facts: facts.Clone()}
	case k == 23:
		facts.IdleSince = 0
		return happens(phrase.Active, "")
	case k < 27:
		path := []string{"/srv/proofs", "/srv/orders"}[r.IntN(2)]
		return &Occurred{Event: phrase.Change, Name: phrase.EventSpec{Kind: phrase.Change, Paths: []string{path}}.Watch(), Files: []string{fmt.Sprintf("%s/%d", path, r.IntN(4))}, From: now - calendar.Instant(r.IntN(2)*500)}
	case k == 27:
		return &SignalSent{Name: "proofs"}
	case k == 28:
		return &PaceSet{Pace: Pace{AtOnce: r.IntN(3), Room: 2 * time.Second, Longest: time.Duration(r.IntN(3)) * 10 * time.Second}}
	case k == 29:
		facts.Pressure = 18 + r.IntN(4)
		return &FactsChanged{Facts: facts.Clone()}
	case k == 30:
		return &ClockSet{By: calendar.Instant(r.IntN(3)-1) * 90_000}
	case k == 31: // one is changed
		for i := range s.pending {
			if d := &s.pending[i]; d.Name == name {
				d.Version += " "
				return &GatesChanged{Set: []Definition{*d}}
			}
		}
	}
	return &Tick{}
}
