package engine

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

var update = flag.Bool("update", false, "rewrite the expected decisions in testdata")

// A script in testdata is a file of gates and events, each event followed by
// the decisions that it leads to, as lines that begin with ">":
//
//	gate humidity-log
//	    opens = ["every 10m"]
//	09:00 begin
//	until 09:20
//	> 09:10:00 start humidity-log/1 run 1, due 09:10:00: due: every 10m
//
// Times are of 23 November 2026, or of the date in front of them, in UTC.
// "until" sends the ticks that the engine asks for, and ends every run that
// starts after the time that "takes GATE SPAN" gave it.
type script struct {
	t       *testing.T
	engine  *Engine
	now     calendar.Instant
	pending []Definition
	takes   map[string]time.Duration
	ends    map[int64]calendar.Instant
	events  []Event
	facts   Facts
	err     error
	out     strings.Builder
}

const scriptDay = "2026-11-23"

func (s *script) instant(text string) calendar.Instant {
	s.t.Helper()
	if !strings.Contains(text, "T") {
		text = scriptDay + "T" + text
	}
	if strings.Count(text, ":") == 1 {
		text += ":00"
	}
	at, err := time.Parse("2006-01-02T15:04:05", text)
	if err != nil {
		s.t.Fatal(err)
	}
	return calendar.InstantOf(at)
}

func stamp(at calendar.Instant) string {
	if text := at.Time().Format("2006-01-02T15:04:05.999"); !strings.HasPrefix(text, scriptDay) {
		return text
	}
	return at.Time().Format("15:04:05.999")
}

func describe(d Decision) string {
	s := fmt.Sprintf("> %s %s %s", stamp(d.At), d.Kind, d.Gate)
	if d.Opening != "" {
		s += "/" + d.Opening
	}
	if d.Run != 0 {
		s += fmt.Sprintf(" run %d", d.Run)
	}
	if d.Signal != "" {
		s += " " + d.Signal
	}
	if d.Result != "" {
		s += " " + string(d.Result)
	}
	if d.Count > 1 {
		s += fmt.Sprintf(" x%d", d.Count)
	}
	s = fmt.Sprintf("%s, due %s: %s", s, stamp(d.Due), d.Reason)
	if d.Rule != "" {
		s += " [" + d.Rule + "]"
	}
	return s
}

func (s *script) send(ev Event) {
	s.events = append(s.events, ev)
	s.now = max(s.now, ev.At)
	for _, d := range s.engine.Handle(ev) {
		fmt.Fprintln(&s.out, describe(d))
		if took, ok := s.takes[d.Gate]; ok && d.Starts() {
			s.ends[d.Run] = ev.At.Add(took)
		}
	}
}

// until plays the time up to and including an instant.
func (s *script) until(to calendar.Instant) {
	for {
		at, ok := s.engine.Wake()
		ev := Event{Kind: Tick, At: at}
		for _, run := range slices.Sorted(maps.Keys(s.ends)) {
			if end := s.ends[run]; !ok || end < ev.At {
				ev, ok = Event{Kind: Ended, At: end, Run: run}, true
			}
		}
		if !ok || ev.At > to {
			s.now = max(s.now, to)
			return
		}
		delete(s.ends, ev.Run)
		s.send(ev)
	}
}

