package keeper

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"

	"timegate/gates"
	"timegate/home"
)

// quiet is how long the folder of gates is left to settle after a change, so
// that a set of files copied there is read once.
const quiet = 150 * time.Millisecond

// lookAgain is how often folders are looked at where the kernel does not tell of changes.
const lookAgain = 3 * time.Second

// folderWatch tells when files in some folders change.
type folderWatch struct {
	changed chan struct{}
	watcher *fsnotify.Watcher // nil where the account has none left
	folders []string
	settle  time.Duration          // how long they are left to settle
	counts  func(path string) bool // whether a change of it is one
	done    chan struct{}          // closed where there is no watcher
}

// watchFolder watches the folder of gates, and the one above too, in case this one is
// replaced.
func watchFolder(h home.Home) (*folderWatch, error) {
	dir, settings, vars := h.Gates, h.Settings(), h.VarsFile()
	f, err := newFolderWatch([]string{filepath.Dir(dir), dir}, quiet, func(path string) bool {
		return path == dir || filepath.Dir(path) == dir && strings.HasSuffix(path, gates.Suffix) || path == settings || path == vars
	})
	if err != nil {
		return nil, err
	}
	go f.run()
	return f, nil
}

func newFolderWatch(folders []string, settle time.Duration, counts func(path string) bool) (*folderWatch, error) {
	f := &folderWatch{changed: make(chan struct{}), folders: folders, settle: settle, counts: counts, done: make(chan struct{})}
	w, err := fsnotify.NewWatcher()
	if errors.Is(err, syscall.EMFILE) {
		return f, nil
	}
	if err != nil {
		return nil, home.Wrap(folders[0], err)
	}
	for _, d := range folders {
		if err := w.Add(d); err != nil {
			w.Close()
			return nil, home.Wrap(d, err)
		}
	}
	f.watcher = w
	return f, nil
}

// run passes changes on once they have settled, until the watcher is closed.
func (f *folderWatch) run() {
	if f.watcher == nil {
		f.look()
		return
	}
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
			if f.counts(ev.Name) {
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

// look looks at the folders every few seconds, until the watch is closed. What changes while
// it is looked at is seen the next time.
func (f *folderWatch) look() {
	again := time.NewTicker(lookAgain)
	defer again.Stop()
	before := f.state()
	var out chan struct{}
	for {
		select {
		case <-f.done:
			return
		case <-again.C:
			if now := f.state(); !slices.Equal(now, before) {
				before, out = now, f.changed
			}
		case out <- struct{}{}:
			out = nil
		}
	}
}

// state is what can be seen of the files that count.
func (f *folderWatch) state() (out []string) {
	for _, dir := range f.folders {
		entries, err := os.ReadDir(dir)
		if err != nil {
			out = append(out, dir+" "+err.Error())
			continue
		}
		for _, e := range entries {
			path := filepath.Join(dir, e.Name())
			if !f.counts(path) {
				continue
			}
			info, err := os.Stat(path)
			if err != nil {
				out = append(out, path+" "+err.Error())
				continue
			}
			if info.IsDir() {
				out = append(out, path) // its own time changes with other files, too
				continue
			}
			out = append(out, fmt.Sprint(path, info.Size(), info.ModTime().UnixNano(), info.Mode()))
		}
	}
	return out
}

// changes tells of changes; nil where nothing is watched.
func (f *folderWatch) changes() <-chan struct{} {
	if f == nil {
		return nil
	}
	return f.changed
}

func (f *folderWatch) close() {
	switch {
	case f == nil:
	case f.watcher == nil:
		close(f.done)
	default:
		f.watcher.Close()
	}
}
