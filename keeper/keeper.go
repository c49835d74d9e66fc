// Package keeper is the resident process: it watches the moments through a
// workstation, lets the engine decide, commits what it decided to the
// journal and then does it.
//
// One goroutine, that of [Keeper.Run], owns the engine, the processes and the
// journal. All else sends it events.
package keeper

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"runtime/debug"
	"slices"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/journal"
	"timegate/workstation"
)

// Options are what a keeper is made of.
type Options struct {
	Home        Home
	Workstation workstation.Workstation
	Log         *slog.Logger // nil for none
	// Observe is called after each event that led to something, on the
	// keeper's goroutine.
	Observe func(engine.Event, []engine.Decision)
	// Ready is called once the keeper answers on its socket.
	Ready func()
}

// Keeper is a keeper at work.
type Keeper struct {
	home    Home
	ws      workstation.Workstation
	log     *slog.Logger
	observe func(engine.Event, []engine.Decision)
	ready   func()

	events chan engine.Event // ends of runs
	calls  chan func()       // from the control socket
	gone   chan struct{}     // closed when Run returns

	// What follows belongs to the goroutine of Run.
	journal *journal.Journal
	engine  *engine.Engine
	files   map[string]File // the last good version of each gate
	broken  map[string]gate.Findings
	procs   map[int64]workstation.Process
	began   time.Time
	wake    time.Time
	hearing hearing
	pace    engine.Pace
	outputs time.Duration // how long they are kept; 0 for ever
	tidied  time.Time
}

// New returns a keeper that [Keeper.Run] sets to work.
func New(o Options) *Keeper {
	k := &Keeper{
		home: o.Home, ws: o.Workstation, log: o.Log, observe: o.Observe, ready: o.Ready,
		events: make(chan engine.Event), calls: make(chan func()), gone: make(chan struct{}),
		engine: engine.New(), files: map[string]File{}, broken: map[string]gate.Findings{}, procs: map[int64]workstation.Process{},
	}
	if k.log == nil {
		k.log = slog.New(slog.DiscardHandler)
	}
	return k
}

// Run keeps the gates until the context ends. Programs that then run go on;
// the next keeper watches them further.
func (k *Keeper) Run(ctx context.Context) error {
	defer close(k.gone)
	if err := k.home.Prepare(); err != nil {
		return err
	}
	unlock, err := takeLock(k.home.lock())
	if err != nil {
		return err
	}
	defer unlock()
	if k.journal, err = journal.Open(k.home.Journal()); err != nil {
		return err
	}
	defer k.journal.Close()
	watch, err := watchFolder(k.home.Gates)
	if err != nil {
		return err
	}
	defer watch.close()
	control, err := k.listen()
	if err != nil {
		return err
	}
	defer control.close()
	k.began = k.ws.Now()
	if err := k.begin(); err != nil {
		return err
	}
	if k.ready != nil {
		k.ready()
	}
	return k.loop(ctx, watch)
}

func (k *Keeper) loop(ctx context.Context, watch *folderWatch) error {
	for {
		k.setAlarm()
		k.setWake()
		select {
		case <-ctx.Done():
			k.log.Info("keeper ends", "programs_running", k.engine.Alive())
			k.record(engine.Event{Kind: engine.Rest, At: k.decided()})
			return nil
		case w := <-k.ws.Wakes():
			k.wake = time.Time{}
			ev := k.woken(w)
			k.handle(ev)
			if w.Asleep > 0 {
				k.record(engine.Event{Kind: engine.Asleep, At: ev.At, By: calendar.Instant(w.Asleep.Milliseconds())})
			}
		case n := <-k.ws.Notices():
			k.hear(n)
		case <-k.calming():
			k.look()
		case ev := <-k.events:
			k.over(ev)
		case call := <-k.calls:
			call()
		case <-watch.changed:
			if err := k.reload(); err != nil {
				k.log.Error("the gates cannot be read; the last good ones go on", "error", err)
			}
		}
	}
}

// record keeps an event from which nothing follows. It must not be later than
// what has been decided.
func (k *Keeper) record(ev engine.Event) {
	if err := k.journal.Write(journal.Record{Event: ev}); err != nil {
		k.log.Error("the journal cannot be written", "error", err)
	}
}

// decided is the instant up to which all has been decided.
func (k *Keeper) decided() calendar.Instant {
	if next, ok := k.engine.Wake(); ok {
		return min(k.now(), next-1)
	}
	return k.now()
}

func (k *Keeper) now() calendar.Instant { return calendar.InstantOf(k.ws.Now()) }

