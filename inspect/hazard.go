package inspect

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"timegate/core/gate"
	"timegate/core/words"
	"timegate/workstation/accounts"
)

// A Command is what a gate starts.
type Command struct {
	Gate   *gate.Gate
	Argv   []string // the program's whole path, and its arguments
	Folder string   // working folder
	UID    int      // of the account it runs as
	Home   string   // of that account
	Path   string   // where it finds other programs
	// Measures are the commands of the gate's readings, which run with its rights, too.
	Measures [][]string
}

// Hazards finds out who but root, and the account as which it runs, could
// change what a program with that account's rights does: by writing to the
// program, to an interpreter, to what its arguments and its variables lead to,
// to its working folder, or to a folder above one of them. Paths are resolved
// as the kernel does it, link by link, by descriptors. What a command line does
// that cannot be judged is one too, where it has root's rights.
func Hazards(c Command) []gate.Finding {
	g := c.Gate
	h := &hazards{trusted: []int{0, c.UID}, root: c.UID == 0, home: c.Home, search: filepath.SplitList(c.Path), trust: g.As.Trust,
		copied: "timegate change " + gate.CommandLine(g.Name) + " --copy-script -- " + gate.CommandLine(c.Argv[0])}
	if !strings.HasPrefix(g.Run[0], "/") && !strings.HasPrefix(g.Run[0], "~/") {
		h.add("relative-program", fmt.Sprintf("the program %q is looked up in PATH, where another may come first", g.Run[0]), "write its whole path")
	}
	h.path(c.Folder, "the working folder")
	h.command(c.Argv, c.Folder, "the program", 0)
	for _, argv := range c.Measures {
		if !strings.HasPrefix(argv[0], "/") {
			h.add("relative-program", fmt.Sprintf("the program %q of a reading is looked up in PATH, where another may come first", argv[0]), "write its whole path")
		}
		h.command(argv, c.Folder, "the program of a reading", 0)
	}
	for _, file := range g.DaysFiles() {
		h.path(expand(file, c.Home), "the file of days")
	}
	h.variables(g.As.Env)
	slices.SortFunc(h.found, func(a, b gate.Finding) int { return strings.Compare(a.Message, b.Message) })
	return h.found
}

// expand puts a home folder in the place of a leading ~.
func expand(path, folder string) string {
	if path == "~" || strings.HasPrefix(path, "~/") {
		return folder + path[1:]
	}
	return path
}

// WritableByOthers finds out who but root could change a file, or put another
// in its place.
func WritableByOthers(path string) []gate.Finding {
	h := hazards{trusted: []int{0}, sticky: true}
	h.path(path, "the gate file")
	return h.found
}

// FolderHazards finds out who but root and an account could change what lies in
// a folder, also one that is not there yet: by writing to it, or to a folder
// above it. One that everybody may write but where nobody can take away what is
// another's (the sticky bit in inode(7)) is no hazard, if what lies in it is
// there.
func FolderHazards(path string, uid int) []gate.Finding {
	h := hazards{trusted: []int{0, uid}, sticky: true}
	h.path(path, "the folder")
	return h.found
}

// EmulatorHazards finds out who could change a terminal emulator that is
// started with an account's rights.
func EmulatorHazards(path string, uid int) []gate.Finding {
	h := hazards{trusted: []int{0, uid}, root: uid == 0}
	h.command([]string{path}, "/", "the terminal emulator", 0)
	return h.found
}

type hazards struct {
	trusted []int    // the accounts that may write
	root    bool     // what cannot be judged is refused
	home    string   // of the account
	search  []string // the folders in which programs are looked up
	trust   []string // paths of which the gate says that they are to be trusted
	copied  string   // the command that keeps a copy of the program out of reach
	found   []gate.Finding
	seen    map[string]bool
	sticky  bool // a folder for all is no hazard, where what is each one's stays so
	mild    bool // what is found is a warning: it may be just what the program works on
}

func (h *hazards) add(code, message, remedy string) {
	h.tell(gate.Finding{Severity: gate.SevereError, Code: code, Message: message, Remedy: remedy})
}

// tell adds a finding, if it was not told with the same words and at least as severely.
func (h *hazards) tell(f gate.Finding) {
	f.Message, f.Remedy = words.Line(f.Message), words.Line(f.Remedy)
	for _, other := range h.found {
		if other.Message == f.Message && (other.Severity == f.Severity || other.Severity == gate.SevereError) {
			return
		}
	}
	h.found = append(h.found, f)
}

// unjudged tells of what nobody can judge beforehand. With root's rights it is refused,
// else it is a warning: what the command line names in plain was looked at.
func (h *hazards) unjudged(program, what string) {
	if h.trusts(program) {
		return
	}
	f := gate.Finding{Severity: gate.SevereError, Code: "unjudged-command", Message: "it cannot be judged beforehand what " + program + " is made to do: " + what}
	writes := "root"
	if !h.root {
		f.Severity, writes = gate.Warning, "root or that account"
	}
	f.Remedy = fmt.Sprintf("put it into a script that only %s can write, as --line does, and run that; or, if you have made sure of it, trust = [%q] in [as]", writes, program)
	h.tell(f)
}

