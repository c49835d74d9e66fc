package keeper

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"timegate/gates"
	"timegate/home"
)

// quiet is how long the folder of gates is left to settle after a change, so
// that a set of files copied there is read once.
const quiet = 150 * time.Millisecond

// folderWatch tells when files in some folders change.
type folderWatch struct {
	changed chan struct{}
	watcher *fsnotify.Watcher
	folders []string
	settle  time.Duration             // how long they are left to settle
	counts  func(fsnotify.Event) bool // whether a change is one
}

// watchFolder watches the folder of gates, and the one above too, in case this one is
// replaced.
func watchFolder(h home.Home) (*folderWatch, error) {
	dir, settings, vars := h.Gates, h.Settings(), h.VarsFile()
	f, err := newFolderWatch([]string{filepath.Dir(dir), dir}, quiet, func(ev fsnotify.Event) bool {
		return ev.Name == dir || filepath.Dir(ev.Name) == dir && strings.HasSuffix(ev.Name, gates.Suffix) || ev.Name == settings || ev.Name == vars
	})
	if err != nil {
		return nil, err
	}
	go f.run()
	return f, nil
}

func newFolderWatch(folders []string, settle time.Duration, counts func(fsnotify.Event) bool) (*folderWatch, error) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, home.Wrap(folders[0], err)
	}
	for _, d := range folders {
		if err := w.Add(d); err != nil {
			w.Close()
			return nil, home.Wrap(d, err)
		}
	}
	return &folderWatch{changed: make(chan struct{}), watcher: w, folders: folders, settle: settle, counts: counts}, nil
}

// run passes changes on once they have settled, until the watcher is closed.
func (f *folderWatch) run() {
	var settled <-chan time.Time
	var out chan struct{}
	for {
		select {
		case ev, ok := <-f.watcher.Events:
			if !ok {
				return
			}
			if ev.Has(fsnotify.Create) && slices.Contains(f.folders, ev.Name) {
				f.watcher.Add(ev.Name) // fails only if it is gone again, and then comes anew
			}
			if f.counts(ev) {
				settled = time.After(f.settle)
			}
		case _, ok := <-f.watcher.Errors:
			if !ok {
				return
			}
			settled = time.After(f.settle) // events may have been lost: read all
		case <-settled:
			settled, out = nil, f.changed
		case out <- struct{}{}:
			out = nil
		}
	}
}

// changes tells of changes; nil where nothing is watched.
func (f *folderWatch) changes() <-chan struct{} {
	if f == nil {
		return nil
	}
	return f.changed
}

func (f *folderWatch) close() {
	if f != nil {
		f.watcher.Close()
	}
}
