package inspect

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// deepest is how many commands within commands are followed.
const deepest = 8

// Programs that do what their arguments say: interpreters run what is in files
// or in the line itself, carriers run another command.
var (
	shells       = []string{"sh", "bash", "rbash", "dash", "ash", "zsh", "ksh", "mksh", "yash", "fish", "csh", "tcsh"}
	interpreters = []string{"python", "pypy", "perl", "ruby", "node", "nodejs", "lua", "luajit", "tclsh", "wish", "expect", "php", "awk", "gawk", "mawk", "nawk", "sed",
		"make", "gmake", "java", "groovy", "Rscript", "guile", "m4", "ed", "emacs", "vim", "gdb"}
	carriers = []string{"env", "timeout", "nice", "ionice", "nohup", "setsid", "stdbuf", "chrt", "taskset", "time", "flock", "xargs", "busybox", "toybox", "setpriv", "prlimit",
		"runuser", "su", "sudo", "doas", "chroot", "unshare", "nsenter", "systemd-run", "dbus-run-session", "xvfb-run", "script", "watch", "parallel", "find", "strace", "capsh", "xterm"}
)

// kind is what a program does with its arguments.
type kind int

const (
	plain kind = iota
	shell
	interpreter
	carrier
)

// kindOf tells what kind of program a file is: by the name that links lead to in
// the end, or by being the same file as one that is known.
func kindOf(p *place) (kind, string) {
	name := filepath.Base(p.entry.path)
	for _, n := range []string{name, strings.TrimRight(name, "0123456789.")} {
		switch {
		case slices.Contains(shells, n):
			return shell, n
		case slices.Contains(interpreters, n):
			return interpreter, n
		case slices.Contains(carriers, n):
			return carrier, n
		}
	}
	info, err := os.Stat(p.reached())
	if err != nil {
		return plain, name
	}
	for _, known := range []struct {
		kind  kind
		names []string
	}{{shell, shells}, {interpreter, interpreters}, {carrier, carriers}} {
		for _, n := range known.names {
			for _, dir := range []string{"/bin/", "/usr/bin/"} {
				if other, err := os.Stat(dir + n); err == nil && os.SameFile(info, other) {
					return known.kind, n
				}
			}
		}
	}
	return plain, name
}

// command looks at a command line that is run in a folder.
func (h *hazards) command(argv []string, folder, what string, depth int) {
	if depth > deepest {
		h.unjudged(argv[0], "it goes through too many programs")
		return
	}
	p := h.find(argv[0], folder, what)
	if p == nil {
		return // that it is missing is another finding
	}
	defer p.close()
	if !p.entry.mode.IsRegular() {
		return
	}
	h.setID(p)
	if first, ok := bytes.CutPrefix(p.head(), []byte("#!")); ok {
		h.firstLine(first, argv, folder, what, depth)
		return
	}
	k, name := kindOf(p)
	if runner := runnerOf(name, filepath.Base(p.entry.path), filepath.Base(argv[0])); h.root && runner != "" && !judged(runner, argv[1:]) {
		h.unjudged(argv[0], runner+" runs what it is told to, and only few forms of it can be judged")
	}
	switch k {
	case shell:
		h.shell(argv, folder)
	case interpreter:
		h.interpreter(name, argv, folder)
	case carrier:
		h.carrier(name, argv, folder, what, depth)
	default:
		h.runs(name, argv, folder)
		h.arguments(argv, folder)
	}
}

// find looks at the program of a command, which is looked up in PATH where it
// has no slash.
func (h *hazards) find(name, folder, what string) *place {
	if strings.Contains(name, "/") {
		return h.walk(in(folder, name), what)
	}
	for _, dir := range h.search {
		path := in(folder, dir+"/"+name)
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return h.walk(path, what)
		}
	}
	return nil
}

// in is a path as it is meant in a folder. It is not made shorter: what .. leads
// to depends on the links before it.
func in(folder, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return folder + "/" + path
}

// firstLine looks at what a script's first line has the kernel run (execve(2)):
// an interpreter with at most one argument, the script, and its arguments.
func (h *hazards) firstLine(first []byte, argv []string, folder, what string, depth int) {
	line, _, _ := bytes.Cut(first, []byte("\n"))
	name, rest, _ := strings.Cut(strings.Trim(string(line), " \t\r"), " ")
	if at := strings.IndexByte(name, '\t'); at >= 0 {
		name, rest = name[:at], name[at+1:]+" "+rest
	}
	if name == "" {
		return
	}
	inner := []string{name}
	if rest = strings.Trim(rest, " \t"); rest != "" {
		inner = append(inner, rest)
	}
	what = strings.TrimSuffix(what, "'s interpreter") + "'s interpreter"
	h.command(slices.Concat(inner, argv[:1], argv[1:]), folder, what, depth+1)
}

