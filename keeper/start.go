package keeper

import (
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/workstation"
)

// start starts a program. What comes of it is returned, or told later where
// the display may keep one waiting.
func (k *Keeper) start(d *engine.Decision) (engine.Event, bool) {
	g := k.files[d.Gate].Gate
	o, err := order(k.home, g, d)
	if err != nil {
		return engine.Event{Kind: engine.Refuse, At: k.now(), Run: d.Run, Detail: err.Error()}, true
	}
	if err := tellFiles(k.home, d, &o); err != nil {
		return engine.Event{Kind: engine.Failed, At: k.now(), Run: d.Run, Detail: "the list of what changed cannot be written: " + err.Error()}, true
	}
	before := k.readings(g)
	o.Done = k.done(d.Run)
	if o.Window != nil && o.Window.Mode != gate.WindowTerminal {
		k.startLater(o, before)
		return engine.Event{}, false
	}
	p, err := k.ws.Start(o)
	return k.begun(o.Run, p, err, before), true
}

// begun returns the event of a program that has started, or has not.
func (k *Keeper) begun(run int64, p workstation.Process, err error, before map[string]int64) engine.Event {
	if err != nil {
		delete(k.procs, run)
		k.log.Warn("a program could not be started", "gate", k.engine.GateOf(run), "run", run, "error", err)
		return engine.Event{Kind: engine.Failed, At: k.now(), Run: run, Detail: err.Error()}
	}
	k.procs[run] = p
	return engine.Event{Kind: engine.Started, At: k.now(), Run: run, PID: p.PID(), Readings: before, Detail: p.Note()}
}

// starting stands for a program that is just being started. What it is sent
// reaches it when it has.
type starting struct{ signal string }

func (s *starting) PID() int                { return 0 }
func (s *starting) Note() string            { return "" }
func (s *starting) End(signal string) error { s.signal = signal; return nil }

// startLater starts a program beside the keeper's goroutine: a display belongs
// to the person who is logged on, and may never answer. Should the keeper end
// meanwhile, the next one finds the program by its mark.
func (k *Keeper) startLater(o workstation.Order, before map[string]int64) {
	wait := &starting{}
	k.procs[o.Run] = wait
	told, done := make(chan struct{}), o.Done
	o.Done = func(x workstation.Exit) {
		select {
		case <-told: // that it ended comes after that it began
		case <-k.gone:
		}
		done(x)
	}
	go func() {
		p, err := k.ws.Start(o)
		tell := func() {
			defer close(told)
			k.handle(k.begun(o.Run, p, err, before))
			if err == nil && wait.signal != "" {
				if err := p.End(wait.signal); err != nil {
					k.log.Error("a program could not be ended", "run", o.Run, "error", err)
				}
			}
		}
		select {
		case k.calls <- tell:
		case <-k.gone:
		}
	}()
}
