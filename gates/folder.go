// Package gates is the folder of gate files.
package gates

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/home"
	"timegate/ical"
	"timegate/inspect"
	"timegate/workstation/zones"
)

// File is a gate file as it was read.
type File struct {
	Name     string
	Path     string
	Text     string
	Version  string     // identifies Text
	Days     []Days     // the files of days that it reads
	Gate     *gate.Gate // nil where a finding is an error
	Findings gate.Findings
}

// Days is a file of days as it was read.
type Days struct {
	Path    string // as the gate has it
	Text    string
	Version string // identifies Text
}

// Definition returns the gate as an event brings it.
func (f *File) Definition() engine.Definition {
	d := engine.Definition{Name: f.Name, Version: f.Version, Gate: f.Gate}
	for _, days := range f.Days {
		if d.Days == nil {
			d.Days = map[string]string{}
		}
		d.Days[days.Path] = days.Version
	}
	return d
}

// Same reports whether two files say the same, their files of days included.
func (f *File) Same(o *File) bool {
	return f.Version == o.Version && slices.EqualFunc(f.Days, o.Days, func(a, b Days) bool { return a.Path == b.Path && a.Version == b.Version })
}

// Suffix is what a gate file's name ends in.
const Suffix = ".toml"

// ReadFolder reads all gate files of a home, by name, with a plan that is being
// committed in force. A folder that is not there has none.
func ReadFolder(h home.Home, env phrase.Env) ([]File, error) {
	before, err := readPlan(h)
	for err == nil {
		var files []File
		var after kept
		if files, err = readFiles(h, env); err != nil {
			break
		}
		if after, err = readPlan(h); err != nil {
			break
		}
		if after.Number != before.Number { // a plan came in between: what was read may be half of it
			before = after
			continue
		}
		if !before.Done {
			return overlay(h, files, before.Changes, env), nil
		}
		checkLinks(files)
		return files, nil
	}
	return nil, err
}

// readFiles reads the files as they lie in the folder.
func readFiles(h home.Home, env phrase.Env) ([]File, error) {
	entries, err := os.ReadDir(h.Gates)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, home.Wrap(h.Gates, err)
	}
	var names []string
	for _, e := range entries {
		// Names that begin with a dot are editors' own.
		if name, ok := strings.CutSuffix(e.Name(), Suffix); ok && !strings.HasPrefix(name, ".") {
			names = append(names, name)
		}
	}
	out := make([]File, len(names))
	var next atomic.Int64
	var days daysOnce
	var readers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		readers.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(names)); i = next.Add(1) - 1 {
				out[i] = readFile(h, names[i], env, days.read)
			}
		})
	}
	readers.Wait()
	Sort(out)
	return out, nil
}

// Sort orders files by name.
func Sort(files []File) {
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
}

// checkLinks adds what is wrong among the gates. A gate in a circle is not
// used.
func checkLinks(files []File) {
	byName := map[string]*File{}
	var gates []*gate.Gate
	for i := range files {
		if f := &files[i]; f.Gate != nil {
			byName[f.Name] = f
			gates = append(gates, f.Gate)
		}
	}
	for _, found := range gate.Links(gates) {
		f := byName[found.Gate]
		found.File = f.Path
		f.Findings = append(f.Findings, found)
		if found.Severity == gate.SevereError {
			f.Gate = nil
		}
	}
}

// ReadFile reads one gate's file.
func ReadFile(h home.Home, name string, env phrase.Env) File {
	if k, err := readPlan(h); err == nil && !k.Done {
		if i := slices.IndexFunc(k.Changes, func(c Change) bool { return c.Name == name && c.After != nil }); i >= 0 {
			return Parse(h, name, []byte(*k.Changes[i].After), env)
		}
	}
	return readFile(h, name, env, readDays)
}

func readFile(h home.Home, name string, env phrase.Env, days daysReader) File {
	f := File{Name: name, Path: h.GateFile(name)}
	data, err := readBounded(f.Path)
	if err != nil {
		f.Findings = gate.Findings{{Gate: name, File: f.Path, Severity: gate.SevereError, Code: "unreadable",
			Message: "the file cannot be read: " + err.Error(), Remedy: "check what it is, and its owner and mode"}}
		return f
	}
	f = parse(h, name, data, env, days)
	if h.Scope == gate.System {
		for _, found := range inspect.WritableByOthers(f.Path) {
			found.Gate, found.File = name, f.Path
			f.Findings, f.Gate = append(f.Findings, found), nil
		}
	}
	return f
}

// daysReader returns the text of a file of days, and the days.
type daysReader func(path string) ([]byte, []calendar.Item, error)

// Parse reads a gate's text.
func Parse(h home.Home, name string, data []byte, env phrase.Env) File {
	return parse(h, name, data, env, readDays)
}