// shell looks at a command line of a shell.
func (h *hazards) shell(argv []string, folder string) {
	for i, arg := range argv[1:] {
		if i > 0 && slices.Contains(shellValued, argv[i]) {
			continue // the value of the option before it
		}
		if len(arg) > 1 && arg[0] == '-' && arg[1] != '-' && strings.Contains(arg, "c") && i+2 < len(argv) {
			h.inline(argv[0], argv[i+2], folder)
			h.named(argv[i+3:], folder)
			return
		}
		if !strings.HasPrefix(arg, "-") && !strings.HasPrefix(arg, "+") {
			break
		}
	}
	h.script(argv[1:], folder)
}

// shellValued are options of shells whose value is the next argument.
var shellValued = []string{"-O", "+O", "-o", "+o", "--rcfile", "--init-file"}

// valued are options of interpreters whose value is the next argument.
var valued = []string{"-I", "-r", "-W", "-X", "-C", "-f", "-l", "-o", "-O", "+o", "+O", "--rcfile", "--init-file", "-d", "-c", "-e", "-E"}

// script looks at what an interpreter is given: options, a script, and what that
// is given in turn, which may be just what it works on.
func (h *hazards) script(args []string, folder string) {
	for i := 0; i < len(args); i++ {
		h.named(args[i:i+1], folder)
		switch {
		case slices.Contains(valued, args[i]) && i+1 < len(args):
			i++
			h.named(args[i:i+1], folder)
		case !strings.HasPrefix(args[i], "-"):
			h.arguments(args[i:], folder)
			return
		}
	}
}

// inlineFlags are after which interpreters take what they do from the line.
var inlineFlags = map[string][]string{
	"python": {"-c"}, "pypy": {"-c"}, "perl": {"-e", "-E", "-ne", "-pe", "-we"}, "ruby": {"-e"}, "node": {"-e", "-p", "--eval", "--print"},
	"nodejs": {"-e", "-p", "--eval", "--print"}, "lua": {"-e"}, "luajit": {"-e"}, "php": {"-r"}, "guile": {"-c"}, "Rscript": {"-e"}, "groovy": {"-e"},
	"sed": {"-e", "--expression"}, "emacs": {"--eval", "--execute"}, "vim": {"-c", "--cmd"}, "gdb": {"-ex", "--eval-command"}, "make": {"--eval"}, "gmake": {"--eval"}, "expect": {"-c"},
}

// makefiles are what make reads where it is told of no file.
var makefiles = []string{"GNUmakefile", "makefile", "Makefile"}

// interpreter looks at a command line of an interpreter.
func (h *hazards) interpreter(name string, argv []string, folder string) {
	rest := argv[1:]
	for i := 0; i < len(rest); i++ {
		if slices.Contains(inlineFlags[name], rest[i]) && i+1 < len(rest) {
			h.foreignCode(argv[0], rest[i+1])
		}
	}
	switch name {
	case "awk", "gawk", "mawk", "nawk":
		if len(rest) > 0 && !strings.HasPrefix(rest[0], "-") {
			h.foreignCode(argv[0], rest[0])
			rest = rest[1:]
		}
	case "make", "gmake":
		h.named(makefiles, folder)
	case "python", "pypy", "perl", "ruby", "node", "nodejs", "lua", "luajit", "tclsh", "wish", "expect", "php", "Rscript", "guile", "groovy":
		h.script(rest, folder)
		return
	}
	h.named(rest, folder)
}

// foreignCode judges a piece of a program in another language than a shell's:
// what only reckons and prints.
func (h *hazards) foreignCode(program, code string) {
	for _, sign := range []string{"/", "system", "exec", "`", "import", "require", "open", "eval", "|", "getline", "use ", "load", "call", "spawn", "%x"} {
		if strings.Contains(code, sign) {
			h.unjudged(program, fmt.Sprintf("%.60q is a program of its own", code))
			return
		}
	}
}

// carrier looks at the command that a program carries: what follows the first
// argument that is a program.
func (h *hazards) carrier(name string, argv []string, folder, what string, depth int) {
	for i := 1; i < len(argv); i++ {
		arg := argv[i]
		switch variable, value, assigns := strings.Cut(arg, "="); {
		case arg == "-S" || arg == "--split-string" || strings.HasPrefix(arg, "-S ") || strings.HasPrefix(arg, "--split-string="):
			h.split(argv, i, folder, what, depth)
			return
		case arg == "-c" && i+1 < len(argv) && name != "ionice" && name != "chrt":
			h.inline(argv[0], argv[i+1], folder)
			h.named(argv[i+2:], folder)
			return
		case slices.Contains(moving, arg) && i+1 < len(argv):
			i++
			folder = h.moved(argv[i], folder)
		case strings.HasPrefix(arg, "--") && slices.Contains(moving, variable):
			folder = h.moved(value, folder)
		case strings.HasPrefix(arg, "-"):
			h.arguments(argv[i-1:i+1], folder)
		case assigns && isVariable(variable):
			h.variables(map[string]string{variable: value})
		case name == "busybox" || name == "toybox":
			h.applet(argv[i:], folder, what, depth)
			return
		default:
			if p := h.find(arg, folder, what); p != nil {
				runs := p.entry.mode.IsRegular() && p.entry.mode&0o111 != 0
				p.close()
				if runs {
					h.command(argv[i:], folder, what, depth+1)
					return
				}
				if name == "chroot" { // what it runs is looked up in there
					h.named([]string{arg}, folder)
					folder = in(folder, arg)
				}
			}
		}
	}
}