func (s *script) line(line string) {
	fields := strings.Fields(line)
	if fields[0] == "takes" {
		d, err := phrase.ParseSpan(fields[2])
		if err != nil {
			s.t.Fatal(err)
		}
		s.takes[fields[1]] = d
		return
	}
	if fields[0] == "until" {
		s.until(s.instant(fields[1]))
		return
	}
	ev := Event{Kind: EventKind(fields[1]), At: s.instant(fields[0])}
	args := fields[2:]
	switch ev.Kind {
	case Begin:
		for i, arg := range args {
			if host, ok := strings.CutPrefix(arg, "host="); ok {
				ev.Host, args = host, slices.Delete(args, i, i+1)
				break
			}
		}
		ev.Memory = s.memory(args)
		ev.Facts = s.present(nil)
		ev.Set, s.pending = s.pending, nil
	case Gates:
		ev.Set, s.pending, ev.Removed = s.pending, nil, args
	case Happened:
		what := args[0]
		if i := slices.Index(args, "in"); i > 0 {
			what, args = "change in", args[i:]
		}
		ev.What, args = phrase.What(what), args[1:]
		for i, arg := range args {
			if strings.Contains(arg, "=") {
				ev.Facts, args = s.present(args[i:]), args[:i]
				break
			}
		}
		ev.Name = strings.Join(args, " ")
		if ev.What == phrase.Change {
			ev.Name, ev.Count = "change in "+ev.Name, 1
		}
	case Present:
		ev.Facts = s.present(args)
	case Paced: // AT-ONCE ROOM CALM LONGEST
		ev.Pace = &Pace{}
		fmt.Sscanf(args[0]+" "+args[2], "%d %d", &ev.Pace.AtOnce, &ev.Pace.Calm)
		for i, d := range map[int]*time.Duration{1: &ev.Pace.Room, 3: &ev.Pace.Longest} {
			if *d, s.err = phrase.ParseSpan(args[i]); s.err != nil {
				s.t.Fatal(s.err)
			}
		}
	case ClockSet:
		if len(args) == 1 {
			d, err := phrase.ParseSpan(strings.TrimLeft(args[0], "-"))
			if err != nil {
				s.t.Fatal(err)
			}
			if ev.By = calendar.Instant(d.Milliseconds()); strings.HasPrefix(args[0], "-") {
				ev.By = -ev.By
			}
		}
	case Open, Stop:
		ev.Gate = args[0]
	case Signal:
		ev.Name = args[0]
	case Pause:
		if len(args) == 1 {
			ev.Until = s.instant(args[0])
		}
	case Started, Failed, Refuse, Ended, Lost:
		run, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			s.t.Fatal(err)
		}
		ev.Run, ev.Detail = run, strings.Join(args[1:], " ")
		if ev.Kind == Ended && len(args) > 1 {
			if ev.Exit, err = strconv.Atoi(args[1]); err != nil {
				ev.Signal = args[1]
			}
			ev.Detail = ""
		}
		delete(s.ends, run)
	}
	s.send(ev)
}

// present reads what holds from then on: "power=30" (battery at 30%) or
// "power=mains", "online=yes", "people=maren,tobias", "idle=09:00",
// "path=/media/vault" or "path=-/media/vault", "pressure=40", "desktop=maren".
func (s *script) present(args []string) *Facts {
	f := &s.facts
	for _, arg := range args {
		name, value, _ := strings.Cut(arg, "=")
		switch name {
		case "power":
			f.OnBattery = value != "mains"
			f.Charge, _ = strconv.Atoi(value)
		case "online":
			f.Online = value == "yes"
		case "people":
			f.People = nil
			for _, p := range strings.FieldsFunc(value, func(r rune) bool { return r == ',' }) {
				f.People = append(f.People, Person{Account: p})
			}
		case "idle":
			if f.IdleSince = 0; value != "no" {
				f.IdleSince = s.instant(value)
			}
		case "path":
			if gone, ok := strings.CutPrefix(value, "-"); ok {
				f.Paths = slices.DeleteFunc(f.Paths, func(p string) bool { return p == gone })
			} else {
				f.Paths = append(f.Paths, value)
			}
		case "desktop":
			f.Desktops = strings.FieldsFunc(value, func(r rune) bool { return r == ',' })
			if i := slices.Index(f.Desktops, "own"); i >= 0 {
				f.Desktops[i] = ""
			}
		case "pressure":
			f.Pressure, _ = strconv.Atoi(value)
		default:
			s.t.Fatalf("unknown fact %q", arg)
		}
	}
	now := *f
	now.Paths, now.Desktops = slices.Clone(f.Paths), slices.Clone(f.Desktops)
	return &now
}

