package workstation

import (
	"path/filepath"
	"slices"
	"time"

	"timegate/core/engine"
	"timegate/core/phrase"
)

// Wants is what a keeper wants to be told of, with whole paths.
type Wants struct {
	engine.Wants
	Watches []Watch
	Places  []Place
}

// Watch is something to be watched.
type Watch struct {
	Key     string           `json:"key"` // by which notices name it
	Account string           `json:"-"`   // whose gates it is for ([gate.Gate.Account])
	Event   phrase.EventSpec `json:"event"`
	// Since is from when on nobody watched: what has changed since then is told as missed. The
	// zero time where nothing is.
	Since time.Time `json:"since,omitzero"`
}

// Place is a path whose being there matters.
type Place struct {
	Name    string `json:"name"` // as [engine.Facts] has it
	Account string `json:"-"`
	Path    string `json:"path"`
}

// WantsOf completes what the engine wants with the paths that expand yields for
// an account.
func WantsOf(w engine.Wants, expand func(account, path string) string) Wants {
	out := Wants{Wants: w}
	for _, o := range w.Watch {
		watch := Watch{Key: o.Key(), Account: o.Account, Event: o.Event}
		watch.Event.Paths = nil
		for _, p := range o.Event.Paths {
			watch.Event.Paths = append(watch.Event.Paths, filepath.Clean(expand(o.Account, p)))
		}
		out.Watches = append(out.Watches, watch)
	}
	for _, p := range w.Paths {
		out.Places = append(out.Places, Place{Name: p.Key(), Account: p.Account, Path: filepath.Clean(expand(p.Account, p.Path))})
	}
	return out
}

// Split parts what the machine tells from what is seen with the rights of
// accounts, by account: what is in files, and whether paths are there. staged
// says that the machine tells how full disks are.
func (w *Wants) Split(staged bool) (machine Wants, accounts map[string]Wants) {
	machine, accounts = Wants{Wants: w.Wants}, map[string]Wants{}
	for _, x := range w.Watches {
		switch x.Event.Kind {
		case phrase.LowDisk:
			if staged {
				machine.Watches = append(machine.Watches, x)
				continue
			}
			fallthrough
		case phrase.Change, phrase.Line:
			a := accounts[x.Account]
			a.Watches = append(a.Watches, x)
			accounts[x.Account] = a
		default:
			machine.Watches = append(machine.Watches, x)
		}
	}
	for _, p := range w.Places {
		a := accounts[p.Account]
		a.Places = append(a.Places, p)
		accounts[p.Account] = a
	}
	return machine, accounts
}

// Of returns the watches for one kind of event.
func (w *Wants) Of(what phrase.EventKind) []Watch {
	var out []Watch
	for _, x := range w.Watches {
		if x.Event.Kind == what {
			out = append(out, x)
		}
	}
	return out
}

// Mounted returns the watches that a mount, or the end of one, is for.
func (w *Wants) Mounted(what phrase.EventKind, point string) []Watch {
	return slices.DeleteFunc(w.Of(what), func(x Watch) bool { return !x.Event.MountedAt(point) })
}

// Attached returns the watches that a new device is for: those whose pattern
// matches one of its names.
func (w *Wants) Attached(names ...string) []Watch {
	return slices.DeleteFunc(w.Of(phrase.Device), func(x Watch) bool { return !x.Event.Attaches(names...) })
}
