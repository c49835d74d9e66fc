// Package keeper is the resident process: it watches the moments through a
// workstation, lets the engine decide, commits what it decided to the
// journal and then does it.
//
// One goroutine, that of [Keeper.Run], owns the engine and the journal, and it
// alone stamps events. It waits for nobody: whatever may block is done by a
// worker with a deadline, and what comes of it arrives in the inbox.
package keeper

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"timegate/agent"
	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/home"
	"timegate/journal"
	"timegate/tell"
	"timegate/workstation"
)

// Options are what a keeper is made of.
type Options struct {
	Home        home.Home
	Workstation workstation.Workstation
	Log         *slog.Logger // nil for none
	// Observe is called after each event that led to something, on the
	// keeper's goroutine.
	Observe func(engine.Event, []engine.Decision)
	// Ready is called once the keeper answers on its socket.
	Ready func()
	// Version is the program's, which the status tells.
	Version string
	// Turned is called every Turns on the keeper's goroutine, which shows that
	// it goes on; 0 for never.
	Turns  time.Duration
	Turned func()
	// Settle waits until the machine is calm after a boot or a logon; nil where that
	// is not to be known.
	Settle func(ctx context.Context, boot bool) (workstation.Strain, error)
	// Startup looks at what else starts on the machine, where the settings want it; nil
	// for never.
	Startup *StartupLook
	// Telling is how people are told of what is not well; nil for never.
	Telling *Telling
	// SetAside says that a journal that is damaged is moved aside, and what can
	// be read of it is taken over into a new one.
	SetAside bool
}

// Keeper is a keeper at work.
type Keeper struct {
	home     home.Home
	ws       workstation.Workstation
	crew     *agent.Crew
	log      *slog.Logger
	observe  func(engine.Event, []engine.Decision)
	ready    func()
	turns    time.Duration
	turned   func()
	setAside bool
	settle   func(context.Context, bool) (workstation.Strain, error)
	startup  *StartupLook
	telling  *Telling

	startupQuiet time.Duration

	inbox chan input    // from workers and from the control socket
	gone  chan struct{} // closed when nothing is taken any more
	hub   *control.Hub

	// What follows belongs to the goroutine of Run.
	journal      *journal.Journal
	folder       *folderWatch
	startups     *folderWatch // of what else starts here; nil for not watched
	teller       *tell.Teller // nil where nobody is told
	tellBy       home.Tell    // how it tells
	tellEnd      func()
	endLoop      context.CancelFunc
	again        bool // the program is to begin anew
	engine       *engine.Engine
	wantedPlaces []workstation.Place // of a staged machine, which says of some whether they are there
	ahead        time.Duration       // of the wall clock to the uptime
	files        map[string]gates.File
	broken       map[string]gate.Findings
	settings     home.Settings
	patience     time.Duration // with a start that does not come back
	version      string
	began        time.Time
	wake         time.Time
	alarm        time.Time
	release      func() // lets the machine sleep or shut down; nil where it does not wait
	troubled     map[workstation.Trouble]bool
	programs     programs
	settling     map[phrase.EventKind]bool // somebody waits until the machine is calm after it
	recorder     recorder
	reloads      reloads
	chores       chores
	reserved     int64 // numbers of runs below this may be given
}

// input is what arrives in the inbox: an event's body, or something to be done
// on the keeper's goroutine.
type input struct {
	body  engine.Body
	texts map[string]string // that the event brings
	then  func([]engine.Decision)
	do    func()
	found int64 // a run of an earlier keeper that goes on
	more  bool  // that the run has ended comes next
}

