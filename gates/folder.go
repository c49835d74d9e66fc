// Package gates is the folder of gate files.
package gates

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
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
	Whole    string     // Text, with values in the places of names
	Version  string     // identifies Whole
	Vars     gate.Vars  // the names that it says, and their values
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
func ReadFolder(h home.Home, env phrase.Env) ([]File, error) { return ReadFolderAs(h, env, readOwn) }

// A Reader reads a plain file with the rights of an account, by the name that
// [gate.Gate.Account] gives it, up to so many bytes.
type Reader func(account, path string, most int64) ([]byte, error)

// ReadFolderAs reads all gate files as [ReadFolder] does, and their files of days
// through a reader.
func ReadFolderAs(h home.Home, env phrase.Env, read Reader) ([]File, error) {
	before, err := readPlan(h)
	for err == nil {
		var files []File
		var after kept
		if files, err = readFiles(h, env, read, &before); err != nil {
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
			return before.overlay(h, files, env, read), nil
		}
		checkLinks(files)
		return files, nil
	}
	return nil, err
}

// readFiles reads the files as they lie in the folder.
func readFiles(h home.Home, env phrase.Env, read Reader, pending *kept) ([]File, error) {
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
	days := daysOnce{through: read}
	vars := sync.OnceValues(func() (gate.Vars, error) { return varsOf(h, pending, env.Host) })
	var readers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		readers.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(names)); i = next.Add(1) - 1 {
				out[i] = readFile(h, names[i], env, days.read, vars)
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
	return ReadFileAs(h, name, env, readOwn)
}

// ReadFileAs reads one gate's file, and its files of days through a reader.
func ReadFileAs(h home.Home, name string, env phrase.Env, read Reader) File {
	k, err := readPlan(h)
	vars := func() (gate.Vars, error) { return varsOf(h, &k, env.Host) }
	if err == nil && !k.Done {
		if i := slices.IndexFunc(k.Changes, func(c Change) bool { return c.Name == name && c.After != nil }); i >= 0 {
			return parse(h, name, []byte(*k.Changes[i].After), env, read.days, vars)
		}
	}
	return readFile(h, name, env, read.days, vars)
}

func readFile(h home.Home, name string, env phrase.Env, days daysReader, vars varsReader) File {
	f := File{Name: name, Path: h.GateFile(name)}
	data, err := readBounded(f.Path)
	if err != nil {
		f.Findings = gate.Findings{{Gate: name, File: f.Path, Severity: gate.SevereError, Code: "unreadable",
			Message: "the file cannot be read: " + err.Error(), Remedy: "check what it is, and its owner and mode"}}
		return f
	}
	f = parse(h, name, data, env, days, vars)
	if h.Scope == gate.System {
		for _, found := range inspect.WritableByOthers(f.Path) {
			found.Gate, found.File = name, f.Path
			f.Findings, f.Gate = append(f.Findings, found), nil
		}
	}
	return f
}

// daysReader returns the text of a file of days, and the days.
type daysReader func(account, path string) ([]byte, []calendar.Item, error)

// Parse reads a gate's text.
func Parse(h home.Home, name string, data []byte, env phrase.Env) File {
	return parse(h, name, data, env, Reader(readOwn).days, func() (gate.Vars, error) { return varsOf(h, &kept{}, env.Host) })
}

func parse(h home.Home, name string, data []byte, env phrase.Env, days daysReader, vars varsReader) File {
	f := File{Name: name, Path: h.GateFile(name), Text: string(data)}
	var from *gate.Expanded
	if gate.HasNames(data) {
		values, err := valuesFor(h, data, env.Host, vars)
		if err != nil {
			f.Whole, f.Version = f.Text, versionOf(data)
			f.Findings = gate.Findings{{Gate: name, File: f.Path, Severity: gate.SevereError, Code: "vars", Message: "the values of names cannot be read: " + err.Error(), Remedy: "put vars.toml right"}}
			return f
		}
		from = values.Expand(data)
		data, f.Vars = from.Text, from.Used
	}
	f.Whole, f.Version = string(data), versionOf(data)
	// Whose file of days it is follows from the whole of the gate.
	var wanted []string
	env.DaysIn = func(path string) ([]calendar.Item, error) {
		wanted = append(wanted, path)
		return nil, nil
	}
	opts := gate.Options{Scope: h.Scope, Env: env, From: from}
	f.Gate, f.Findings = gate.Read(name, f.Path, data, opts)
	if len(wanted) == 0 {
		return f
	}
	account := ""
	if f.Gate != nil {
		account = f.Gate.Account()
	}
	opts.Env.DaysIn = func(path string) ([]calendar.Item, error) {
		text, items, err := days(account, path)
		// One that cannot be read is known by that.
		f.Days = append(f.Days, Days{Path: path, Text: string(text), Version: versionOf(text)})
		return items, err
	}
	f.Gate, f.Findings = gate.Read(name, f.Path, data, opts)
	return f
}