// moving are options of carriers by which they go to another folder first.
var moving = []string{"-C", "--chdir", "--wd", "--working-directory", "--root", "-R"}

// moved looks at a folder that a command is carried to.
func (h *hazards) moved(to, folder string) string {
	h.named([]string{to}, folder)
	return in(folder, expand(to, h.home))
}

// running are options of other programs whose value is a command.
var running = map[string][]string{
	"rsync": {"-e", "--rsh", "--rsync-path"}, "tar": {"-I", "-F", "--to-command", "--use-compress-program", "--checkpoint-action", "--info-script", "--new-volume-script", "--rsh-command"},
	"git": {"-C", "-c", "--exec-path", "--git-dir", "--work-tree"}, "ssh": {"-F", "-o"}, "scp": {"-S", "-F", "-o"}, "sftp": {"-S", "-F", "-o"}, "sort": {"--compress-program"}, "split": {"--filter"},
}

// runs looks at the values of a program's options that are commands.
func (h *hazards) runs(name string, argv []string, folder string) {
	for i := 1; i < len(argv); i++ {
		option, value, whole := strings.Cut(argv[i], "=")
		if !slices.Contains(running[name], option) {
			continue
		}
		if !whole && i+1 < len(argv) {
			value = argv[i+1]
		}
		for word := range strings.FieldsSeq(strings.ReplaceAll(value, "=", " ")) {
			h.named([]string{word}, folder)
		}
	}
}

// split looks at a command that env splits up, as a first line has it.
func (h *hazards) split(argv []string, at int, folder, what string, depth int) {
	text, rest := strings.TrimPrefix(strings.TrimPrefix(argv[at], "-S"), "--split-string"), argv[at+1:]
	if text = strings.TrimLeft(text, " ="); text == "" && len(rest) > 0 {
		text, rest = rest[0], rest[1:]
	}
	if strings.ContainsAny(text, `\'"$`) {
		h.unjudged(argv[0], fmt.Sprintf("%.60q is put together by it", text))
		return
	}
	if words := strings.Fields(text); len(words) > 0 {
		h.carrier("env", slices.Concat(argv[:1], words, rest), folder, what, depth)
	}
}

// applet looks at what a program of many names is called.
func (h *hazards) applet(argv []string, folder, what string, depth int) {
	switch {
	case slices.Contains(shells, argv[0]):
		h.shell(argv, folder)
	case slices.Contains(interpreters, argv[0]):
		h.interpreter(argv[0], argv, folder)
	case slices.Contains(carriers, argv[0]) && depth < deepest:
		h.carrier(argv[0], argv, folder, what, depth+1)
	default:
		h.named(argv[1:], folder)
	}
}

func isVariable(name string) bool {
	return name != "" && !strings.ContainsFunc(name, func(r rune) bool {
		return r != '_' && (r < 'A' || r > 'Z') && (r < 'a' || r > 'z') && (r < '0' || r > '9')
	})
}

// named looks at all paths that arguments name, and that tell a program what to
// do.
func (h *hazards) named(args []string, folder string) {
	for _, arg := range args {
		for _, path := range pathsIn(arg) {
			path = expand(path, h.home)
			if strings.Contains(path, "/") || exists(in(folder, path)) {
				h.path(in(folder, path), "the script")
			}
		}
	}
}

// arguments warns of files that are given to a program and that others can
// change. They may be its settings, or just what it works on.
func (h *hazards) arguments(argv []string, folder string) {
	if !h.root {
		return
	}
	mild := h.mild
	defer func() { h.mild = mild }()
	for _, arg := range argv[1:] {
		for _, path := range pathsIn(arg) {
			path = in(folder, expand(path, h.home))
			if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
				h.mild = true
				h.path(path, "the file "+path+", which the program is given,")
			}
		}
	}
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// pathsIn returns what an argument may mean as paths: itself, what follows an
// equals sign, and what follows the letter of an option, each perhaps a list.
func pathsIn(arg string) []string {
	var out []string
	add := func(text string) {
		for _, p := range filepath.SplitList(text) {
			if p != "" && p != "-" && !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
	}
	if !strings.HasPrefix(arg, "-") {
		add(arg)
	}
	if _, value, ok := strings.Cut(arg, "="); ok {
		add(value)
	}
	if len(arg) > 2 && arg[0] == '-' && arg[1] != '-' {
		add(arg[2:])
	}
	return out
}