// memory reads what an engine is to remember: "last-seen=09:00 booted=08:00
// moment=GATE/OPENING=TIME good=GATE=TIME running=RUN=GATE=TIME".
func (s *script) memory(args []string) *Memory {
	m := &Memory{NextRun: 1, Versions: map[string]string{}, Openings: map[string]OpeningMemory{}, LastGood: map[string]calendar.Instant{}}
	for _, d := range s.pending {
		m.Versions[d.Name] = d.Version
	}
	for _, arg := range args {
		p := strings.Split(arg, "=")
		switch p[0] {
		case "last-seen":
			m.LastSeen = s.instant(p[1])
		case "booted":
			m.Booted = s.instant(p[1])
		case "moment":
			m.Openings[p[1]] = OpeningMemory{Last: s.instant(p[2]), Moment: s.instant(p[2])}
		case "good":
			m.LastGood[p[1]] = s.instant(p[2])
		case "new":
			delete(m.Versions, p[1])
		case "told":
			m.People = append(m.People, Person{Account: p[1]})
		case "people": // what holds, not what is remembered
			s.present([]string{arg})
		case "paused":
			m.Paused, m.PausedSince = true, s.instant(p[1])
		case "waiting": // FOR=GATE=OPENING=DUE, and =UNTIL=TRY
			w := WaitMemory{For: WaitFor(p[1]), Gate: p[2], Opening: p[3], Due: s.instant(p[4])}
			if len(p) == 7 {
				w.Until = s.instant(p[5])
				w.Try, _ = strconv.Atoi(p[6])
			}
			m.Waiting = append(m.Waiting, w)
		case "running":
			run, _ := strconv.ParseInt(p[1], 10, 64)
			m.Running = append(m.Running, RunMemory{Run: run, Gate: p[2], Due: s.instant(p[3]), Started: s.instant(p[3]), PID: 77})
			m.NextRun = max(m.NextRun, run+1)
		default:
			s.t.Fatalf("unknown memory %q", arg)
		}
	}
	return m
}

// define reads a gate from indented TOML.
func (s *script) define(name, text string) {
	if !strings.Contains(text, "run =") {
		text = "run = [\"/opt/larkspur/bin/" + name + "\"]\n" + text
	}
	g, found := gate.Read(name, name+".toml", []byte(text), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: calendar.UTC}})
	if g == nil {
		s.t.Fatal(found)
	}
	s.pending = append(s.pending, Definition{Name: name, Version: text, Gate: g})
}

// play runs a script and returns it with the decisions that were made.
func play(t *testing.T, text string) (played string, events []Event) {
	s := &script{t: t, engine: New(), takes: map[string]time.Duration{}, ends: map[int64]calendar.Instant{}}
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		if strings.HasPrefix(line, ">") {
			continue
		}
		fmt.Fprintln(&s.out, line)
		if name, ok := strings.CutPrefix(line, "gate "); ok {
			var body strings.Builder
			for i+1 < len(lines) && strings.HasPrefix(lines[i+1], "    ") {
				i++
				fmt.Fprintln(&s.out, lines[i])
				fmt.Fprintln(&body, lines[i][4:])
			}
			s.define(name, body.String())
			continue
		}
		if line != "" && !strings.HasPrefix(line, "#") {
			s.line(line)
		}
	}
	return s.out.String(), s.events
}

func TestScripts(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txt")
	if err != nil || len(files) == 0 {
		t.Fatal("no scripts in testdata", err)
	}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			got, events := play(t, string(text))
			if *update {
				if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
			} else if got != string(text) {
				t.Errorf("decisions differ (-update rewrites them):\n%s", firstDifference(string(text), got))
			}
			again := New()
			one, two := replay(New(), events), replay(again, events)
			if !bytes.Equal(one, two) {
				t.Error("the same events gave different decisions")
			}
		})
	}
}

func firstDifference(want, got string) string {
	w, g := strings.Split(want, "\n"), strings.Split(got, "\n")
	for i := range min(len(w), len(g)) {
		if w[i] != g[i] {
			return fmt.Sprintf("line %d\nwant %s\n got %s", i+1, w[i], g[i])
		}
	}
	return fmt.Sprintf("%d lines instead of %d", len(g), len(w))
}

// replay returns the decisions that events lead to, as bytes.
func replay(e *Engine, events []Event) []byte {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	for _, ev := range events {
		for _, d := range e.Handle(ev) {
			enc.Encode(d)
		}
	}
	return b.Bytes()
}

func BenchmarkTick(b *testing.B) {
	e := New()
	s := &script{t: &testing.T{}, engine: e, takes: map[string]time.Duration{}, ends: map[int64]calendar.Instant{}}
	for i := range 1000 {
		s.define(fmt.Sprintf("gate-%d", i), fmt.Sprintf("opens = [\"every %dm from 00:00 to 23:59\"]\n[rules]\nbusy = \"beside\"", 5+i%50))
	}
	e.Handle(Event{Kind: Begin, At: s.instant("08:00"), Memory: &Memory{NextRun: 1}, Set: s.pending})
	b.ReportAllocs()
	for b.Loop() {
		at, _ := e.Wake()
		for _, d := range e.Handle(Event{Kind: Tick, At: at}) {
			e.Handle(Event{Kind: Ended, At: at, Run: d.Run})
		}
	}
}
