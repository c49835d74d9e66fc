package engine

import (
	"time"

	"timegate/core/gate"
	"timegate/core/phrase"
)

// Wants is what decisions depend on, and the engine must therefore be told of.
type Wants struct {
	Watch  []WantedEvent // each way of watching once
	Paths  []WantedPath  // whose being there matters
	Idle   time.Duration // the span from which on idleness matters; 0 for not at all
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

// WantedEvent is something to be watched for the gates of an account: what it
// sees counts for them alone.
type WantedEvent struct {
	Account string // [gate.Gate.Account]
	Event   phrase.EventSpec
}

// Key is the name that an event has when it is told; "" where it is not one of
// something that is watched.
func (w WantedEvent) Key() string {
	watch := w.Event.Watch()
	if watch == "" {
		return ""
	}
	return keyFor(w.Account, watch)
}

// WantedPath is a path that an account's gates need.
type WantedPath struct{ Account, Path string }

// Key is the name that the path has among the facts.
func (w WantedPath) Key() string { return keyFor(w.Account, w.Path) }

// keyFor tells apart what is the same text for two accounts: ~ is another
// folder, and what one may see is closed to another.
func keyFor(account, what string) string {
	if account == "" {
		return what
	}
	return account + ": " + what
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
			if want := (WantedPath{g.Account(), p}); !paths[want.Key()] {
				paths[want.Key()], w.Paths = true, append(w.Paths, want)
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
				if want := (WantedEvent{g.Account(), q.Event}); want.Key() == "" {
					w.hear(q.Event)
				} else if !watched[want.Key()] {
					watched[want.Key()], w.Watch = true, append(w.Watch, want)
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
