package keeper

import (
	"slices"
	"strings"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/journal"
	"timegate/workstation"
)

// hearing is how a keeper hears of the workstation and what it owes it.
type hearing struct {
	pressure int
	wants    bool         // whose desktops are there matters
	desktops []string     // whose are
	calm     *time.Ticker // while starts are held back, or wait for a desktop
	owed     []owed
	alarm    time.Time
	troubled map[workstation.Trouble]bool // already logged
}

// owed is that the machine waits to sleep or shut down until runs have ended.
type owed struct {
	runs    []int64
	release func()
}

// watch tells the workstation what the gates depend on.
func (k *Keeper) watch() {
	gates := make([]*gate.Gate, 0, len(k.files))
	for _, name := range sortedNames(k.files) {
		gates = append(gates, k.files[name].Gate)
	}
	k.hearing.wants = watch(gates, k.ws).Desktop
	k.sampleDesktops()
	k.logTroubles(k.troubles())
}

func watch(gates []*gate.Gate, ws workstation.Workstation) engine.Wants {
	wants := engine.WantsOf(gates, ws.Host())
	ws.Watch(workstation.WantsOf(wants, expandHome))
	return wants
}

// Probe finds what of the gates' openings and needs cannot be told on a
// workstation, or done by it.
func Probe(files []File, ws workstation.Workstation) []workstation.Trouble {
	var gates []*gate.Gate
	var wake bool
	for _, f := range files {
		if f.Gate != nil {
			gates = append(gates, f.Gate)
			wake = wake || f.Gate.Rules.Wake > 0 && f.Gate.Enabled && f.Gate.RunsOn(ws.Host())
		}
	}
	watch(gates, ws)
	out := ws.Troubles()
	if wake {
		if err := ws.SetAlarm(ws.Now().Add(24 * time.Hour)); err != nil {
			out = append(out, wakeTrouble(err))
		}
	}
	return out
}

func wakeTrouble(err error) workstation.Trouble {
	return workstation.Trouble{What: "waking the machine", Why: err.Error()}
}

// troubles lists what cannot be told or done on this machine.
func (k *Keeper) troubles() []workstation.Trouble {
	out := k.ws.Troubles()
	if err := k.ws.SetAlarm(k.hearing.alarm); err != nil && !k.hearing.alarm.IsZero() {
		out = append(out, wakeTrouble(err))
	}
	slices.SortFunc(out, func(a, b workstation.Trouble) int { return strings.Compare(a.What, b.What) })
	return out
}

// logTroubles logs each trouble once.
func (k *Keeper) logTroubles(list []workstation.Trouble) {
	now := map[workstation.Trouble]bool{}
	for _, t := range list {
		now[t] = true
		if !k.hearing.troubled[t] {
			k.log.Warn("cannot be told here: "+t.What, "reason", t.Why)
		}
	}
	k.hearing.troubled = now
}

// facts returns what holds, with the pressure and the desktops where they
// matter.
func (k *Keeper) facts(f engine.Facts) *engine.Facts {
	f.Pressure, f.Desktops = k.hearing.pressure, k.hearing.desktops
	return &f
}

// hear takes what happened on the machine.
func (k *Keeper) hear(n workstation.Notice) {
	if n.What == phrase.Logon || n.What == phrase.Logoff || n.What == "" {
		k.sampleDesktops()
	}
	ev := engine.Event{Kind: engine.Happened, At: k.now(), What: n.What, Name: n.Name, Subject: n.Subject, Text: n.Text,
		Count: n.Count, Files: n.Files, Facts: k.facts(n.Facts)}
	rec := journal.Record{}
	switch n.What {
	case "":
		ev = engine.Event{Kind: engine.Present, At: ev.At, Facts: ev.Facts}
	case phrase.Boot:
		k.handle(engine.Event{Kind: engine.Present, At: ev.At, Facts: ev.Facts})
		ev, rec.BootID = engine.Event{Kind: engine.Boot, At: ev.At}, k.ws.BootID()
	case phrase.Logon:
		k.samplePressure() // many programs may be about to start
		ev.Facts.Pressure = k.hearing.pressure
	}
	decisions := k.handleWith(ev, rec)
	if n.Release != nil {
		k.owe(n, decisions)
	}
}