// readBounded reads a file up to just over the size that is accepted.
func readBounded(path string) ([]byte, error) { return home.ReadPlain(path, gate.MaxSize+1) }

// Here is where gates of a scope are kept: in a zone, on a host, and for whom. In
// the user scope a logon that names nobody is one's own.
func Here(scope gate.Scope, zone *calendar.Zone, host string) engine.Environment {
	env := engine.Environment{Zone: zone.Name(), Scope: scope, Host: host}
	if scope == gate.User {
		env.Account = home.Account()
	}
	return env
}

// Env returns what phrases need from outside, as they are kept in a zone.
func Env(here engine.Environment, zone *calendar.Zone) phrase.Env {
	return phrase.Env{Zone: zone, Host: here.Host, Account: here.Account, FindZone: zones.Find, DaysIn: func(path string) ([]calendar.Item, error) {
		_, items, err := Reader(readOwn).days("", path)
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
func Recorded(here engine.Environment, def engine.Definition, zone *calendar.Zone, text func(version string) (string, error)) (*gate.Gate, error) {
	body, err := text(def.Version)
	if err != nil {
		return nil, fmt.Errorf("the text of %s: %w", def.Name, err)
	}
	env := Env(here, zone)
	env.DaysIn = func(path string) ([]calendar.Item, error) {
		days, err := text(def.Days[path])
		if err != nil {
			return nil, err
		}
		return parseDays(path, []byte(days))
	}
	g, found := gate.Read(def.Name, def.Name+Suffix, []byte(body), gate.Options{Scope: here.Scope, Env: env})
	if g == nil {
		return nil, found.Errors()
	}
	return g, nil
}

// daysPatience is how long a file of days may take to be read: it may lie on a
// drive that hangs.
const daysPatience = time.Second

// readOwn reads a file with the rights of this process.
func readOwn(account, path string, most int64) ([]byte, error) {
	type result struct {
		text []byte
		err  error
	}
	done := make(chan result, 1)
	go func() {
		text, err := home.ReadPlain(home.Expand(path, home.FolderOf(account)), most)
		done <- result{text, err}
	}()
	select {
	case r := <-done:
		return r.text, r.err
	case <-time.After(daysPatience):
		return nil, errors.New("what it lies on does not answer")
	}
}

// days reads a file of days.
func (r Reader) days(account, path string) (text []byte, items []calendar.Item, err error) {
	if text, err = r(account, path, gate.MaxSize+1); err != nil {
		return nil, nil, fmt.Errorf("the days in %s cannot be read: %w", path, err)
	}
	items, err = parseDays(path, text)
	return text, items, err
}

// daysOnce reads each file of days once, however many gates ask for it.
type daysOnce struct {
	through Reader

	mu    sync.Mutex // guards what follows
	files map[[2]string]func() ([]byte, []calendar.Item, error)
}

func (o *daysOnce) read(account, path string) ([]byte, []calendar.Item, error) {
	key := [2]string{account, path}
	o.mu.Lock()
	read := o.files[key]
	if read == nil {
		var text []byte
		var items []calendar.Item
		var err error
		once := sync.OnceFunc(func() { text, items, err = o.through.days(account, path) })
		read = func() ([]byte, []calendar.Item, error) { once(); return text, items, err }
		if o.files == nil {
			o.files = map[[2]string]func() ([]byte, []calendar.Item, error){}
		}
		o.files[key] = read
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
