package inspect

import (
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"timegate/core/gate"
)

// Hazards finds out who but root, and the account as which it runs, could
// change what a program with that account's rights does: by writing to the
// program, to the interpreter that its first line names, to a script among
// its arguments, to its working folder, or to a folder above one of them,
// links resolved. argv[0] is the program's whole path.
func Hazards(g *gate.Gate, argv []string, folder string, uid int) []gate.Finding {
	h := hazards{trusted: []int{0, uid}, copied: fmt.Sprintf("timegate change %s --copy-script -- %s", g.Name, argv[0])}
	if !strings.HasPrefix(g.Run[0], "/") && !strings.HasPrefix(g.Run[0], "~/") {
		h.add("relative-program", fmt.Sprintf("the program %q is looked up in PATH, where another may come first", g.Run[0]), "write its whole path")
	}
	h.program(argv, 0)
	h.path(folder, "the working folder")
	for _, file := range g.DaysFiles() {
		h.path(file, "the file of days")
	}
	if uid == 0 {
		h.arguments(argv)
		h.setID(argv[0])
	}
	for name := range g.As.Env {
		if steersLoading(name) {
			h.add("loader-environment", fmt.Sprintf("the variable %s lets other code be loaded into the program", name), "take it out of [as] env")
		}
	}
	slices.SortFunc(h.found, func(a, b gate.Finding) int { return strings.Compare(a.Message, b.Message) })
	return h.found
}

// WritableByOthers finds out who but root could change a file, or put another
// in its place.
func WritableByOthers(path string) []gate.Finding {
	h := hazards{trusted: []int{0}}
	h.path(path, "the gate file")
	return h.found
}

// EmulatorHazards finds out who could change a terminal emulator that is
// started with an account's rights.
func EmulatorHazards(path string, uid int) []gate.Finding {
	h := hazards{trusted: []int{0, uid}, emulator: true}
	h.program([]string{path}, 0)
	return h.found
}

type hazards struct {
	trusted  []int  // the accounts that may write
	copied   string // the command that keeps a copy of the program out of reach
	found    []gate.Finding
	emulator bool // it is not the gate's program, but the terminal that it is shown in
	seen     map[string]bool
}

func (h *hazards) add(code, message, remedy string) {
	h.found = append(h.found, gate.Finding{Severity: gate.SevereError, Code: code, Message: message, Remedy: remedy})
}

// deepest is how many interpreters of interpreters, or links, are followed.
const deepest = 8

// program looks at a program, its interpreter and its script.
func (h *hazards) program(argv []string, depth int) {
	path, what := argv[0], "the program"
	if h.emulator {
		what = "the terminal emulator"
	}
	h.path(path, what)
	if depth == deepest {
		return
	}
	if interpreter := interpreterOf(path); interpreter != "" {
		h.program([]string{interpreter}, depth+1)
	}
	if isInterpreter(path) {
		for _, arg := range argv[1:] {
			if strings.HasPrefix(arg, "/") {
				if info, err := os.Stat(arg); err == nil && info.Mode().IsRegular() {
					h.path(arg, "the script")
				}
			}
		}
	}
}

// setID refuses a program that gives root's rights up for somebody else's: it
// is then that one's to say what happens.
func (h *hazards) setID(path string) {
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() || info.Mode()&fs.ModeSetuid == 0 {
		return
	}
	if uid, _, ok := ownersOf(info); ok && uid != 0 {
		h.add("set-id", fmt.Sprintf("the program takes the rights of %s in place of root's: %s", accountName(uid), path), "chmod u-s "+path)
	}
}

// arguments warns of files that are given to a program and that others can
// change. They may be its settings, or just what it works on.
func (h *hazards) arguments(argv []string) {
	if isInterpreter(argv[0]) {
		return // they are looked at as scripts
	}
	inner := hazards{trusted: h.trusted, seen: h.seen}
	for _, arg := range argv[1:] {
		if _, value, ok := strings.Cut(arg, "="); ok && strings.HasPrefix(arg, "-") {
			arg = value
		}
		if info, err := os.Stat(arg); filepath.IsAbs(arg) && err == nil && info.Mode().IsRegular() {
			inner.path(arg, "the file "+arg+", which the program is given,")
		}
	}
	for _, f := range inner.found {
		f.Severity, f.Code = gate.Warning, "argument-hazard"
		f.Remedy += "; or leave it so, if it does not tell the program what to do"
		h.found = append(h.found, f)
	}
}

