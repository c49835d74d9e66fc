package keeper

import (
	"path/filepath"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"timegate/gates"
	"timegate/home"
)

// quiet is how long the folder of gates is left to settle after a change, so
// that a set of files copied there is read once.
const quiet = 150 * time.Millisecond

// folderWatch tells when gate files change.
type folderWatch struct {
	changed chan struct{}
	watcher *fsnotify.Watcher
}

func watchFolder(dir string) (*folderWatch, error) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, home.Wrap(dir, err)
	}
	// The folder above too, in case this one is replaced.
	for _, d := range []string{filepath.Dir(dir), dir} {
		if err := w.Add(d); err != nil {
			w.Close()
			return nil, home.Wrap(d, err)
		}
	}
	f := &folderWatch{changed: make(chan struct{}), watcher: w}
	go f.run(dir)
	return f, nil
}

// run passes changes on once they have settled, until the watcher is closed.
func (f *folderWatch) run(dir string) {
	var settled <-chan time.Time
	var out chan struct{}
	for {
		select {
		case ev, ok := <-f.watcher.Events:
			switch {
			case !ok:
				return
			case ev.Name == dir && ev.Has(fsnotify.Create):
				f.watcher.Add(dir) // fails only if it is gone again, and then comes anew
				settled = time.After(quiet)
			case ev.Name == dir, filepath.Dir(ev.Name) == dir && strings.HasSuffix(ev.Name, gates.Suffix),
				filepath.Base(ev.Name) == "settings.toml":
				settled = time.After(quiet)
			}
		case _, ok := <-f.watcher.Errors:
			if !ok {
				return
			}
			settled = time.After(quiet) // events may have been lost: read all
		case <-settled:
			settled, out = nil, f.changed
		case out <- struct{}{}:
			out = nil
		}
	}
}

func (f *folderWatch) close() { f.watcher.Close() }