// New returns a keeper that [Keeper.Run] sets to work.
func New(o Options) *Keeper {
	k := &Keeper{
		home: o.Home, ws: o.Workstation, version: o.Version, log: o.Log, observe: o.Observe, ready: o.Ready, turns: o.Turns, turned: o.Turned, setAside: o.SetAside, settle: o.Settle, startup: o.Startup, telling: o.Telling, startupQuiet: startupQuiet,
		inbox: make(chan input, 64), gone: make(chan struct{}), hub: control.NewHub(),
		patience: startPatience, settling: map[phrase.EventKind]bool{}, files: map[string]gates.File{}, broken: map[string]gate.Findings{},
		programs: programs{running: map[int64]*program{}, late: map[string]int{}, asked: map[int64]func([]engine.Decision){}},
	}
	if k.log == nil {
		k.log = slog.New(slog.DiscardHandler)
	}
	return k
}

// Run keeps the gates until the context ends. Programs that then run go on;
// the next keeper watches them further.
func (k *Keeper) Run(ctx context.Context) error {
	gone := sync.OnceFunc(func() { close(k.gone) })
	defer gone()
	shut, err := k.open()
	if err != nil {
		return err
	}
	defer shut()
	defer k.stopTelling()
	if err := k.begin(ctx); err != nil {
		return err
	}
	server, err := control.Serve(k, k.home, k.log)
	if err != nil {
		return err
	}
	defer server.Close()
	defer func() { k.startups.close() }()
	if k.ready != nil {
		k.ready()
	}
	ctx, k.endLoop = context.WithCancel(ctx)
	defer k.endLoop()
	k.loop(ctx)
	gone() // who waits for an answer is told so, before the socket goes
	if k.again {
		return ErrAgain
	}
	return nil
}

// ErrAgain is returned by [Keeper.Run] where it was asked to begin anew: a new program takes
// up what runs, and no moment is lost that is less late than [engine.Tolerance].
var ErrAgain = errors.New("the keeper is to begin anew")

// open opens what the keeper keeps for as long as it runs. shut closes it again.
func (k *Keeper) open() (shut func(), err error) {
	var closers []func()
	closeAll := func() {
		for _, c := range slices.Backward(closers) {
			c()
		}
	}
	defer func() {
		if err != nil {
			closeAll()
		}
	}()
	// What is not there yet is looked at once more when it is.
	if err := gates.Safe(k.home); err != nil {
		return nil, err
	}
	if err := k.home.Prepare(); err != nil {
		return nil, err
	}
	if err := gates.Safe(k.home); err != nil {
		return nil, err
	}
	unlock, err := k.home.Lock()
	if err != nil {
		return nil, err
	}
	closers = append(closers, unlock)
	if err := k.openJournal(); err != nil {
		return nil, err
	}
	closers = append(closers, func() { k.journal.Close() })
	unwatch, err := journal.Watch(k.home.Journal(), func() { k.post(input{do: k.doubtJournal}) })
	if err != nil {
		return nil, home.Wrap(k.home.State, err)
	}
	closers = append(closers, unwatch)
	if k.folder, err = watchFolder(k.home); err != nil {
		return nil, err
	}
	if closers = append(closers, k.folder.close); k.folder.watcher == nil {
		k.log.Warn("the kernel has no watcher of files left for this account (fs.inotify.max_user_instances): gates are looked at every few seconds", "every", lookAgain)
	}
	secret, err := k.home.Secret()
	if err != nil {
		return nil, err
	}
	k.crew = agent.NewCrew(k.home, secret, k.log, k.hear)
	closers = append(closers, k.crew.Close)
	return closeAll, nil
}

// openJournal opens the journal. One that is damaged is set aside, where that is
// wished.
func (k *Keeper) openJournal() (err error) {
	k.journal, err = journal.Open(k.home.Journal())
	if err == nil {
		if _, _, err = k.journal.State(); err == nil { // what it begins from can be read
			err = k.journal.Damage(k.setAside)
		}
		if err != nil {
			k.journal.Close()
		}
	}
	bad, is := errors.AsType[*journal.FileError](err)
	if !k.setAside || !is || !bad.Unusable {
		return err
	}
	saved, err := journal.SetAside(k.home.Journal(), k.now())
	if err != nil {
		return err
	}
	k.log.Warn("the journal could not be used, and was set aside", "reason", bad.Reason, "aside", saved.Aside,
		"runs_saved", saved.Runs, "lines_saved", saved.Lines, "state_saved", saved.State)
	k.journal, err = journal.Open(k.home.Journal())
	return err
}

