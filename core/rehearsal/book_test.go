package rehearsal

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
)

// TestBoundedBook: a book with little room counts and judges a month as one that keeps it
// all, tells every decision, and draws the same at the same places.
func TestBoundedBook(t *testing.T) {
	const text = `from = "2026-03-01"
to = "2026-03-31"
events = ["07:00 boot", "mon-fri 07:10 logon maren", "08:00 mount /media/vault", "10:30 battery 50%", "13:00 sleep", "14:10 resume", "15:30 mains", "20:00 shutdown"]
expect = ["never more than 1 at once", "vault-copy never opens while on battery", "glue-warm opens at 06:45", "stock-count opens 93 times", "vault-copy skipped at 12:00 because power", "job-board never opens on sat-sun", "stock-count never fails"]
[takes]
stock-count = "20m"
vault-copy = "90m, 40m exit 1"
`
	gates := append(bindery(t, calendar.UTC), gatesOf(t, calendar.UTC, "ink-check", "opens = [\"every 15m from 09:00 to 18:00\"]\n[needs]\npower = \"mains\"\n")...)
	d, found := Read("day.toml", []byte(text), env)
	if d == nil {
		t.Fatal(found)
	}
	setup := Setup{Environment: engine.Environment{Scope: gate.User, Account: "maren"}, Gates: gates}
	all, err := Play(t.Context(), d, setup)
	if err != nil {
		t.Fatal(err)
	}
	const room = 20
	var told []engine.Decision
	setup.Most, setup.Tell = room, func(k *engine.Decision, s *State) {
		then := all.StateAt(k.At)
		if told = append(told, *k); s.Text() != then.Text() && then.From < k.At {
			t.Errorf("at %s the machine is told to be %s, not %s", clockText(k.At, d), s.Text(), then.Text())
		}
	}
	few, err := Play(t.Context(), d, setup)
	if err != nil {
		t.Fatal(err)
	}
	if len(few.Decisions) != room || few.Count != all.Count || few.Count != int64(len(all.Decisions)) {
		t.Errorf("of %d decisions %d are kept and %d counted", len(all.Decisions), len(few.Decisions), few.Count)
	}
	summary := func(list []engine.Decision) string {
		return tell(d, &Played{Decisions: list})
	}
	if summary(told) != summary(all.Decisions) {
		t.Error("what is told is not what is decided")
	}
	failures := func(p *Played) string {
		var out []string
		for _, f := range p.Check(d) {
			out = append(out, f.Expected+": "+f.Actual)
		}
		return strings.Join(out, "\n")
	}
	if got, want := failures(few), failures(all); got != want || !strings.Contains(want, "at once") || !strings.Contains(want, "glue-warm") {
		t.Errorf("failures:\n%s\nwant\n%s", got, want)
	}
	for _, name := range slices.Sorted(maps.Keys(all.Tallies)) {
		if got, want := few.Tallies[name], all.Tallies[name]; got == nil || *got != *want || want.Starts == 0 {
			t.Errorf("%s: tally %+v, want %+v", name, got, want)
		}
	}
	if len(few.Runs) >= len(all.Runs) || !slices.IsSortedFunc(few.Runs, func(a, b Run) int { return int(a.Started - b.Started) }) {
		t.Errorf("%d runs are drawn, of %d", len(few.Runs), len(all.Runs))
	}
	apart := (d.To - d.From) / 1000
	for _, r := range all.Runs {
		if !slices.ContainsFunc(few.Runs, func(f Run) bool {
			return f.Gate == r.Gate && f.Started <= r.Started && (f.End == r.End || f.End > r.End) && (f.Result == r.Result || f.Started < r.Started)
		}) {
			t.Errorf("run %d of %s at %s is drawn nowhere", r.Run, r.Gate, clockText(r.Started, d))
		}
	}
	for _, m := range all.Marks {
		if !slices.ContainsFunc(few.Marks, func(f Mark) bool {
			return f.Gate == m.Gate && f.Kind == m.Kind && f.Result == m.Result && f.At <= m.At && m.At-f.At < max(apart, 1)
		}) {
			t.Errorf("what %s did at %s is marked nowhere", m.Gate, clockText(m.At, d))
		}
	}
}

// BenchmarkReplay replays 30 recorded days of 100 gates and compares them, told against a
// rehearsal of the same days.
func BenchmarkReplay(b *testing.B) {
	var files []string
	for i := range 100 {
		files = append(files, fmt.Sprintf("g%02d", i), []string{"opens = [\"every 1h\"]\n", "opens = [\"every 15m from 08:00 to 17:00\"]\n", fmt.Sprintf("opens = [\"at %02d:%02d\"]\n", i%24, i%60), "opens = [\"every 5m\"]\n[rules]\nmissed = \"once\"\n"}[i%4])
	}
	gates := gatesOf(b, calendar.UTC, files...)
	d, found := Read("day.toml", []byte("from = \"2026-03-01\"\nto = \"2026-03-30\"\n"), env)
	if d == nil {
		b.Fatal(found)
	}
	setup := Setup{Environment: engine.Environment{Scope: gate.User, Account: "maren", Zone: "UTC", Host: "studio"}, Gates: gates}
	begin := engine.Event{At: d.From, Body: &engine.Begin{Environment: setup.Environment, BootID: "b", Gates: gates, Facts: engine.Facts{Online: true}}}
	var played, floor time.Duration
	for b.Loop() {
		b.StopTimer()
		began := time.Now()
		was, err := Play(b.Context(), d, setup)
		if err != nil {
			b.Fatal(err)
		}
		floor += time.Since(began)
		var events []engine.Event
		for _, run := range was.Runs {
			events = append(events, engine.Event{At: run.End, Body: &engine.RunEnded{Run: run.Run, EndedAt: run.End}})
		}
		slices.SortStableFunc(events, func(a, b engine.Event) int { return int(a.At - b.At) })
		e := engine.New()
		e.Handle(begin)
		b.StartTimer()
		began = time.Now()
		p, err := Replay(b.Context(), &Recorded{From: d.From, To: d.To, Zone: d.Zone, Host: "studio", Engine: e, Events: events, Actual: was.Decisions}, setup)
		if err != nil {
			b.Fatal(err)
		}
		diffs, same := Compare(was.Decisions, p.Decisions, nil)
		played += time.Since(began)
		if len(diffs) > 0 || same < 100_000 {
			b.Fatalf("%d as they were, %d differences", same, len(diffs))
		}
		b.ReportMetric(float64(same), "starts")
	}
	b.ReportMetric(float64(played)/float64(floor), "×rehearsal")
}
