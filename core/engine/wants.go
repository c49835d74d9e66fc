package engine

import (
	"time"

	"timegate/core/gate"
	"timegate/core/phrase"
)

// Wants is what decisions depend on, and the engine must therefore be told of.
type Wants struct {
	Watch  []phrase.EventSpec // each way of watching once
	Paths  []string           // whose being there matters
	Idle   time.Duration      // the span from which on idleness matters; 0 for not at all
	Power  bool
	Online bool
	People bool
	// Desktop tells that programs run on somebody's desktop.
	Desktop bool
	Sleep   bool // sleep, or the return from it
	// Pressure tells that starts of a boot or logon wait for a calm machine.
	Pressure bool
	Before   struct {
		Sleep, Shutdown bool // programs are to run before it
	}
}

// WantsOf returns what gates depend on that are switched on, on a host.
func WantsOf(gates []*gate.Gate, host string) Wants {
	var w Wants
	watched, paths := map[string]bool{}, map[string]bool{}
	for _, g := range gates {
		if !g.RunsOn(host) {
			continue
		}
		for _, p := range g.Needs.Paths {
			if !paths[p] {
				paths[p], w.Paths = true, append(w.Paths, p)
			}
		}
		w.Power = w.Power || g.Needs.Power != "any"
		w.Desktop = w.Desktop || g.As.Desktop
		w.People = w.People || g.Needs.People != "any"
		w.Online = w.Online || g.Needs.Online
		w.idle(g.Needs.Idle)
		for i := range g.Opens {
			o := &g.Opens[i]
			if q := o.Plan.Phrase; q.Kind == phrase.Event && g.Active(o, host) {
				if key := q.Event.Watch(); key == "" {
					w.hear(q.Event)
				} else if !watched[key] {
					watched[key], w.Watch = true, append(w.Watch, q.Event)
				}
			}
		}
	}
	return w
}

func (w *Wants) idle(d time.Duration) {
	if d > 0 && (w.Idle == 0 || d < w.Idle) {
		w.Idle = d
	}
}

func (w *Wants) hear(o phrase.EventSpec) {
	switch o.Kind {
	case phrase.Logon, phrase.Logoff, phrase.Lock, phrase.Unlock:
		w.People = true
	case phrase.Mains, phrase.Battery:
		w.Power = true
	case phrase.Online, phrase.Offline:
		w.Online = true
	case phrase.Idle:
		w.idle(o.Idle)
	case phrase.Active:
		w.idle(activeAfter)
	case phrase.Sleep:
		w.Sleep, w.Before.Sleep = true, true
	case phrase.Resume:
		w.Sleep = true
	case phrase.Shutdown:
		w.Before.Shutdown = true
	}
}
