//go:build linux

package linux

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"time"

	"github.com/fsnotify/fsnotify"
	"golang.org/x/sys/unix"

	"timegate/core/phrase"
	"timegate/workstation"
)

const (
	// lineLimit is how much of a line is looked at, in bytes.
	lineLimit = 64 << 10
	// lineText is how much of a line is passed on.
	lineText = 1 << 10
	// lineBreath is how long matches are gathered after one was posted.
	lineBreath = time.Second
	// mostBehind is how much of what was added at once is looked at.
	mostBehind = 64 << 20
	// rotated is how long a log that was put aside is still read: its writer
	// may not have noticed yet.
	rotated = 10 * time.Second
)

// log watches the lines that are added to a file.
type log struct {
	files *Files
	key   string
	path  string
	real  string // where path leads to, if it is a link
	want  *regexp.Regexp
	now   *reading // nil while there is no such file
	old   *reading // the one that was put aside
	until time.Time

	text  string // the last match that was not posted yet
	count int64
	next  time.Time
}

// reading is a file that is being read on.
type reading struct {
	file    *os.File
	info    os.FileInfo
	offset  int64
	partial []byte // a line without its end so far
}

// setLogs says which logs are read for which lines.
func (f *Files) setLogs(watches []workstation.Watch) {
	keep := map[string]bool{}
	for _, w := range watches {
		keep[w.Key] = true
		want, err := regexp.Compile(w.Event.Regexp)
		if f.logs[w.Key] != nil || err != nil {
			continue
		}
		l := &log{files: f, key: w.Key, path: w.Event.Paths[0], want: want}
		f.logs[w.Key] = l
		f.await(l.path, l)
		if l.now = l.open(); l.now != nil {
			l.now.offset = l.now.info.Size() // what was there before is not news
		}
	}
	for key, l := range f.logs {
		if !keep[key] {
			delete(f.logs, key)
			f.leave(l)
			l.now.close()
			l.old.close()
		}
	}
}

func (l *log) open() *reading {
	// A pipe, or a terminal, is not waited for.
	file, err := os.OpenFile(l.path, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY, 0)
	if err != nil {
		return nil
	}
	if real, err := filepath.EvalSymlinks(l.path); err == nil && real != l.path && real != l.real {
		l.real = real
		l.files.await(real, l)
	}
	info, err := file.Stat()
	if err != nil || !info.Mode().IsRegular() {
		file.Close()
		return nil
	}
	return &reading{file: file, info: info}
}

func (r *reading) close() {
	if r != nil {
		r.file.Close()
	}
}

// observe implements [observer].
func (l *log) observe(ev fsnotify.Event) {
	switch {
	case (ev.Name == l.path || ev.Name == l.real) && ev.Op == fsnotify.Write && l.now != nil:
		l.read(l.now)
	case phrase.Within(l.path, ev.Name), l.real != "" && phrase.Within(l.real, ev.Name):
		l.files.await(l.path, l)
		if l.real != "" {
			l.files.await(l.real, l)
		}
		l.reopen()
	case l.old != nil && filepath.Dir(ev.Name) == filepath.Dir(l.path):
		l.read(l.old)
	}
}

// reopen takes up the file that now has the log's name, if it is another.
func (l *log) reopen() {
	if l.old != nil {
		l.read(l.old)
	}
	if l.now != nil {
		l.read(l.now)
	}
	next := l.open()
	if next != nil && l.now != nil && os.SameFile(l.now.info, next.info) {
		next.close()
		return
	}
	if l.now != nil {
		l.old.close()
		l.old, l.until = l.now, time.Now().Add(rotated)
		l.files.later(l.until)
	}
	if l.now = next; next != nil {
		l.read(next)
	}
}

// read takes what was added to a file.
func (l *log) read(r *reading) {
	if info, err := r.file.Stat(); err == nil && info.Size() < r.offset {
		r.offset, r.partial = 0, nil // it was cut off and begun anew
	} else if err == nil && info.Size()-r.offset > mostBehind {
		r.offset, r.partial = info.Size()-mostBehind, nil // as much as nobody writes in a moment
	}
	buf := make([]byte, 32<<10)
	for {
		n, err := r.file.ReadAt(buf, r.offset)
		r.offset += int64(n)
		l.split(r, buf[:n])
		if err != nil || n == 0 {
			return
		}
	}
}

// split looks at the lines that are complete.
func (l *log) split(r *reading, data []byte) {
	for len(data) > 0 {
		end := bytes.IndexByte(data, '\n')
		part := data
		if end >= 0 {
			part = data[:end]
		}
		if room := lineLimit - len(r.partial); len(part) > room {
			part = part[:room]
		}
		r.partial = append(r.partial, part...)
		if end < 0 {
			return
		}
		l.line(bytes.TrimSuffix(r.partial, []byte{'\r'}))
		r.partial = r.partial[:0]
		data = data[end+1:]
	}
}

func (l *log) line(line []byte) {
	if !l.want.Match(line) {
		return
	}
	l.count++
	text := bytes.ToValidUTF8(line[:min(len(line), lineText)], []byte("?"))
	l.text = string(bytes.ReplaceAll(text, []byte{0}, []byte("?"))) // no variable holds a zero byte
	if now := time.Now(); now.Before(l.next) {
		l.files.later(l.next)
	} else {
		l.post(now)
	}
}

func (l *log) post(now time.Time) {
	l.files.board.Post(workstation.Notice{Event: phrase.Line, Name: l.key, Subject: l.path, Text: l.text, Count: l.count}, nil)
	l.count, l.next = 0, now.Add(lineBreath)
}

// due implements [observer].
func (l *log) due(now time.Time) time.Time {
	if l.old != nil && !now.Before(l.until) {
		l.read(l.old)
		l.old.close()
		l.old = nil
	}
	var again time.Time
	if l.old != nil {
		again = l.until
	}
	switch {
	case l.count == 0:
	case !now.Before(l.next):
		l.post(now)
	case again.IsZero() || l.next.Before(again):
		again = l.next
	}
	return again
}