func (k *Keeper) loop(ctx context.Context) {
	var turns <-chan time.Time
	if k.turns > 0 {
		ticker := time.NewTicker(k.turns)
		defer ticker.Stop()
		turns = ticker.C
	}
	for {
		k.prepare()
		select {
		case <-ctx.Done():
			k.log.Info("keeper ends", "programs_running", k.engine.Alive())
			k.handle(input{body: &engine.Ended{}})
			return
		case w := <-k.ws.Wakes():
			k.wake = time.Time{}
			if w.Asleep > 0 {
				k.handle(input{body: &engine.Slept{For: calendar.Instant(w.Asleep.Milliseconds())}})
			}
			k.handle(input{body: &engine.Tick{}})
		case n := <-k.ws.Notices():
			since := calendar.InstantOf(k.now())
			k.handleNotice(n)
			if n.Event == phrase.Boot || n.Event == phrase.Logon {
				k.awaitCalm(ctx, n.Event, n.Name, since)
			}
		case in := <-k.inbox:
			k.drain(in)
		case <-k.folder.changed:
			k.reload(nil)
		case <-k.startups.changes():
			k.lookAtStartup()
		case <-turns:
			k.turned()
		case <-k.chores.due():
			k.chore()
		}
	}
}

// mostAtOnce is how many inputs are handled, and committed, together.
const mostAtOnce = 512

// While many programs are being started, inputs are gathered for a moment: what
// is handled together costs the machine less, of which the programs have more.
const (
	manyStarts = 32
	gatherFor  = 10 * time.Millisecond
)

// drain handles what has arrived, and what else is there by now.
func (k *Keeper) drain(in input) {
	batch := make([]input, 0, 8)
	var gathered <-chan time.Time
	if k.programs.starting > manyStarts {
		gathered = time.After(gatherFor)
	}
	for more := true; more; {
		if in.do != nil {
			k.handle(batch...)
			batch = batch[:0]
			in.do()
		} else {
			batch = append(batch, in)
		}
		if more = len(batch) < mostAtOnce; more {
			in, more = k.next(gathered)
		}
	}
	k.handle(batch...)
}

// next returns what else there is, or what comes until all is gathered.
func (k *Keeper) next(gathered <-chan time.Time) (in input, more bool) {
	if gathered == nil {
		select {
		case in = <-k.inbox:
			return in, true
		default:
			return in, false
		}
	}
	select {
	case in = <-k.inbox:
		return in, true
	case <-gathered:
		return in, false
	}
}

// prepare asks the workstation for the next tick, and for what is waited for.
func (k *Keeper) prepare() {
	k.setAlarm()
	k.ws.Attend(k.engine.Attention())
	var at time.Time
	if next, ok := k.engine.Wake(); ok {
		at = next.Time()
	}
	if !at.Equal(k.wake) || k.ws.Staged() {
		k.ws.SetWake(at)
		k.wake = at
	}
}

// now is the wall clock's time. Only the stamps of events are handed to the
// engine.
func (k *Keeper) now() time.Time { return k.ws.Clock().Now }

// clockSlack is by how much two readings of the clocks may differ without
// meaning that the wall clock was set.
const clockSlack = 100 * time.Millisecond

// stamp returns the time of the next event. A clock that was set is handled
// before it, whatever else had come first.
func (k *Keeper) stamp() (at calendar.Instant, set *engine.ClockSet) {
	c := k.ws.Clock()
	if by := c.Ahead() - k.ahead; by.Abs() >= clockSlack {
		k.ahead += by
		set = &engine.ClockSet{By: calendar.Instant(by.Milliseconds())}
	}
	return calendar.InstantOf(c.Now), set
}

