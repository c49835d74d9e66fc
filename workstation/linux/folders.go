//go:build linux

package linux

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
	"golang.org/x/sys/unix"

	"timegate/core/phrase"
	"timegate/workstation"
)

// Files watches files and folders: changes in them, lines that are added to
// logs, and whether paths are there. One goroutine owns all of it and one
// inotify instance serves it.
type Files struct {
	board    *workstation.Board
	watcher  *fsnotify.Watcher
	commands chan func()
	done     chan struct{}
	ended    chan struct{}

	// What follows belongs to the goroutine.
	folders   map[string]map[observer]bool // who looks at a folder
	trees     map[string]*folderTree
	logs      map[string]*log
	places    map[string]*pathWatch
	timer     *time.Timer
	timerAt   time.Time
	calm      time.Time        // when the kernel's queue was surely empty
	overflows int              // how often the kernel had to drop events
	refused   map[string]error // why something is not watched in full, by its key
}

// observer is told of what happens in the folders it looks at.
type observer interface {
	// observe takes an event of a folder that it looks at, or of the folder
	// itself.
	observe(ev fsnotify.Event)
	// due posts what was held back, and returns when to be called again.
	due(now time.Time) time.Time
}

// NewFiles returns a watcher that posts on a board.
func NewFiles(board *workstation.Board) (*Files, error) {
	w, err := fsnotify.NewBufferedWatcher(256)
	if err != nil {
		if errors.Is(err, unix.EMFILE) {
			err = fmt.Errorf("files cannot be watched: the kernel's limit of watchers an account may have is reached; raise fs.inotify.max_user_instances (%s)", sysctl("max_user_instances"))
		}
		return nil, err
	}
	f := &Files{calm: time.Now(), board: board, watcher: w, commands: make(chan func()), done: make(chan struct{}), ended: make(chan struct{}),
		folders: map[string]map[observer]bool{}, trees: map[string]*folderTree{}, logs: map[string]*log{}, places: map[string]*pathWatch{},
		refused: map[string]error{}, timer: time.NewTimer(time.Hour)}
	f.timer.Stop()
	go f.run()
	return f, nil
}

// Close ends the watch.
func (f *Files) Close() error {
	close(f.done)
	select {
	case <-f.ended:
	case <-time.After(patience): // a file system hangs, and the watch in it
	}
	return f.watcher.Close()
}

// Watch says what is to be watched, in place of what was before. Mounts,
// devices and the like are not this watcher's.
func (f *Files) Watch(w workstation.Wants) {
	f.do(func() {
		f.setTrees(w.Of(phrase.Change))
		f.setLogs(w.Of(phrase.Line))
	})
	f.setPlaces(w.Places)
}

// Troubles lists what could not be watched.
func (f *Files) Troubles() []workstation.Trouble {
	answer := make(chan []workstation.Trouble, 1)
	go f.do(func() {
		var out []workstation.Trouble
		for what, err := range f.refused {
			out = append(out, workstation.Trouble{What: what, Why: err.Error()})
		}
		answer <- out
	})
	select {
	case out := <-answer:
		return out
	case <-f.ended:
		return nil
	case <-time.After(troublePatience):
		return []workstation.Trouble{{What: "files", Why: "a file system with a watched path does not answer"}}
	}
}

// troublePatience is how long the watch of files may take to say what it
// cannot watch.
const troublePatience = 30 * time.Millisecond

// do calls a function on the goroutine that owns the watches.
func (f *Files) do(call func()) {
	answered := make(chan struct{})
	select {
	case f.commands <- func() { call(); close(answered) }:
		<-answered
	case <-f.ended:
	}
}

func (f *Files) run() {
	defer close(f.ended)
	for {
		waiting := time.Now()
		select {
		case <-f.done:
			return
		case call := <-f.commands:
			call()
		case <-f.timer.C:
			f.flush()
		case ev, ok := <-f.watcher.Events:
			if !ok {
				return
			}
			if time.Since(waiting) > emptyFor {
				f.calm = waiting
			}
			f.dispatch(ev)
		case err := <-f.watcher.Errors:
			if errors.Is(err, fsnotify.ErrEventOverflow) {
				f.overflows++
				f.rescan()
			}
		}
	}
}

