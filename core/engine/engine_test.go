package engine_test

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
	. "timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/words"
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
// starts after the time that "takes GATE SPAN" gave it. "restart" ends the
// keeper where the script is and lets the next one begin at its time, with
// what was kept of the state; "forget GATE" takes a gate's file away before.
//
// Before each event the state is written, read and restored: the engine that
// comes of it must decide the same, and come to the same state.
type script struct {
	account  string // whose logons are meant where a phrase names nobody
	t        *testing.T
	engine   *Engine
	now      calendar.Instant
	boot     string
	host     string
	pace     Pace
	defs     map[string]Definition // in force
	ever     map[string]Definition // and those that were removed
	pending  []Definition
	takes    map[string]time.Duration
	ends     map[int64]calendar.Instant
	recorded []Event // that have changed something
	decided  bytes.Buffer
	facts    Facts
	out      strings.Builder
}

func newScript(t *testing.T) *script {
	return &script{t: t, engine: New(), boot: "first", defs: map[string]Definition{}, ever: map[string]Definition{}, takes: map[string]time.Duration{}, ends: map[int64]calendar.Instant{}}
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
	if d.Kind == Release {
		return fmt.Sprintf("> %s release: %s", stamp(d.At), words.Reason(d.Reason))
	}
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
	s = fmt.Sprintf("%s, due %s: %s", s, stamp(d.Due), words.Reason(d.Reason))
	if d.Rule != "" {
		s += " [" + d.Rule + "]"
	}
	return s
}

// send hands an event to the engine, and to one that was restored from what
// is kept of it.
func (s *script) send(at calendar.Instant, body Body) {
	s.t.Helper()
	ev := Event{At: at, Body: body}
	twin := s.restored(slices.Collect(maps.Values(s.ever)))
	s.now = max(s.now, at)
	decisions := s.engine.Handle(ev)
	if _, begins := body.(*Begin); !begins {
		if again := twin.Handle(ev); text(again) != text(decisions) || text(twin.Snapshot()) != text(s.engine.Snapshot()) {
			s.t.Errorf("%s %s: restored, the engine decides\n%s\n%s\nand else\n%s\n%s", stamp(at), body.Kind(), text(again), text(twin.Snapshot()), text(decisions), text(s.engine.Snapshot()))
		}
	}
	if s.engine.Changed() {
		s.recorded = append(s.recorded, ev)
		s.decided.WriteString(text(decisions))
	}
	for _, d := range decisions {
		fmt.Fprintln(&s.out, describe(d))
		if took, ok := s.takes[d.Gate]; ok && d.Starts() {
			s.ends[d.Run] = at.Add(took)
		}
	}
}

// restored returns an engine with what is kept of the state.
func (s *script) restored(defs []Definition) *Engine {
	var state State
	if err := json.Unmarshal([]byte(text(s.engine.Snapshot())), &state); err != nil {
		s.t.Fatal(err)
	}
	e, err := Restore(state, defs)
	if err != nil {
		s.t.Fatal(err)
	}
	return e
}

func text(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return string(b)
}

// until plays the time up to and including an instant.
func (s *script) until(to calendar.Instant) {
	for {
		at, ok := s.engine.Wake()
		var body Body = &Tick{}
		var over int64
		for _, run := range slices.Sorted(maps.Keys(s.ends)) {
			if end := s.ends[run]; !ok || end < at {
				at, body, over, ok = end, &RunEnded{Run: run, EndedAt: end}, run, true
			}
		}
		if !ok || at > to {
			s.now = max(s.now, to)
			return
		}
		delete(s.ends, over)
		s.send(at, body)
	}
}

func (s *script) span(text string) time.Duration {
	s.t.Helper()
	d, err := phrase.ParseSpan(strings.TrimLeft(text, "-"))
	if err != nil {
		s.t.Fatal(err)
	}
	if strings.HasPrefix(text, "-") {
		return -d
	}
	return d
}

func (s *script) line(line string) {
	fields := strings.Fields(line)
	switch fields[0] {
	case "takes":
		s.takes[fields[1]] = s.span(fields[2])
	case "until":
		s.until(s.instant(fields[1]))
	case "forget":
		delete(s.defs, fields[1])
	default:
		at := s.instant(fields[0])
		switch verb, args := fields[1], fields[2:]; verb {
		case "begin":
			s.begin(at, args)
		case "restart":
			s.engine = s.restored(nil)
			s.begin(at, args)
		case "gates":
			set := s.take()
			for _, name := range args {
				delete(s.defs, name)
			}
			s.send(at, &GatesChanged{Set: set, Removed: args})
		default:
			s.send(at, s.body(verb, args))
		}
	}
}

