// Package startup tells what starts on a machine at boot and at logon, whoever put it
// there, and switches it off and on by the means that the specification of each source
// gives: nothing is deleted, and no file of a vendor is touched.
package startup

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	securejoin "github.com/cyphar/filepath-securejoin"

	"timegate/core/phrase"
	"timegate/inspect"
)

// Source is what makes an item start.
type Source string

// The sources of items.
const (
	FromAutostart  Source = "autostart"   // an entry that the desktop starts at logon
	FromService    Source = "service"     // a service of the machine's init system
	FromOwnService Source = "own-service" // one of the person's
	FromScript     Source = "init-script" // a script of the init system
	FromGate       Source = "gate"        // one of Time Gate's own
	FromTimer      Source = "timer"       // the init system starts it at times
	FromSocket     Source = "socket"      // when somebody connects
	FromPath       Source = "path"        // when a file comes or changes
	FromBus        Source = "bus"         // when somebody asks for a name on the message bus
	FromProfile    Source = "profile"     // commands that a shell or a desktop's session reads
	// What the person's own init system and message bus do.
	FromOwnTimer  Source = "own-timer"
	FromOwnSocket Source = "own-socket"
	FromOwnPath   Source = "own-path"
	FromOwnBus    Source = "own-bus"
)

// OnlyLookedAt reports whether items of a source can be switched by nobody here.
func (s Source) OnlyLookedAt() bool {
	return slices.Contains([]Source{FromScript, FromBus, FromOwnBus, FromProfile}, s)
}

// When an item starts.
const (
	AtBoot  = "boot"
	AtLogon = "logon"
	AtTimes = "times" // of its own
	AtCall  = "call"  // when it is asked for
)

// State is whether an item will start.
type State string

// The states of items.
const (
	On        State = "on"
	Off       State = "off"
	Elsewhere State = "elsewhere" // on, and not for this desktop or host
	Missing   State = "missing"   // on, and what it starts is not there
	Broken    State = "broken"    // cannot be read or started
)

// Item is something that starts at boot or logon.
type Item struct {
	ID      string   `json:"item"`
	Name    string   `json:"name"`
	About   string   `json:"about"`
	Source  Source   `json:"source"`
	At      string   `json:"at"`             // boot, logon, times or call
	When    string   `json:"when,omitempty"` // the times, or what calls it, in the words of its file
	File    string   `json:"file"`
	Over    string   `json:"over,omitempty"` // the vendor's file whose place File takes
	Command []string `json:"command"`
	Account string   `json:"account,omitempty"` // whom it runs as; "" for who logs on
	Enabled bool     `json:"enabled"`
	State   State    `json:"state"`
	Why     string   `json:"why,omitempty"`     // for the state
	Gate    string   `json:"gate,omitempty"`    // the gate that takes its place
	Cost    *Cost    `json:"cost,omitempty"`    // what its starts take, where that is known
	Package *Package `json:"package,omitempty"` // with which its file came
	// Within tells that nobody switched it on: it belongs to the system itself.
	Within bool `json:"within_system,omitempty"`
	// LookedAt tells that it is only looked at: it is switched by its own means.
	LookedAt bool `json:"only_looked_at,omitempty"`

	folder   string
	terminal bool
	unit     *unit
}

// Cost is what the starts of an item take, each figure the middle one of its last runs.
type Cost struct {
	Runs         int     `json:"runs"` // 0 where it was only tried by hand
	TookS        float64 `json:"took_s"`
	ProcessorS   float64 `json:"processor_s"`
	Memory       int64   `json:"memory"`  // the largest resident memory of one process, bytes; 0 is not known
	ReadBytes    int64   `json:"read"`    // from disks
	WrittenBytes int64   `json:"written"` // to disks
}

// Look says where to look.
type Look struct {
	Root     string   // of the disk; "" for this machine's
	Own      string   // the person's folder of configuration (XDG_CONFIG_HOME); "" for none
	Home     string   // the person's home folder; "" for none
	Data     []string // where the person's data lies, the most important first (XDG_DATA_HOME, XDG_DATA_DIRS)
	Config   []string // the machine's, the most important first (XDG_CONFIG_DIRS)
	Path     []string // where programs without a path are looked for
	Locale   string   // such as en_GB.UTF-8
	Desktops []string // names of the desktop, as XDG_CURRENT_DESKTOP has them
}

// From is when a switched item takes effect: an init system reads its units when it
// begins.
func (it *Item) From() string {
	switch {
	case it.At == AtBoot || it.At == AtLogon:
		return it.At
	case strings.HasPrefix(string(it.Source), "own-"):
		return AtLogon
	}
	return AtBoot
}

// Items returns everything that starts, gates of Time Gate apart: by source, then by
// name.
func (l *Look) Items() []Item {
	out := l.autostarts()
	if l.Own != "" {
		own := l.readUnits(&ownUnits)
		out = append(out, own.items()...)
		out = append(out, l.busNames(FromOwnBus, l.sessionBusFolders(), own)...)
	}
	machine := l.readUnits(&machineUnits)
	out = append(out, machine.items()...)
	out = append(out, machine.scripts()...)
	out = append(out, l.busNames(FromBus, systemBusFolders, machine)...)
	out = append(out, l.profiles()...)
	for i := range out {
		out[i].LookedAt = out[i].Source.OnlyLookedAt()
	}
	return out
}