// dispatch passes an event to whoever looks at the folder in which it was, or
// at the folder that it was about.
func (f *Files) dispatch(ev fsnotify.Event) {
	if ev.Op == fsnotify.Chmod {
		return
	}
	observers := map[observer]bool{}
	maps.Copy(observers, f.folders[filepath.Dir(ev.Name)])
	if (ev.Has(fsnotify.Rename) || ev.Has(fsnotify.Remove)) && f.folders[ev.Name] != nil {
		maps.Copy(observers, f.folders[ev.Name])
		f.forget(ev.Name)
	}
	for o := range observers {
		o.observe(ev)
	}
}

// forget drops the watches of a folder that is gone, or has another name, and
// of all below it: the kernel would go on to tell of them under old names.
func (f *Files) forget(dir string) {
	for name := range f.folders {
		if phrase.Within(name, dir) {
			delete(f.folders, name)
			f.watcher.Remove(name) // fails where the kernel has dropped it by itself
		}
	}
}

// watchFolder lets an observer watch a folder.
func (f *Files) watchFolder(dir string, o observer) error {
	if f.folders[dir] == nil {
		if err := f.watcher.Add(dir); err != nil {
			if errors.Is(err, unix.ENOSPC) {
				err = fmt.Errorf("%s cannot be watched: the kernel's limit of watches is reached; raise it, as in: sysctl -w fs.inotify.max_user_watches=524288 (now %s)",
					dir, sysctl("max_user_watches"))
			}
			return err
		}
		f.folders[dir] = map[observer]bool{}
	}
	f.folders[dir][o] = true
	return nil
}

// watchedBy counts the folders that an observer looks at.
func (f *Files) watchedBy(o observer) (n int) {
	for _, observers := range f.folders {
		if observers[o] {
			n++
		}
	}
	return n
}

func sysctl(name string) string {
	b, err := os.ReadFile("/proc/sys/fs/inotify/" + name)
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(b))
}

// leave lets an observer look away from all folders.
func (f *Files) leave(o observer) {
	for dir, observers := range f.folders {
		delete(observers, o)
		if len(observers) == 0 {
			delete(f.folders, dir)
			f.watcher.Remove(dir)
		}
	}
}

// await lets an observer look at the nearest folder above a path that is
// there, so that it sees the path, or the next part of the way to it, come.
func (f *Files) await(path string, o observer) error {
	for range 100 { // folders may come and go meanwhile
		dir := filepath.Dir(path)
		for !isDir(dir) && dir != filepath.Dir(dir) {
			dir = filepath.Dir(dir)
		}
		err := f.watchFolder(dir, o)
		next := child(dir, path)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if next == path || !isDir(next) {
			return nil
		}
	}
	return nil
}

// child returns the path below dir that leads to path.
func child(dir, path string) string {
	rel, err := filepath.Rel(dir, path)
	if err != nil {
		return path
	}
	first, _, _ := strings.Cut(rel, "/")
	return filepath.Join(dir, first)
}

// observers lists all, for what concerns each.
func (f *Files) observers() []observer {
	var out []observer
	for _, t := range f.trees {
		out = append(out, t)
	}
	for _, l := range f.logs {
		out = append(out, l)
	}
	return out
}

// later asks for a flush at a time.
func (f *Files) later(at time.Time) {
	if f.timerAt.IsZero() || at.Before(f.timerAt) {
		f.timerAt = at
		f.timer.Reset(time.Until(at))
	}
}

// flush posts what was held back.
func (f *Files) flush() {
	f.timerAt = time.Time{}
	now := time.Now()
	for _, o := range f.observers() {
		if at := o.due(now); !at.IsZero() {
			f.later(at)
		}
	}
}

// emptyFor is how long no event must come for the kernel's queue to count as empty.
const emptyFor = 300 * time.Millisecond

// rescan finds what events that the kernel had to drop were about: they came after
// the queue was last empty, which may be well before the last event that was read.
func (f *Files) rescan() {
	since := f.calm.Add(-time.Second)
	for _, t := range f.trees {
		for _, root := range t.roots {
			t.scan(root, since)
		}
	}
	for _, l := range f.logs {
		l.reopen()
	}
	for _, p := range f.places {
		p.check()
	}
}