// setWake asks the workstation for the engine's next tick.
func (k *Keeper) setWake() {
	var at time.Time
	if next, ok := k.engine.Wake(); ok {
		at = next.Time()
	}
	if !at.Equal(k.wake) || k.ws.Staged() {
		k.ws.SetWake(at)
		k.wake = at
	}
}

// begin reads the gates, tells the engine what was before and finds programs
// that still run.
func (k *Keeper) begin() error {
	boot := k.ws.BootID()
	memory, err := k.journal.Memory(boot)
	if err != nil {
		return err
	}
	files, err := ReadFolder(k.home, Env(k.ws.Zone(), k.ws.Host()))
	if err != nil {
		return err
	}
	ev := engine.Event{Kind: engine.Begin, Memory: memory, Host: k.ws.Host()}
	texts := k.take(files, &ev)
	k.watch()
	settings, err := ReadSettings(k.home.Settings())
	if err != nil {
		return err
	}
	k.pace, k.outputs = settings.Pace, settings.Outputs
	k.samplePressure()
	ev.At, ev.Pace, ev.Facts = k.now(), &k.pace, k.facts(k.ws.Facts())
	newBoot := memory.Booted == 0
	k.handleWith(ev, journal.Record{Texts: texts})
	for _, rm := range memory.Running {
		k.adopt(rm)
	}
	if newBoot {
		k.handleWith(engine.Event{Kind: engine.Boot, At: k.now()}, journal.Record{BootID: boot})
	}
	k.tidy()
	debug.FreeOSMemory() // what was needed to read many gates at once
	k.log.Info("keeper began", "gates", len(k.files), "broken", len(k.broken), "programs_found", len(k.procs), "staged", k.ws.Staged())
	return nil
}

// adopt goes on watching a program that an earlier keeper started.
func (k *Keeper) adopt(rm engine.RunMemory) {
	g := gate.Default(rm.Gate)
	if f, ok := k.files[rm.Gate]; ok {
		g = f.Gate
	}
	o := workstation.Order{Run: rm.Run, Mark: mark(k.home, rm.Run), Output: workstation.Output{Path: k.home.Output(rm.Run), Keep: g.Limits.Output}}
	o.Done = k.done(rm.Run)
	p := k.ws.Adopt(o, rm.PID)
	if p == nil {
		k.handle(engine.Event{Kind: engine.Lost, At: k.now(), Run: rm.Run, Detail: "it ended while no keeper ran, so how it ended is not known"})
		return
	}
	k.procs[rm.Run] = p
	if rm.PID == 0 {
		k.handle(engine.Event{Kind: engine.Started, At: k.now(), Run: rm.Run, PID: p.PID()})
	}
}

// done reports the end of a run to the keeper's goroutine.
func (k *Keeper) done(run int64) func(workstation.Exit) {
	return func(x workstation.Exit) {
		ev := engine.Event{Kind: engine.Ended, At: k.now(), Run: run, Exit: x.Status, Signal: x.Signal, Usage: &x.Usage}
		if x.Lost {
			ev.Kind, ev.Detail = engine.Lost, "it outlived the keeper that started it, and this system does not tell how it ended"
		}
		select {
		case k.events <- ev:
		case <-k.gone: // the next keeper will find it ended
		}
	}
}

// take compares files with what is known, notes the broken ones, and fills in
// what the engine must hear. It returns the texts to be recorded.
func (k *Keeper) take(files []File, ev *engine.Event) map[string]string {
	texts := map[string]string{}
	present := map[string]bool{}
	clear(k.broken)
	for _, f := range files {
		present[f.Name] = true
		if f.Gate == nil {
			k.broken[f.Name] = f.Findings.Errors()
			continue
		}
		if k.files[f.Name].Version == f.Version {
			continue
		}
		texts[f.Version] = f.Text
		f.Text = "" // the journal has it
		k.files[f.Name] = f
		ev.Set = append(ev.Set, engine.Definition{Name: f.Name, Version: f.Version, Gate: f.Gate})
	}
	for name := range k.files {
		if !present[name] {
			delete(k.files, name)
			ev.Removed = append(ev.Removed, name)
		}
	}
	return texts
}

// reload reads the folder anew.
func (k *Keeper) reload() error {
	files, err := ReadFolder(k.home, Env(k.ws.Zone(), k.ws.Host()))
	if err != nil {
		return err
	}
	ev := engine.Event{Kind: engine.Gates, At: k.now()}
	texts := k.take(files, &ev)
	for name, found := range k.broken {
		k.log.Warn("a gate file is wrong; its last good version goes on", "gate", name, "error", found.Error())
	}
	k.reloadSettings()
	if len(ev.Set)+len(ev.Removed) > 0 {
		k.log.Info("gates changed", "set", len(ev.Set), "removed", len(ev.Removed))
		k.watch()
		ev.Facts = k.facts(k.ws.Facts())
		k.handleWith(ev, journal.Record{Texts: texts})
	}
	return nil
}

