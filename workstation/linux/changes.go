//go:build linux

package linux

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"

	"timegate/core/phrase"
	"timegate/workstation"
)

// gatherFor is how long changes are gathered before they are posted, after the
// first.
const gatherFor = 100 * time.Millisecond

// folderTree watches one or several files or folders, with all that is in them.
type folderTree struct {
	files   *Files
	key     string
	event   phrase.EventSpec
	roots   []string
	changed map[string]bool // not posted yet
	count   int64
	next    time.Time // when it may post again
	folders int       // that it has looked into
}

// mostFolders is how many folders one opening may watch: more are those of a
// whole disk.
const mostFolders = 30_000

// setTrees says in which folders changes matter.
func (f *Files) setTrees(watches []workstation.Watch) {
	keep := map[string]bool{}
	for _, w := range watches {
		keep[w.Key] = true
		if f.trees[w.Key] != nil {
			continue
		}
		t := &folderTree{files: f, key: w.Key, event: w.Event, roots: slices.Clone(w.Event.Paths), changed: map[string]bool{}}
		f.trees[w.Key] = t
		for _, root := range w.Event.Paths {
			// Who writes to a file through a link writes in another folder.
			if real, err := filepath.EvalSymlinks(root); err == nil && real != root && !isDir(real) {
				t.roots = append(t.roots, real)
			}
		}
		for _, root := range t.roots {
			t.await(root)
			t.scan(root, time.Time{})
		}
		if !w.Since.IsZero() {
			t.tellMissed(w.Since)
		}
	}
	for key, t := range f.trees {
		if !keep[key] {
			delete(f.trees, key)
			delete(f.refused, key)
			f.leave(t)
		}
	}
}

// tellMissed tells what has changed since nobody watched: plain files and links by their
// times, and a folder where something in it has gone or was renamed and nothing in it tells
// of that.
func (t *folderTree) tellMissed(since time.Time) {
	changed := map[string]bool{}
	var folders []string
	var latest time.Time
	for _, root := range t.roots {
		if isDir(root) {
			root += "/" // through a link, where it is one
		}
		filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
			if err != nil {
				return nil // gone again, or closed to us
			}
			p = filepath.Clean(p)
			info, err := d.Info()
			if err != nil || changeTime(info).Before(since) || !t.event.ChangedBelow(p, t.roots...) {
				return nil
			}
			if latest = latestOf(latest, changeTime(info)); d.IsDir() {
				folders = append(folders, p)
			} else if len(changed) < workstation.MostFiles {
				changed[p] = true
			}
			return nil
		})
	}
	told := map[string]bool{} // folders with something in them that is told
	for p := range changed {
		told[filepath.Dir(p)] = true
	}
	for _, p := range folders {
		if told[filepath.Dir(p)] = true; !told[p] {
			changed[p] = true
		}
	}
	if len(changed) > 0 {
		t.files.board.Post(workstation.Notice{Event: phrase.Change, Name: t.key, Count: int64(len(changed)), Files: slices.Collect(maps.Keys(changed)), Missed: latest}, nil)
	}
}

func latestOf(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// scan looks at a folder and at all in it. Where since is given, what has
// changed since then is noted; a folder that could have lost something too.
func (t *folderTree) scan(root string, since time.Time) {
	if isDir(root) {
		root += "/" // through a link, where it is one
	}
	filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // gone again, or closed to us
		}
		p = filepath.Clean(p)
		if d.IsDir() {
			if t.folders++; t.folders > mostFolders {
				t.folders = t.files.watchedBy(t) // some have gone
			}
			if t.folders > mostFolders {
				t.refuse(fmt.Errorf("%s has more than %d folders in it, and not all are watched: name those that matter", root, mostFolders))
				return fs.SkipAll
			}
			if err := t.files.watchFolder(p, t); err != nil {
				t.refuse(err)
				return fs.SkipDir
			}
		}
		if since.IsZero() {
			return nil
		}
		if info, err := d.Info(); err == nil && !changeTime(info).Before(since) {
			t.note(p)
		}
		return nil
	})
}

func (t *folderTree) await(root string) {
	if err := t.files.await(root, t); err != nil {
		t.refuse(err)
	}
}

// refuse notes why not all is watched. A folder that is gone again needs no
// watch.
func (t *folderTree) refuse(err error) {
	if !errors.Is(err, fs.ErrNotExist) {
		t.files.refused[t.key] = err
	}
}

// changeTime is when a file or its attributes last changed.
func changeTime(info fs.FileInfo) time.Time {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return time.Unix(st.Ctim.Unix())
	}
	return info.ModTime()
}

// observe implements [observer].
func (t *folderTree) observe(ev fsnotify.Event) {
	for _, root := range t.roots {
		switch {
		case phrase.Within(ev.Name, root):
			t.inside(ev)
			if ev.Name == root && (ev.Has(fsnotify.Remove) || ev.Has(fsnotify.Rename)) {
				t.await(root)
			}
			return
		case phrase.Within(root, ev.Name):
			// The way to it has changed: it may have come with all in it.
			t.await(root)
			if _, err := os.Lstat(root); err == nil {
				t.scan(root, time.Unix(0, 0))
			}
		}
	}
}

// inside takes a change in a folder that is watched.
func (t *folderTree) inside(ev fsnotify.Event) {
	if ev.Has(fsnotify.Create) && (isFolder(ev.Name) || slices.Contains(t.roots, ev.Name) && isDir(ev.Name)) {
		t.scan(ev.Name, time.Unix(0, 0)) // what is in it already came with it
		return
	}
	t.note(ev.Name)
}

// isFolder reports whether a path is a folder and no link to one.
func isFolder(p string) bool {
	info, err := os.Lstat(p)
	return err == nil && info.IsDir()
}

// note gathers a change: the first is posted at once, and what comes soon
// after it together.
func (t *folderTree) note(p string) {
	if !t.event.ChangedBelow(p, t.roots...) {
		return
	}
	if len(t.changed) < workstation.MostFiles {
		t.changed[p] = true
	}
	t.count++
	if now := time.Now(); now.Before(t.next) {
		t.files.later(t.next)
	} else {
		t.post(now)
	}
}

func (t *folderTree) post(now time.Time) {
	n := workstation.Notice{Event: phrase.Change, Name: t.key, Count: t.count, Files: make([]string, 0, len(t.changed))}
	for p := range t.changed {
		n.Files = append(n.Files, p)
	}
	clear(t.changed)
	t.count, t.next = 0, now.Add(gatherFor)
	t.files.board.Post(n, nil)
}

// due implements [observer].
func (t *folderTree) due(now time.Time) time.Time {
	switch {
	case t.count == 0:
		return time.Time{}
	case now.Before(t.next):
		return t.next
	}
	t.post(now)
	return time.Time{}
}