// interpreters are programs that do what a file among their arguments says.
var interpreters = []string{"sh", "bash", "dash", "ash", "zsh", "ksh", "fish", "python", "perl", "ruby", "node", "lua", "tclsh", "php", "awk", "gawk", "env"}

func isInterpreter(path string) bool {
	name := strings.TrimRight(filepath.Base(path), "0123456789.")
	return slices.Contains(interpreters, name)
}

// steersLoading reports whether a variable changes what code a program loads.
func steersLoading(name string) bool {
	for _, prefix := range []string{"LD_", "GCONV_PATH", "BASH_ENV", "ENV", "SHELLOPTS", "PYTHON", "PERL5", "PERLLIB", "RUBYLIB", "RUBYOPT",
		"NODE_PATH", "NODE_OPTIONS", "LUA_PATH", "LUA_CPATH", "TCLLIBPATH", "JAVA_TOOL_OPTIONS", "GIO_MODULE_DIR", "GTK_MODULES", "QT_PLUGIN_PATH"} {
		if strings.HasPrefix(name, prefix) && (prefix != "ENV" || name == "ENV") {
			return true
		}
	}
	return false
}

// path looks at a file or folder and at every folder above it, on every way
// that links take to it.
func (h *hazards) path(path, what string) {
	if h.seen == nil {
		h.seen = map[string]bool{}
	}
	h.walk(filepath.Clean(path), what, 0)
}

func (h *hazards) walk(path, what string, links int) {
	if links > 4*deepest {
		h.add("path-hazard", fmt.Sprintf("%s %s goes through too many links", what, path), "write the path of the file itself")
		return
	}
	at := "/"
	h.look(at, what)
	parts := strings.Split(strings.Trim(path, "/"), "/")
	for i, part := range parts {
		if part == "" {
			continue
		}
		at = filepath.Join(at, part)
		info, err := os.Lstat(at)
		if err != nil {
			return // that it is missing is another finding
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			to, err := os.Readlink(at)
			if err != nil {
				return
			}
			if !filepath.IsAbs(to) {
				to = filepath.Join(filepath.Dir(at), to)
			}
			h.walk(filepath.Join(append([]string{to}, parts[i+1:]...)...), what, links+1)
			return
		}
		h.look(at, what)
	}
}

// look finds out who may write to one file or folder.
func (h *hazards) look(path, what string) {
	if h.seen[path] {
		return
	}
	h.seen[path] = true
	info, err := os.Stat(path)
	if err != nil {
		return
	}
	uid, gid, ok := ownersOf(info)
	if !ok {
		return
	}
	report := func(who, remedy string) {
		if what == "the program" && info.IsDir() && h.copied != "" {
			remedy = h.copied // a folder may be others' for good reasons
		}
		h.add("path-hazard", fmt.Sprintf("%s can be changed by %s: %s", what, who, path), remedy)
	}
	mode := info.Mode()
	switch {
	case !slices.Contains(h.trusted, uid):
		report(accountName(uid)+", who owns it", "chown root "+path)
	case mode&0o002 != 0:
		report("everybody", "chmod o-w "+path)
	case mode&0o020 != 0 && hasACL(path):
		report("those whom its access control list names", "setfacl -b "+path+", then chmod g-w "+path)
	case mode&0o020 != 0 && gid != 0:
		report("the group "+groupName(gid), "chmod g-w "+path)
	}
	if kind := foreignFS(path); kind != "" {
		report("whoever has the "+kind+" it lies on", "copy it to a file system of this machine")
	}
}

func accountName(uid int) string {
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		return u.Username
	}
	return "account " + strconv.Itoa(uid)
}

func groupName(gid int) string {
	if g, err := user.LookupGroupId(strconv.Itoa(gid)); err == nil {
		return g.Name
	}
	return strconv.Itoa(gid)
}
