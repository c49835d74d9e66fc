package rehearsal

import (
	"container/heap"
	"context"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// Setup is what a day is played through.
type Setup struct {
	Environment engine.Environment
	Gates       []engine.Definition
	Pace        engine.Pace
	// Usual is how long a program takes of which the day does not say it; 0 is not known.
	Usual func(gate string) time.Duration
	// State is what a keeper's engine knows, to begin with; its version is 0 for nothing.
	State engine.State
	// Progress is told how far it is, from 0 to 1; it may be nil.
	Progress func(share float64)
	// Most is how many decisions are kept at most; 0 is all.
	Most int
	// Tell is told each decision; it may be nil. The decision is the engine's: it is to be
	// copied where it is kept.
	Tell func(*engine.Decision, *State)

	heard func(engine.Event) // is told what the engine is told; for tests
}

// unknownTakes is how long a program takes of which nothing is known.
const unknownTakes = time.Second

// toEnd is how long a program takes to end that is asked to, ms. What happens at the same
// moment finds it still running.
const toEnd = 1

// Play plays a day. Its error is the context's, or that of a state that cannot be restored.
func Play(ctx context.Context, d *Day, s Setup) (*Played, error) {
	w := newWorld(ctx, d, s, engine.New())
	var gates []*gate.Gate
	for _, def := range s.Gates {
		gates = append(gates, def.Gate)
	}
	w.wants = engine.WantsOf(gates, d.Host)
	if err := w.begin(); err != nil {
		return nil, err
	}
	for i := range d.Events {
		e := &d.Events[i]
		w.index = i
		if err := w.advance(e.At - 1); err != nil { // what happens comes before what is due then
			return nil, err
		}
		w.now = e.At
		w.happen(e)
	}
	if err := w.advance(d.To); err != nil {
		return nil, err
	}
	return w.end(), nil
}

// world is the machine of a day, on a clock of its own.
type world struct {
	ctx    context.Context
	day    *Day
	setup  Setup
	wants  engine.Wants
	engine *engine.Engine
	book   *book
	// Room that is used again, for decisions and for what happens most.
	spare   [][]engine.Decision
	tick    engine.Tick
	started engine.RunStarted
	ended   engine.RunEnded

	now   calendar.Instant
	index int // of the event that happens
	facts engine.Facts
	off   bool
	sleep calendar.Instant // since when it sleeps; 0 while it does not
	down  string           // what the machine waits to do: sleep or shutdown
	boots int

	ends   ends // of programs
	levels map[string]*phrase.Level
	// Of what was recorded: how runs went, and when the machine slept.
	courses map[string][]*course
	asleep  []calendar.Instant
	dozes   bool // it sleeps now

	told int // how many steps were made since progress was told
}

func newWorld(ctx context.Context, d *Day, s Setup, e *engine.Engine) *world {
	w := &world{day: d, setup: s, ctx: ctx, engine: e, book: newBook(d, &s), now: d.From, levels: map[string]*phrase.Level{}}
	w.mark(w.now)
	return w
}

// end ends the day.
func (w *world) end() *Played {
	w.mark(w.day.To)
	return w.book.close()
}

// end is the end of a program that is to come.
type end struct {
	at     calendar.Instant
	run    int64
	exit   int
	signal string
}

type ends []end

func (e ends) Len() int { return len(e) }
func (e ends) Less(i, j int) bool {
	return e[i].at < e[j].at || e[i].at == e[j].at && e[i].run < e[j].run
}
func (e ends) Swap(i, j int) { e[i], e[j] = e[j], e[i] }
func (e *ends) Push(x any)   { *e = append(*e, x.(end)) }
func (e *ends) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}