func parse(h home.Home, name string, data []byte, env phrase.Env, days daysReader) File {
	f := File{Name: name, Path: h.GateFile(name), Text: string(data), Version: versionOf(data)}
	env.DaysIn = func(path string) ([]calendar.Item, error) {
		text, items, err := days(path)
		// One that cannot be read is known by that.
		f.Days = append(f.Days, Days{Path: path, Text: string(text), Version: versionOf(text)})
		return items, err
	}
	f.Gate, f.Findings = gate.Read(name, f.Path, data, gate.Options{Scope: h.Scope, Env: env})
	return f
}

// readBounded reads a file up to just over the size that is accepted. It
// waits for no writer of a pipe.
func readBounded(path string) ([]byte, error) {
	// Without blocking: a pipe would wait for its other end.
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, unpathed(err)
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, unpathed(err)
	case info.IsDir():
		return nil, errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return nil, errors.New("it is not a plain file")
	}
	var text bytes.Buffer
	text.Grow(int(min(info.Size(), gate.MaxSize)) + bytes.MinRead)
	_, err = text.ReadFrom(io.LimitReader(f, gate.MaxSize+1))
	return text.Bytes(), unpathed(err)
}

// unpathed returns an error without the path in front.
func unpathed(err error) error {
	if pe, ok := errors.AsType[*fs.PathError](err); ok {
		return pe.Err
	}
	return err
}

// Env returns what phrases need from outside, in a zone and on a host.
func Env(zone *calendar.Zone, host string) phrase.Env {
	return phrase.Env{Zone: zone, Host: host, FindZone: zones.Find, DaysIn: func(path string) ([]calendar.Item, error) {
		_, items, err := readDays(path)
		return items, err
	}}
}

// versionOf identifies a text.
func versionOf(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:12])
}

// Recorded reads a gate as it was when it was recorded, its files of days too.
// text returns what a version stands for.
func Recorded(scope gate.Scope, def engine.Definition, zone *calendar.Zone, host string, text func(version string) (string, error)) (*gate.Gate, error) {
	body, err := text(def.Version)
	if err != nil {
		return nil, fmt.Errorf("the text of %s: %w", def.Name, err)
	}
	env := Env(zone, host)
	env.DaysIn = func(path string) ([]calendar.Item, error) {
		days, err := text(def.Days[path])
		if err != nil {
			return nil, err
		}
		return parseDays(path, []byte(days))
	}
	g, found := gate.Read(def.Name, def.Name+Suffix, []byte(body), gate.Options{Scope: scope, Env: env})
	if g == nil {
		return nil, found.Errors()
	}
	return g, nil
}

// daysPatience is how long a file of days may take to be read: it may lie on a
// drive that hangs.
const daysPatience = time.Second

// readDays reads a file of days.
func readDays(path string) (text []byte, items []calendar.Item, err error) {
	type result struct {
		text []byte
		err  error
	}
	done := make(chan result, 1)
	go func() {
		text, err := readBounded(home.Expand(path, home.Folder()))
		done <- result{text, err}
	}()
	select {
	case r := <-done:
		text, err = r.text, r.err
	case <-time.After(daysPatience):
		err = errors.New("what it lies on does not answer")
	}
	if err != nil {
		return nil, nil, fmt.Errorf("the days in %s cannot be read: %w", path, err)
	}
	items, err = parseDays(path, text)
	return text, items, err
}

// daysOnce reads each file of days once, however many gates ask for it.
type daysOnce struct {
	mu    sync.Mutex // guards what follows
	files map[string]func() ([]byte, []calendar.Item, error)
}

func (o *daysOnce) read(path string) ([]byte, []calendar.Item, error) {
	o.mu.Lock()
	read := o.files[path]
	if read == nil {
		var text []byte
		var items []calendar.Item
		var err error
		once := sync.OnceFunc(func() { text, items, err = readDays(path) })
		read = func() ([]byte, []calendar.Item, error) { once(); return text, items, err }
		if o.files == nil {
			o.files = map[string]func() ([]byte, []calendar.Item, error){}
		}
		o.files[path] = read
	}
	o.mu.Unlock()
	return read()
}

// parseDays reads a text of days: one date or range of dates a line, what
// follows a # is a comment; or a calendar file of events that last whole days.
func parseDays(path string, data []byte) ([]calendar.Item, error) {
	if bytes.HasPrefix(bytes.TrimSpace(data), []byte("BEGIN:VCALENDAR")) {
		days, err := ical.Days(bytes.NewReader(data))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		return days, nil
	}
	var err error
	var out []calendar.Item
	for i, line := range strings.Split(string(data), "\n") {
		line, _, _ = strings.Cut(line, "#")
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		from, to, isRange := strings.Cut(line, "..")
		it := calendar.Item{Dates: true}
		if it.From, err = calendar.ParseDay(strings.TrimSpace(from)); err == nil {
			it.To = it.From
			if isRange {
				it.To, err = calendar.ParseDay(strings.TrimSpace(to))
			}
		}
		if err == nil && it.To < it.From {
			err = errors.New("the range ends before it begins")
		}
		if err != nil {
			return nil, fmt.Errorf("%s:%d: %w", path, i+1, err)
		}
		out = append(out, it)
	}
	return out, nil
}