// trusts reports whether a path is one that the gate trusts, or lies in one.
func (h *hazards) trusts(path string) bool {
	return slices.ContainsFunc(h.trust, func(t string) bool {
		t = filepath.Clean(t)
		return path == t || strings.HasPrefix(path, strings.TrimSuffix(t, "/")+"/")
	})
}

// path looks at a file or folder and at every folder above it, on the way that
// the kernel takes. It returns nil where it is not there.
func (h *hazards) path(path, what string) *place {
	p := h.walk(path, what)
	if p != nil {
		p.close()
	}
	return p
}

// entry is what is known of a file or folder on the way.
type entry struct {
	path     string
	mode     fs.FileMode
	uid, gid int
	acl      bool   // it has an access control list beyond its mode
	foreign  string // the kind of file system, where that can be changed from outside
}

// look finds out who may write to one file or folder. It reports whether the
// way may go on.
func (h *hazards) look(e entry, what string) (on bool) {
	if h.seen == nil {
		h.seen = map[string]bool{}
	}
	if h.seen[e.path] {
		return e.foreign == ""
	}
	h.seen[e.path] = true
	path, quoted := e.path, gate.CommandLine(e.path)
	move := "keep it in a folder that only root can write"
	switch {
	case !slices.Contains(h.trusted, e.uid):
		remedy := "read it, and put a copy of it where only root can write"
		if h.copied != "" && what == "the program" {
			remedy = "read it, and keep a copy of it: " + h.copied
		}
		h.report(path, what, accountName(e.uid)+", who owns it", remedy)
	case e.mode&(fs.ModeSymlink|fs.ModeCharDevice) != 0: // its mode says nothing of what it is
	case e.mode&0o002 != 0 && e.mode&fs.ModeSticky != 0:
		h.report(path, what, "everybody", move)
	case e.mode&0o002 != 0:
		h.report(path, what, "everybody", "chmod o-w "+quoted)
	case e.mode&0o020 != 0 && e.acl:
		h.report(path, what, "those whom its access control list names", "setfacl -b "+quoted+", then chmod g-w "+quoted)
	case e.mode&0o020 != 0 && e.gid != 0:
		h.report(path, what, "the group "+groupName(e.gid), "chmod g-w "+quoted)
	}
	if e.foreign != "" {
		h.report(path, what, "whoever has the "+e.foreign+" it lies on", "copy it to a file system of this machine")
	}
	return e.foreign == ""
}

// keepsNames reports whether everybody may write to a folder, and yet nobody but root and
// the account can take away what is theirs in it, as the kernel has it for a sticky folder.
func (h *hazards) keepsNames(e *entry) bool {
	return e.mode.IsDir() && e.mode&0o002 != 0 && e.mode&fs.ModeSticky != 0 && e.foreign == "" && slices.Contains(h.trusted, e.uid)
}

// report tells who can change a path.
func (h *hazards) report(path, what, who, remedy string) {
	message := fmt.Sprintf("%s can be changed by %s: %s", what, who, path)
	f := gate.Finding{Severity: gate.SevereError, Code: "path-hazard", Message: message, Remedy: remedy}
	switch {
	case h.trusts(path):
		f.Severity, f.Code = gate.Warning, "trusted-path"
		f.Message += ", and the gate trusts it"
		f.Remedy = remedy + "; then take it out of trust in [as]"
	case h.mild:
		f.Severity, f.Code = gate.Warning, "argument-hazard"
		f.Remedy += "; or leave it so, if it does not tell the program what to do"
	}
	h.tell(f)
}

// setID refuses a program that gives root's rights up for somebody else's: it
// is then that one's to say what happens.
func (h *hazards) setID(p *place) {
	if h.root && p.entry.mode&fs.ModeSetuid != 0 && p.entry.uid != 0 {
		h.add("set-id", fmt.Sprintf("the program takes the rights of %s in place of root's: %s", accountName(p.entry.uid), p.entry.path), "chmod u-s "+gate.CommandLine(p.entry.path))
	}
}

func accountName(uid int) string {
	if name := accounts.NameOf(uid); name != "" {
		return name
	}
	return "account " + strconv.Itoa(uid)
}

func groupName(gid int) string {
	if name, err := accounts.GroupName(gid); err == nil {
		return name
	}
	return strconv.Itoa(gid)
}

// place is a file or folder that a path has led to.
type place struct {
	entry entry
	file  *os.File // by which it is looked at, and not opened; nil once it is closed
}

func (p *place) close() {
	if p.file != nil {
		p.file.Close()
		p.file = nil
	}
}