// owe lets the machine sleep or shut down once the programs have ended that
// were started for it.
func (k *Keeper) owe(n workstation.Notice, decisions []engine.Decision) {
	o := owed{release: n.Release}
	for _, d := range decisions {
		if d.Starts() && d.Cause != nil && d.Cause.Event == n.What && k.procs[d.Run] != nil {
			o.runs = append(o.runs, d.Run)
		}
	}
	if len(o.runs) == 0 {
		n.Release()
		return
	}
	k.hearing.owed = append(k.hearing.owed, o)
}

// settle notes that a run has ended for which the machine may have waited.
func (k *Keeper) settle(run int64) {
	k.hearing.owed = slices.DeleteFunc(k.hearing.owed, func(o owed) bool {
		i := slices.Index(o.runs, run)
		if i < 0 || len(o.runs) > 1 {
			return false
		}
		o.release()
		return true
	})
	for i := range k.hearing.owed {
		o := &k.hearing.owed[i]
		o.runs = slices.DeleteFunc(o.runs, func(r int64) bool { return r == run })
	}
}

// calming returns a channel that asks for the pressure to be looked at while
// starts are held back, and for the desktops while one is waited for: when a
// desktop is there, nothing tells.
func (k *Keeper) calming() <-chan time.Time {
	switch held := k.engine.Held() > 0 || k.hearing.wants && k.engine.WaitsForDesktop(); {
	case held && k.hearing.calm == nil:
		k.hearing.calm = time.NewTicker(time.Second)
	case !held && k.hearing.calm != nil:
		k.hearing.calm.Stop()
		k.hearing.calm = nil
	}
	if k.hearing.calm == nil {
		return nil
	}
	return k.hearing.calm.C
}

func (k *Keeper) samplePressure() {
	if k.pace.Calm > 0 {
		k.hearing.pressure = k.ws.Pressure()
	}
}

// sampleDesktops finds out whose desktops are there, where that matters, and
// reports whether that has changed.
func (k *Keeper) sampleDesktops() bool {
	before := k.hearing.desktops
	k.hearing.desktops = nil
	if k.hearing.wants {
		k.hearing.desktops = k.ws.Desktops()
	}
	return !slices.Equal(before, k.hearing.desktops)
}

// look takes the pressure while starts are held back, and the desktops.
func (k *Keeper) look() {
	before := k.hearing.pressure
	k.samplePressure()
	if changed := k.sampleDesktops(); changed || k.hearing.pressure != before {
		k.handle(engine.Event{Kind: engine.Present, At: k.now(), Facts: k.facts(k.ws.Facts())})
	}
}

// setAlarm lets the machine be woken in time.
func (k *Keeper) setAlarm() {
	var at time.Time
	if next, ok := k.engine.Alarm(); ok {
		at = next.Time()
	}
	// An alarm that is about to ring anyway is not moved with every event.
	if d := at.Sub(k.hearing.alarm); !at.IsZero() && d > 0 && d < time.Minute && k.hearing.alarm.After(k.ws.Now()) {
		return
	}
	if at.Equal(k.hearing.alarm) {
		return
	}
	k.hearing.alarm = at
	if err := k.ws.SetAlarm(at); err != nil {
		k.logTroubles(k.troubles())
	}
}

// woken returns the event of a wake. What is due may want a desktop.
func (k *Keeper) woken(w workstation.Wake) engine.Event {
	if k.sampleDesktops() {
		k.handle(engine.Event{Kind: engine.Present, At: k.now(), Facts: k.facts(k.ws.Facts())})
	}
	ev := engine.Event{Kind: engine.Tick, At: k.now()}
	if w.ClockSet {
		ev.Kind, ev.By = engine.ClockSet, calendar.Instant(w.By.Milliseconds())
	}
	return ev
}

// recorded reports whether an event is worth a line in the journal.
func recorded(ev *engine.Event, decisions []engine.Decision) bool {
	switch {
	case len(decisions) > 0:
		return true
	case ev.Kind == engine.Tick:
		return false
	case ev.Kind == engine.Happened && ev.What == phrase.Change:
		return false // there may be ten a second
	}
	return true
}