// take returns the gates that were written since they were last taken.
func (s *script) take() []Definition {
	set := s.pending
	s.pending = nil
	for _, d := range set {
		s.defs[d.Name], s.ever[d.Name] = d, d
	}
	return set
}

// begin reads "host=", "boot=", "uptime=", "pending", "lost=1,2", "gone" and facts.
func (s *script) begin(at calendar.Instant, args []string) {
	s.take()
	b := &Begin{Pace: s.pace}
	var facts []string
	for _, arg := range args {
		name, value, _ := strings.Cut(arg, "=")
		switch name {
		case "host":
			s.host = value
		case "boot":
			s.boot = value
		case "pending":
			b.Pending = true
		case "uptime":
			b.Uptime = s.span(value).Milliseconds()
		case "lost":
			for id := range strings.SplitSeq(value, ",") {
				run, _ := strconv.ParseInt(id, 10, 64)
				b.Lost = append(b.Lost, run)
				delete(s.ends, run)
			}
		default:
			facts = append(facts, arg)
		}
	}
	b.Environment, b.BootID, b.Facts = Environment{Zone: "UTC", Scope: gate.User, Host: s.host}, s.boot, *s.present(facts)
	for _, name := range slices.Sorted(maps.Keys(s.defs)) {
		b.Gates = append(b.Gates, s.defs[name])
	}
	for _, name := range slices.Sorted(maps.Keys(s.ever)) {
		if _, here := s.defs[name]; !here {
			b.Gone = append(b.Gone, s.ever[name])
		}
	}
	s.send(at, b)
}

// define reads a gate from indented TOML.
func (s *script) define(name, text string) {
	if !strings.Contains(text, "run =") {
		text = "run = [\"/opt/larkspur/bin/" + name + "\"]\n" + text
	}
	g, found := gate.Read(name, name+".toml", []byte(text), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: calendar.UTC, Account: s.account}})
	if g == nil {
		s.t.Fatal(found)
	}
	s.pending = append(s.pending, Definition{Name: name, Version: text, Gate: g})
}

// play runs a script and returns it with the decisions that were made.
func play(t *testing.T, text string) (string, *script) {
	s := newScript(t)
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		if strings.HasPrefix(line, ">") {
			continue
		}
		fmt.Fprintln(&s.out, line)
		if name, ok := strings.CutPrefix(line, "account "); ok {
			s.account = name
			continue
		}
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
	return s.out.String(), s
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
			got, s := play(t, string(text))
			if *update {
				if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
			} else if got != string(text) {
				t.Errorf("decisions differ (-update rewrites them):\n%s", firstDifference(string(text), got))
			}
			// The events that changed something give the same decisions alone.
			if again := decide(New(), s.recorded); again != s.decided.String() {
				t.Errorf("what was recorded gives other decisions:\n%s", firstDifference(s.decided.String(), again))
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

// decide returns the decisions that events lead to, as text.
func decide(e *Engine, events []Event) string {
	var b strings.Builder
	for _, ev := range events {
		b.WriteString(text(e.Handle(ev)))
	}
	return b.String()
}

// TestOverranMeanwhile: what was ended for taking too long while no keeper ran has overran.
func TestOverranMeanwhile(t *testing.T) {
	s := newScript(t)
	s.define("glue-warm", "opens = [\"every 10m\"]\n[limits]\nlongest = \"4s\"\n")
	at := s.instant("08:00")
	s.engine.Handle(Event{At: at, Body: &Begin{Gates: s.pending}})
	s.engine.Handle(Event{At: at.Add(10 * time.Minute), Body: &Tick{}})
	got := s.engine.Handle(Event{At: at.Add(11 * time.Minute), Body: &Begin{Gates: s.pending, Ended: []RunEnded{{Run: 1, Signal: "TERM", Overran: true}}}})
	if len(got) == 0 || got[0].Result != ResultOverran || got[0].Code != CodeLongest || got[0].Args.Span != Span(4*time.Second) {
		t.Errorf("decided %+v", got)
	}
}

func BenchmarkTick(b *testing.B) {
	s := newScript(&testing.T{})
	for i := range 1000 {
		s.define(fmt.Sprintf("gate-%d", i), fmt.Sprintf("opens = [\"every %dm from 00:00 to 23:59\"]\n[rules]\nbusy = \"beside\"", 5+i%50))
	}
	e := s.engine
	e.Handle(Event{At: s.instant("08:00"), Body: &Begin{Gates: s.pending}})
	b.ReportAllocs()
	for b.Loop() {
		at, _ := e.Wake()
		for _, d := range e.Handle(Event{At: at, Body: &Tick{}}) {
			e.Handle(Event{At: at, Body: &RunEnded{Run: d.Run}})
		}
		e.Delta()
	}
}