// begin puts the machine into the state in which the day finds it: off or asleep where
// the first that is said of that is that it boots or resumes, else on.
func (w *world) begin() error {
	missing := slices.Clone(w.day.Missing)
	for _, e := range w.day.Events {
		if e.Verb == "mount" {
			missing = append(missing, path.Clean(e.Args[0])) // it is not there before
		}
	}
	for _, p := range w.wants.Paths {
		if !slices.ContainsFunc(missing, func(m string) bool { return phrase.Within(p.Path, m) }) {
			w.facts.Paths = append(w.facts.Paths, p.Key())
		}
	}
	w.facts.Online = true
	env := w.environment()
	if w.setup.State.Version != 0 {
		if err := w.resumeState(env); err != nil {
			return err
		}
	} else {
		// A keeper that knew no gates has seen this boot: nothing opens for it.
		w.engine.Handle(engine.Event{At: w.now - 1, Body: &engine.Begin{Environment: env, BootID: w.bootID(), Pace: w.setup.Pace, Facts: w.facts.Clone()}})
		w.handle(&engine.GatesChanged{Set: w.setup.Gates})
	}
	first := slices.IndexFunc(w.day.Events, func(e Event) bool { return slices.Contains([]string{"boot", "resume", "sleep", "shutdown"}, e.Verb) })
	if first >= 0 {
		switch w.day.Events[first].Verb {
		case "boot":
			w.handle(&engine.Ended{})
			w.off = true
		case "resume":
			w.sleep = w.now
		}
	}
	w.mark(w.now)
	return nil
}

// resumeState begins with what a running keeper knows.
func (w *world) resumeState(env engine.Environment) error {
	e, err := engine.Restore(w.setup.State, nil) // the gates come with the beginning
	if err != nil {
		return err
	}
	w.engine = e
	w.facts = w.setup.State.Machine.Facts.Clone()
	w.handle(&engine.Begin{Environment: env, BootID: w.setup.State.Machine.BootID, Pace: w.setup.Pace, Gates: w.setup.Gates, Facts: w.facts.Clone()})
	for _, r := range w.engine.AliveRuns() {
		w.book.started(Run{Run: r.ID, Gate: r.Gate, Started: w.now, Result: engine.ResultRunning})
		w.schedule(r.ID, r.Gate)
	}
	return nil
}

func (w *world) environment() engine.Environment {
	env := w.setup.Environment
	env.Zone, env.Host = w.day.Zone.Name(), w.day.Host
	return env
}

func (w *world) bootID() string { return "rehearsed-" + strconv.Itoa(w.boots) }

// handle tells the engine something, and does what it decides.
func (w *world) handle(body engine.Body) {
	var room []engine.Decision
	if n := len(w.spare); n > 0 {
		room, w.spare = w.spare[n-1][:0], w.spare[:n-1]
	}
	ev := engine.Event{At: w.now, Body: body}
	if w.setup.heard != nil {
		w.setup.heard(ev)
	}
	decisions := w.engine.Append(room, ev)
	for i := range decisions {
		w.do(&decisions[i])
	}
	w.spare = append(w.spare, decisions)
}

// do does what was decided.
func (w *world) do(d *engine.Decision) {
	if d.Kind != engine.Release {
		w.book.decided(d)
	}
	switch {
	case d.Starts():
		w.book.started(Run{Run: d.Run, Gate: d.Gate, Opening: d.Opening, Started: d.At, Result: engine.ResultRunning})
		if c := w.nearest(d.Gate); c != nil && c.instead != nil {
			w.failAs(d.Run, c.instead)
			return
		}
		w.schedule(d.Run, d.Gate)
		w.started = engine.RunStarted{Run: d.Run, PID: 1}
		w.handle(&w.started)
	case d.Kind == engine.StopRun:
		if i := slices.IndexFunc(w.ends, func(e end) bool { return e.run == d.Run }); i >= 0 {
			w.ends[i].at, w.ends[i].signal = w.now+toEnd, d.Signal
			heap.Init(&w.ends)
		} else { // of which nothing says when it would end
			heap.Push(&w.ends, end{at: w.now + toEnd, run: d.Run, signal: d.Signal})
		}
	case d.Kind == engine.End, d.Kind == engine.Refuse:
		w.book.ended(d.Run, d.At, d.Result)
	case d.Kind == engine.Release:
		w.released()
	}
}

// failAs lets a start fail as a recorded one did.
func (w *world) failAs(run int64, body engine.Body) {
	switch b := body.(type) {
	case *engine.StartFailed:
		w.handle(&engine.StartFailed{Run: run, Detail: b.Detail})
	case *engine.StartUnsafe:
		w.handle(&engine.StartUnsafe{Run: run, Hazard: b.Hazard})
	}
}