// Folders are those in which something new appears that starts here, whether they are
// there or not.
func (l *Look) Folders() []string {
	out := slices.Clone(l.autostartFolders())
	places := []*unitPlaces{&machineUnits}
	if l.Own != "" {
		places = append(places, &ownUnits)
		out = append(out, l.sessionBusFolders()...)
	}
	for _, p := range places {
		dirs := slices.Clone(p.ours)
		for _, d := range p.own {
			dirs = append(dirs, filepath.Join(l.Own, d))
		}
		for _, d := range dirs {
			out = append(out, d)
			for _, root := range []string{"default", "multi-user", "graphical", "graphical-session", "timers", "sockets", "paths"} {
				out = append(out, filepath.Join(d, root+".target.wants"))
			}
		}
	}
	return slices.Concat(out, systemBusFolders, []string{initScripts, profileParts, sessionParts})
}

// Find returns the one item of a name: whole, or without its source where that is
// enough. Its error is a [*NameError].
func Find(items []Item, name string) (Item, error) {
	var same []Item
	var ids []string
	for _, it := range items {
		if it.ID == name {
			return it, nil
		}
		_, short, _ := strings.Cut(it.ID, ":")
		if short == name || strings.TrimSuffix(strings.TrimSuffix(name, ".desktop"), ".service") == short {
			same = append(same, it)
		}
		ids = append(ids, it.ID, short)
	}
	if others := slices.DeleteFunc(slices.Clone(same), func(it Item) bool { return it.Source == FromGate }); len(others) == 1 {
		same = others // rather than the gate that takes its place
	}
	if len(same) == 1 {
		return same[0], nil
	}
	if len(same) > 1 {
		ids = nil
		for _, it := range same {
			ids = append(ids, it.ID)
		}
		return Item{}, &NameError{fmt.Sprintf("%q is the name of several items; write one of %s", name, strings.Join(ids, ", "))}
	}
	near, ok := phrase.Nearest(name, ids)
	if i := slices.IndexFunc(ids, func(id string) bool { return strings.Contains(id, name) }); !ok && i >= 0 {
		near, ok = ids[i], true
	}
	if ok {
		return Item{}, &NameError{fmt.Sprintf("there is no item %q; did you mean %q?", name, near)}
	}
	return Item{}, &NameError{fmt.Sprintf("there is no item %q; see: timegate startup --all", name)}
}

// A NameError reports a name that no item has, or several have.
type NameError struct{ text string }

func (e *NameError) Error() string { return e.text }

// below returns a path of the machine on the disk that is looked at.
func (l *Look) below(path string) string { return filepath.Join(cmp.Or(l.Root, "/"), path) }

// real follows the links of a path of the machine as the machine would, on the disk that
// is looked at.
func (l *Look) real(path string) (string, error) {
	if l.Root == "" || l.Root == "/" {
		return path, nil
	}
	return securejoin.SecureJoin(l.Root, path)
}

// program returns the whole path of a program, and what is wrong with it.
func (l *Look) program(name string) (string, string) {
	if !filepath.IsAbs(name) {
		for _, dir := range l.Path {
			if path := filepath.Join(dir, name); filepath.IsAbs(dir) && l.executable(path) == "" {
				return path, ""
			}
		}
		return name, fmt.Sprintf("there is no program %q in PATH", name)
	}
	return name, l.executable(name)
}

// behind says what is wrong with the script that a command has its program run, or with the
// first program of a line that a shell is given; "" where nothing is, or it cannot be told.
func (l *Look) behind(argv []string) string {
	script := ""
	if at := inspect.ScriptAt(argv, argv[0]); at > 0 {
		script = argv[at]
	} else if inspect.IsShell(argv[0]) && len(argv) > 2 && argv[1] == "-c" {
		if script = inspect.FirstProgram(argv[2]); script != "" {
			return l.executable(script)
		}
	}
	if !filepath.IsAbs(script) {
		return ""
	}
	if real, err := l.real(script); err == nil {
		if _, err = os.Stat(real); err == nil || !errors.Is(err, fs.ErrNotExist) {
			return ""
		}
	}
	return script + " does not exist"
}

// executable says why a path of the machine is no program, or "".
func (l *Look) executable(path string) string {
	real, err := l.real(path)
	if err == nil {
		var info os.FileInfo
		if info, err = os.Stat(real); err == nil && (!info.Mode().IsRegular() || info.Mode()&0o111 == 0) {
			return path + " is no program"
		}
	}
	if err != nil {
		return path + " does not exist"
	}
	return ""
}

// folders returns the machine's folders on the disk that is looked at, without those
// that are another one behind a link.
func (l *Look) folders(paths []string) []string {
	var out []string
	var seen []string
	for _, path := range paths {
		real, err := l.real(path)
		if err != nil {
			continue
		}
		if end, err := filepath.EvalSymlinks(real); err == nil {
			real = end
		}
		if !slices.Contains(seen, real) {
			seen = append(seen, real)
			out = append(out, path)
		}
	}
	return out
}
