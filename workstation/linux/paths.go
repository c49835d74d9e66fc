//go:build linux

package linux

import (
	"os"
	"slices"
	"time"

	"github.com/fsnotify/fsnotify"

	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/workstation"
)

// patience is how long a file system may take to say whether a path is there
// before the keeper goes on without knowing.
const patience = 500 * time.Millisecond

// pathWatch watches whether a path is there.
type pathWatch struct {
	files   *Files
	name    string
	path    string
	asking  bool          // a file system was asked and has not answered
	again   bool          // and it has changed since
	settled chan struct{} // closed when it has answered for the first time
}

// setPlaces says which paths matter, and returns when it is known which are
// there, or the file systems are slow to say.
func (f *Files) setPlaces(places []workstation.Place) {
	var fresh []*pathWatch
	f.do(func() {
		keep := map[string]bool{}
		for _, w := range places {
			keep[w.Name] = true
			if f.places[w.Name] != nil {
				continue
			}
			p := &pathWatch{files: f, name: w.Name, path: w.Path, settled: make(chan struct{})}
			f.places[w.Name] = p
			f.await(p.path, p)
			p.check()
			fresh = append(fresh, p)
		}
		for name, p := range f.places {
			if !keep[name] {
				delete(f.places, name)
				f.leave(p)
				f.tell(name, false)
			}
		}
	})
	late := time.After(patience)
	for _, p := range fresh {
		select {
		case <-p.settled:
		case <-late:
			return
		}
	}
}

// checkPlaces looks again at all paths that matter, as after a mount.
func (f *Files) checkPlaces() {
	f.do(func() {
		for _, p := range f.places {
			f.await(p.path, p)
			p.check()
		}
	})
}

// check asks the file system, apart from the other watches: one that has lost
// its server may take for ever.
func (p *pathWatch) check() {
	if p.asking {
		p.again = true
		return
	}
	p.asking, p.again = true, false
	go func() {
		_, err := os.Stat(p.path)
		p.files.do(func() {
			p.asking = false
			if p.files.places[p.name] != p {
				return
			}
			p.files.tell(p.name, err == nil)
			select {
			case <-p.settled:
			default:
				close(p.settled)
			}
			if p.again {
				p.check()
			}
		})
	}()
}

func (f *Files) tell(name string, there bool) {
	f.board.Learn(func(facts *engine.Facts) {
		at := slices.Index(facts.Paths, name)
		switch {
		case there && at < 0:
			facts.Paths = append(facts.Paths, name)
			slices.Sort(facts.Paths)
		case !there && at >= 0:
			facts.Paths = slices.Delete(facts.Paths, at, at+1)
		}
	})
}

// observe implements [observer].
func (p *pathWatch) observe(ev fsnotify.Event) {
	if phrase.Within(p.path, ev.Name) {
		p.files.await(p.path, p)
		p.check()
	}
}

// due implements [observer].
func (p *pathWatch) due(time.Time) time.Time { return time.Time{} }