// schedule says when a run will end.
func (w *world) schedule(run int64, name string) {
	if c := w.nearest(name); c != nil {
		if c.ended != nil && !c.cut {
			heap.Push(&w.ends, end{at: w.now + c.took, run: run, exit: c.ended.Exit, signal: c.ended.Signal})
		}
		return // else it did not end, as far as was recorded
	}
	list := w.day.Takes[name]
	o, l := Outcome{}, w.book.lane(name)
	switch n := l.begun; {
	case len(list) > 0:
		o = list[min(n, len(list)-1)]
	default:
		if w.setup.Usual != nil {
			o.Takes = w.setup.Usual(name)
		}
		if o.Takes == 0 {
			o.Takes, l.guessed = unknownTakes, true
		}
	}
	l.begun++
	heap.Push(&w.ends, end{at: w.now.Add(o.Takes), run: run, exit: o.Exit})
}

// progressSteps is after how many steps progress is told, and the context asked.
const progressSteps = 1024

// advance lets time pass until an instant, which an event has.
func (w *world) advance(until calendar.Instant) error {
	for {
		if w.told++; w.told%progressSteps == 0 {
			if err := w.ctx.Err(); err != nil {
				return err
			}
			if w.setup.Progress != nil {
				w.setup.Progress(float64(w.now.Sub(w.day.From)) / float64(w.day.To.Sub(w.day.From)))
			}
		}
		at, tick, ok := w.next()
		if !ok || at > until {
			w.now = until
			return nil
		}
		w.now = max(w.now, at)
		switch {
		case w.sleep != 0: // its alarm rings
			w.awake()
		case tick:
			w.handle(&w.tick)
		default:
			e := heap.Pop(&w.ends).(end)
			w.ended = engine.RunEnded{Run: e.run, EndedAt: w.now, Exit: e.exit, Signal: e.signal}
			w.handle(&w.ended)
		}
	}
}

// next returns the next instant at which something comes by itself: the end of a program
// before a tick. Of a machine that sleeps it is its alarm, of one that is off nothing.
func (w *world) next() (at calendar.Instant, tick, ok bool) {
	switch {
	case w.off:
		return 0, false, false
	case w.sleep != 0:
		at, ok = w.engine.Alarm()
		return at, false, ok && at >= w.now
	}
	wake, wakes := w.engine.Wake()
	for i := 0; i < len(w.asleep); i += 2 { // it could not be told before it was awake
		if wake >= w.asleep[i] && wake < w.asleep[i+1] {
			wake = w.asleep[i+1]
		}
	}
	if len(w.ends) > 0 && (!wakes || w.ends[0].at <= wake) {
		return w.ends[0].at, false, true
	}
	return wake, true, wakes
}

// mark ends the state of the machine that has held, and begins the next.
func (w *world) mark(at calendar.Instant) {
	s := State{From: at, To: at, Off: w.off, Asleep: w.sleep != 0 || w.dozes, OnBattery: w.facts.OnBattery}
	for _, p := range w.facts.People {
		s.People = append(s.People, p.Account)
	}
	states := w.book.out.States
	if n := len(states); n > 0 {
		last := &states[n-1]
		last.To = at
		if last.Off == s.Off && last.Asleep == s.Asleep && last.OnBattery == s.OnBattery && slices.Equal(last.People, s.People) {
			return
		}
		if last.From == last.To {
			*last = s
			return
		}
	}
	w.book.out.States = append(states, s)
}

// Text says what holds on the machine.
func (s *State) Text() string {
	switch {
	case s.Off:
		return "off"
	case s.Asleep:
		return "asleep"
	}
	text := "on mains"
	if s.OnBattery {
		text = "on battery"
	}
	if len(s.People) > 0 {
		text += fmt.Sprintf(", %s logged on", strings.Join(s.People, ", "))
	}
	return text
}

// Lacks returns the first need of a gate that does not hold, or nil, as far as the state
// tells: what it does not tell of holds.
func (s *State) Lacks(g *gate.Gate, at calendar.Instant) *engine.Need {
	f := bestFacts(g, "", at)
	f.OnBattery, f.People, f.Desktops = s.OnBattery, nil, slices.Clone(s.People)
	if len(s.People) > 0 {
		f.Desktops = append(f.Desktops, "") // in the user scope it is whoever is there
	}
	for _, name := range s.People {
		f.People = append(f.People, engine.Person{Account: name})
	}
	return f.Lacks(g, at)
}