// here is where the keeper keeps its gates.
func (k *Keeper) here(zone *calendar.Zone) engine.Environment {
	env := gates.Here(k.home.Scope, zone, k.ws.Host())
	env.NoWake = k.ws.CanWake() != nil
	return env
}

// begin reads the gates and goes on from the kept state.
func (k *Keeper) begin(ctx context.Context) error {
	state, kept, err := k.journal.State()
	if err != nil {
		return err
	}
	if k.engine = engine.New(); kept {
		if k.engine, err = engine.Restore(state, nil); err != nil {
			return err
		}
	}
	if aside, err := gates.RescuePlan(k.home, k.ws.Clock().Now); err != nil {
		k.log.Error("the last change of the gates cannot be read, nor set aside", "error", err)
	} else if aside != "" {
		k.log.Error("the last change of the gates could not be read: it is set aside, and the gates are as their files are", "file", aside)
	}
	read, err := k.readHome(ctx)
	if err != nil {
		return err
	}
	if read.settingsErr != nil {
		return read.settingsErr
	}
	k.settings = read.settings
	k.startTelling()
	b := &engine.Begin{BootID: k.ws.BootID(), Pace: k.settings.Pace,
		Environment: k.here(k.ws.Zone())}
	change := k.compare(read.files)
	texts := k.apply(change)
	for _, name := range sortedNames(k.files) {
		f := k.files[name]
		b.Gates = append(b.Gates, f.Definition())
	}
	b.Gone = k.goneGates()
	if !kept {
		b.FirstRun = k.home.FirstRun()
	}
	k.crew.Fresh(!kept)
	rest := k.resume(ctx, &state, b)
	unwatched, err := k.unwatched(kept, &state)
	if err != nil {
		return err
	}
	b.Pending = !waitKnown(ctx, k.watchAll(k.files, unwatched))
	b.Facts = k.facts()
	c := k.ws.Clock()
	k.began, k.ahead, b.Uptime = c.Now, c.Ahead(), c.Uptime.Milliseconds()
	k.handle(input{body: b, texts: texts})
	for _, in := range rest {
		if in.do != nil {
			in.do()
		} else {
			k.handle(in)
		}
	}
	if fresh := !kept || state.Machine.BootID != b.BootID; fresh && c.Uptime < freshBoot && !k.ws.Staged() {
		k.awaitCalm(ctx, phrase.Boot, "", calendar.InstantOf(c.Now.Add(-c.Uptime)))
	}
	k.watchStartup()
	k.chores.begin()
	go k.home.KeepReserve() // where there is no room for it, there is none to give up
	debug.FreeOSMemory()    // what was needed to read many gates at once
	k.log.Info("keeper began", "gates", len(k.files), "broken", len(k.broken), "programs_found", len(k.programs.running), "staged", k.ws.Staged())
	return nil
}

// goneGates returns the definitions of gates that were removed while something
// of them runs, as they were recorded.
func (k *Keeper) goneGates() []engine.Definition {
	var out []engine.Definition
	for _, r := range k.engine.AliveRuns() {
		if _, here := k.files[r.Gate]; here || slices.ContainsFunc(out, func(d engine.Definition) bool { return d.Name == r.Gate }) {
			continue
		}
		def := engine.Definition{Name: r.Gate, Version: r.Version, Days: r.Days}
		g, err := gates.Recorded(k.here(k.ws.Zone()), def, k.ws.Zone(), k.journal.Text)
		if err != nil {
			k.log.Warn("the limits of a gate that was removed are not known", "gate", r.Gate, "error", err)
			g = gate.Default(r.Gate)
		}
		def.Gate = g
		out = append(out, def)
	}
	return out
}

func sortedNames(files map[string]gates.File) []string { return slices.Sorted(maps.Keys(files)) }