// reloadSettings reads the settings anew. Where they are wrong, the last good
// ones go on.
func (k *Keeper) reloadSettings() {
	settings, err := ReadSettings(k.home.Settings())
	if err != nil {
		k.log.Warn("the settings are wrong; the last good ones go on", "error", err)
		return
	}
	k.outputs = settings.Outputs
	if settings.Pace != k.pace {
		k.pace = settings.Pace
		k.handle(engine.Event{Kind: engine.Paced, At: k.now(), Pace: &settings.Pace})
	}
}

func (k *Keeper) handle(ev engine.Event) []engine.Decision {
	return k.handleWith(ev, journal.Record{})
}

// handleWith lets the engine decide about an event, commits that, and does
// it; what comes of doing it is handled in turn.
func (k *Keeper) handleWith(ev engine.Event, rec journal.Record) []engine.Decision {
	var all []engine.Decision
	for events := []engine.Event{ev}; len(events) > 0; {
		var records []journal.Record
		for _, ev := range events {
			rec.Event, rec.Decisions = ev, k.engine.Handle(ev)
			rec.Programs = k.programs(rec.Decisions)
			if recorded(&rec.Event, rec.Decisions) {
				records = append(records, rec)
			}
			rec = journal.Record{}
		}
		events = nil
		err := k.journal.Write(records...)
		if err != nil {
			k.log.Error("the journal cannot be written; nothing is started", "error", err)
		}
		for _, r := range records {
			all = append(all, r.Decisions...)
			for i := range r.Decisions {
				if follow, ok := k.carryOut(&r.Decisions[i], err); ok {
					events = append(events, follow)
				}
			}
			if k.observe != nil {
				k.observe(r.Event, r.Decisions)
			}
		}
	}
	return all
}

// programs tells what the gates that something was decided about start.
func (k *Keeper) programs(decisions []engine.Decision) map[string]journal.Program {
	out := map[string]journal.Program{}
	for _, d := range decisions {
		if f, ok := k.files[d.Gate]; ok {
			out[d.Gate] = journal.Program{Command: f.Gate.Run, Account: AccountName(f.Gate)}
		}
	}
	return out
}

// carryOut does what was decided. Where that leads to an event, it is
// returned.
func (k *Keeper) carryOut(d *engine.Decision, unrecorded error) (engine.Event, bool) {
	switch {
	case d.Starts() && unrecorded != nil:
		return engine.Event{Kind: engine.Failed, At: k.now(), Run: d.Run, Detail: "the journal cannot be written: " + unrecorded.Error()}, true
	case d.Starts():
		return k.start(d)
	case d.Kind == engine.Halt:
		if p := k.procs[d.Run]; p != nil {
			if err := p.End(d.Signal); err != nil {
				k.log.Error("a program could not be ended", "gate", d.Gate, "run", d.Run, "error", err)
			}
		}
	}
	return engine.Event{}, false
}

// over takes that a run has ended.
func (k *Keeper) over(ev engine.Event) {
	delete(k.procs, ev.Run)
	os.Remove(k.home.changedFiles(ev.Run)) // there only where something had changed
	if f, ok := k.files[k.engine.GateOf(ev.Run)]; ok {
		ev.Readings = k.readings(f.Gate)
	}
	k.handle(ev)
	k.settle(ev.Run)
	k.tidy()
}

// readings takes what a gate wants to be measured before and after a run.
func (k *Keeper) readings(g *gate.Gate) map[string]int64 {
	out := map[string]int64{}
	for _, name := range g.Only.Readings {
		n, err := k.ws.Reading(name)
		if err != nil {
			k.log.Warn("a reading cannot be taken", "gate", g.Name, "reading", name, "error", err)
			continue
		}
		out[name] = n
	}
	return out
}

// mark is what a run's processes carry in their environment: the run and the
// home it belongs to.
func mark(h Home, run int64) string {
	sum := sha256.Sum256([]byte(h.State))
	return fmt.Sprintf("%s-%d", hex.EncodeToString(sum[:6]), run)
}

func sortedNames(files map[string]File) []string { return slices.Sorted(maps.Keys(files)) }

var errGone = errors.New("the keeper is ending")
