package inspect

import (
	"regexp"
	"slices"
	"strings"
)

// A form is a way of calling a runner, a program that does what it is told: only what
// its form says can be judged beforehand. Options stand before all else, each as it is
// written here; nothing is abbreviated, and letters are joined only where they are flags.
type form struct {
	flags  string            // letters of options without a value, alone or joined
	whole  []string          // other options without a value
	valued map[string]string // options with a value, which is the next argument, and what it may be
	before []string          // what comes then, an argument each
	then   string            // and then: "program", "script", "data", "words" or "" for nothing
}

// What an argument may be.
var arguments = map[string]*regexp.Regexp{
	"number":   regexp.MustCompile(`^-?\d+$`),
	"duration": regexp.MustCompile(`^\d+(\.\d+)?[smhd]?$`),
	"mask":     regexp.MustCompile(`^(0x)?[0-9a-fA-F,-]+$`),
	"name":     regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*$`),
	"word":     regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.:+-]*$`),
	"path":     regexp.MustCompile(`^[^-|]`),
	"size":     regexp.MustCompile(`^[0LK-]?\d*[kKMG]?$`),
	"any":      regexp.MustCompile(`^`),
	"quiet":    regexp.MustCompile(`^(BatchMode=yes|ConnectTimeout=\d+|StrictHostKeyChecking=(yes|accept-new))$`),
}

var (
	scripts  = form{then: "script"}
	programs = form{then: "program"}
	shellOf  = form{flags: "eux", then: "script"}
	codeOf   = form{valued: map[string]string{"-f": "path"}, then: "data"} // what it does stands in a file
)

// runners are programs that run what they are told, each with the forms that can be
// judged. One without a form never can: what it is to do belongs into a script. A program
// that is not here takes its arguments as data.
var runners = map[string][]form{
	"sh": {shellOf}, "bash": {shellOf}, "rbash": {shellOf}, "dash": {shellOf}, "ash": {shellOf}, "zsh": {shellOf}, "ksh": {shellOf}, "mksh": {shellOf}, "yash": {shellOf},
	"fish": {scripts}, "csh": {scripts}, "tcsh": {scripts},

	"python": {{flags: "BIEsSu", then: "script"}}, "pypy": {{flags: "BIEsSu", then: "script"}}, "perl": {{flags: "wT", then: "script"}}, "ruby": {{flags: "w", then: "script"}},
	"node": {scripts}, "nodejs": {scripts}, "lua": {scripts}, "luajit": {scripts}, "tclsh": {scripts}, "wish": {scripts}, "php": {scripts}, "Rscript": {scripts}, "guile": nil,
	"expect": {scripts}, "groovy": {scripts}, "java": {{valued: map[string]string{"-jar": "path"}, then: "data"}},
	"awk": {codeOf}, "gawk": {codeOf}, "mawk": {codeOf}, "nawk": {codeOf}, "original-awk": {codeOf}, "sed": {{valued: map[string]string{"-f": "path"}, then: "worked"}},
	"make": {{flags: "s", then: "words"}}, "gmake": {{flags: "s", then: "words"}},

	"env": {{flags: "i", then: "program"}}, "nohup": {programs}, "setsid": {{flags: "fcw", then: "program"}},
	"nice":    {{valued: map[string]string{"-n": "number"}, then: "program"}},
	"ionice":  {{flags: "t", valued: map[string]string{"-c": "number", "-n": "number"}, then: "program"}},
	"timeout": {{whole: []string{"--foreground", "--preserve-status"}, valued: map[string]string{"-k": "duration", "-s": "word"}, before: []string{"duration"}, then: "program"}},
	"stdbuf":  {{valued: map[string]string{"-i": "size", "-o": "size", "-e": "size"}, whole: []string{"-oL", "-eL", "-o0", "-e0", "-i0"}, then: "program"}},
	"chrt":    {{flags: "ibofr", before: []string{"number"}, then: "program"}}, "taskset": {{flags: "c", before: []string{"mask"}, then: "program"}},
	"time": {{flags: "vp", then: "program"}}, "flock": {{flags: "nxsuoF", valued: map[string]string{"-w": "number", "-E": "number"}, before: []string{"path"}, then: "program"}},
	"runuser": {{valued: map[string]string{"-u": "name"}, before: []string{"--"}, then: "program"}},

	"xterm": {{valued: map[string]string{"-T": "any", "-geometry": "any"}, before: []string{"-e"}, then: "program"}},
	"find":  {{then: "find"}},
	"wget":  {{flags: "qN", valued: map[string]string{"-O": "path", "-P": "path", "-o": "path", "-T": "number", "-t": "number"}, then: "files"}}, "zip": {{flags: "rqju0123456789", then: "files"}},
	"tar": {{then: "tar"}}, "rsync": {{then: "rsync"}}, "sort": {{then: "sort"}},
	"ssh":     {{flags: "qTnx46", valued: map[string]string{"-i": "path", "-p": "number", "-l": "name", "-o": "quiet"}, before: []string{"path"}, then: "data"}},
	"scp":     {{flags: "qpr46BC", valued: map[string]string{"-i": "path", "-P": "number", "-o": "quiet"}, then: "paths"}},
	"git":     {{valued: map[string]string{"-C": "path"}, before: []string{"verb"}, then: "words"}},
	"apt-get": {{flags: "qy", before: []string{"upkeep"}}}, "apt": {{flags: "qy", before: []string{"upkeep"}}},

	"gdb": nil, "vim": nil, "vi": nil, "nvim": nil, "vim.basic": nil, "vim.tiny": nil, "view": nil, "ex": nil, "ed": nil, "red": nil, "emacs": nil, "m4": nil,
	"busybox": nil, "toybox": nil, "setpriv": nil, "prlimit": nil, "su": nil, "sudo": nil, "doas": nil, "chroot": nil, "unshare": nil, "nsenter": nil, "systemd-run": nil, "systemd-nspawn": nil,
	"dbus-run-session": nil, "dbus-launch": nil, "xvfb-run": nil, "script": nil, "watch": nil, "parallel": nil, "xargs": nil, "strace": nil, "ltrace": nil, "capsh": nil, "setarch": nil, "linux32": nil,
	"linux64": nil, "i386": nil, "x86_64": nil, "uname26": nil, "run-parts": nil, "start-stop-daemon": nil, "sqlite": nil, "psql": nil, "mysql": nil, "mariadb": nil, "split": nil, "csplit": nil, "sftp": nil,
	"less": nil, "more": nil, "man": nil, "crontab": nil, "at": nil, "batch": nil, "dpkg": nil, "dpkg-deb": nil, "apt-key": nil, "pip": nil, "npm": nil, "npx": nil, "gem": nil, "cargo": nil, "go": nil,
	"cmake": nil, "ninja": nil, "gcc": nil, "g++": nil, "cc": nil, "ld": nil, "rpm": nil, "docker": nil, "podman": nil, "cpio": nil, "ftp": nil, "telnet": nil, "nc": nil, "ncat": nil, "socat": nil,
	"screen": nil, "tmux": nil, "logrotate": nil, "mount": nil, "ssh-agent": nil, "perf": nil, "valgrind": nil, "catchsegv": nil,
	"journalctl": nil, "systemctl": nil, "ip": nil, "update-alternatives": nil, "sg": nil, "newgrp": nil, "scriptlive": nil,

	"install": {{flags: "dDCpv", valued: map[string]string{"-m": "word", "-o": "name", "-g": "name"}, then: "files"}},
	"diff3":   {{flags: "AeExX3imT", then: "files"}}, "sdiff": {{flags: "ilWbBEs", then: "files"}},
	"choom": {{valued: map[string]string{"-n": "number"}, before: []string{"--"}, then: "program"}}, "fstab-decode": {programs},
	"service": nil, "invoke-rc.d": nil, "deb-systemd-invoke": nil, "umount": nil, "systemd-tmpfiles": nil, "timedatectl": nil, "loginctl": nil, "hostnamectl": nil,
	"agetty": nil, "getty": nil, "login": nil, "sulogin": nil, "init": nil, "systemd": nil, "switch_root": nil, "pivot_root": nil, "runcon": nil, "uclampset": nil, "tc": nil, "slattach": nil, "sysctl": nil,
	"apt-cache": nil, "apt-cdrom": nil, "apt-config": nil, "apt-mark": nil, "debconf": nil, "debconf-apt-progress": nil, "debconf-communicate": nil, "dpkg-maintscript-helper": nil, "dpkg-preconfigure": nil, "dpkg-reconfigure": nil,
	"installkernel": nil, "kernel-install": nil, "pam-auth-update": nil, "fsck": nil, "mkfs": nil, "debugfs": nil, "savelog": nil, "ldd": nil, "bashbug": nil,
	"groff": nil, "grog": nil, "nroff": nil, "troff": nil, "mandb": nil, "catman": nil, "man-recode": nil, "lesspipe": nil, "lessfile": nil, "zless": nil, "zmore": nil, "pager": nil, "editor": nil,
	"select-editor": nil, "sensible-browser": nil, "sensible-editor": nil, "sensible-pager": nil, "vipw": nil, "vigr": nil,
	"busctl": nil, "localectl": nil, "networkctl": nil, "systemd-analyze": nil, "systemd-cat": nil, "systemd-inhibit": nil, "systemd-mount": nil, "systemd-umount": nil, "systemd-notify": nil,
	"systemd-socket-activate": nil, "systemd-stdio-bridge": nil,
}

// harmless are forms of runners that are called for one thing only, word for word.
var harmless = map[string]*regexp.Regexp{
	"systemctl":  regexp.MustCompile(`^(start|stop|restart|reload|try-restart|is-active|poweroff|reboot|suspend|daemon-reload)( [A-Za-z0-9@_.-]+)*$`),
	"journalctl": regexp.MustCompile(`^--vacuum-(size|time|files)=[0-9]+[A-Za-z]*$`),
	"logrotate":  regexp.MustCompile(`^/etc/logrotate\.conf$`),
	"mount":      regexp.MustCompile(`^(-a|/[^ ]*)$`),
	"umount":     regexp.MustCompile(`^/[^ ]*$`),

	"sysctl":             regexp.MustCompile(`^(-q )?(--system|-p|(-w )?[a-z0-9_]+([./][a-z0-9_]+)+=[0-9]+)$`),
	"service":            regexp.MustCompile(`^[A-Za-z0-9@_.-]+ (start|stop|restart|reload)$`),
	"invoke-rc.d":        regexp.MustCompile(`^[A-Za-z0-9@_.-]+ (start|stop|restart|reload)$`),
	"deb-systemd-invoke": regexp.MustCompile(`^(start|stop|restart)( [A-Za-z0-9@_.-]+)+$`),
	"systemd-tmpfiles":   regexp.MustCompile(`^--(clean|create|remove)( --(clean|create|remove))*$`),
	"timedatectl":        regexp.MustCompile(`^set-(timezone|ntp) [A-Za-z0-9/_+-]+$`),
	"loginctl":           regexp.MustCompile(`^(lock-session|lock-sessions|unlock-sessions|terminate-session|terminate-user)( [A-Za-z0-9_.-]+)*$`),
	"hostnamectl":        regexp.MustCompile(`^(hostname|set-hostname) [A-Za-z0-9.-]+$`),
	"ip":                 regexp.MustCompile(`^link set( dev)? [A-Za-z0-9_.-]+ (up|down)$`),
}

// Options of programs with many of them: letters without a value or with one, and whole
// ones, of which some have a value behind an equals sign.
var optionSets = map[string]struct {
	letters string
	whole   []string
}{
	"tar": {"cxtruzjJavfpPhSkmUCXTg", []string{"--create", "--extract", "--list", "--file", "--directory", "--exclude", "--exclude-from", "--exclude-caches", "--one-file-system", "--numeric-owner",
		"--xattrs", "--acls", "--gzip", "--xz", "--zstd", "--bzip2", "--listed-incremental", "--verbose", "--preserve-permissions", "--totals", "--files-from"}},
	"rsync": {"avzrltpgoDHAXxnPhuWScKLRqiOJ", []string{"--archive", "--delete", "--delete-after", "--delete-during", "--delete-excluded", "--exclude", "--exclude-from", "--include", "--one-file-system", "--numeric-ids",
		"--link-dest", "--bwlimit", "--stats", "--partial", "--progress", "--log-file", "--dry-run", "--checksum", "--compress", "--verbose", "--quiet", "--timeout", "--max-size", "--ignore-errors"}},
	"sort": {"bdfghiMnRrVkmosStuzc", []string{"--reverse", "--unique", "--numeric-sort", "--output", "--key", "--field-separator", "--check"}},
}

var (
	gitVerbs = []string{"fetch", "pull", "push", "gc", "fsck", "status", "log", "prune", "maintenance"}
	aptVerbs = []string{"update", "upgrade", "dist-upgrade", "full-upgrade", "autoremove", "autoclean", "clean"}
	// findTests are what find may look at, with how many values; of what it may do, it may
	// print and delete.
	findTests = map[string]int{"-name": 1, "-iname": 1, "-path": 1, "-type": 1, "-mtime": 1, "-mmin": 1, "-atime": 1, "-ctime": 1, "-size": 1, "-maxdepth": 1, "-mindepth": 1, "-newer": 1, "-user": 1,
		"-group": 1, "-perm": 1, "-empty": 0, "-xdev": 0, "-depth": 0, "-print": 0, "-print0": 0, "-delete": 0, "-prune": 0, "!": 0, "(": 0, ")": 0, "-o": 0, "-a": 0, "-not": 0, "-links": 1, "-nouser": 0, "-nogroup": 0}
)

// runnerOf returns the name by which a program is known as a runner, or "". It may be
// called by several: its own, without a version, and that of its caller.
func runnerOf(names ...string) string {
	for _, full := range names {
		for _, name := range []string{full, strings.TrimRight(full, "0123456789.-")} {
			if _, is := runners[name]; is || slices.Contains(rooted, name) {
				return name
			}
		}
		if strings.HasPrefix(full, "ld-linux") || strings.HasPrefix(full, "ld.so") || strings.HasPrefix(full, "ld-") && strings.Contains(full, ".so") {
			return "ld.so"
		}
	}
	return ""
}

// rooted are programs for accounts that can be told to do their work in another folder as
// its root, whose libraries they load then.
var rooted = []string{"useradd", "userdel", "usermod", "groupadd", "groupdel", "groupmod", "groupmems", "newusers", "passwd", "chage", "chfn", "chsh", "chpasswd", "chgpasswd", "gpasswd",
	"grpck", "pwck", "grpconv", "grpunconv", "pwconv", "pwunconv", "lastlog", "faillog"}

// elsewhere reports whether arguments lead such a program to another root: options of one
// letter may be joined, long ones shortened.
func elsewhere(args []string) bool {
	return slices.ContainsFunc(args, func(a string) bool {
		return strings.HasPrefix(a, "--r") || strings.HasPrefix(a, "--p") || strings.HasPrefix(a, "-") && !strings.HasPrefix(a, "--") && strings.ContainsAny(a, "RP")
	})
}

// judged reports whether the arguments of a runner have a form that can be judged.
func judged(runner string, args []string) bool {
	if slices.Contains(rooted, runner) {
		return !elsewhere(args)
	}
	if re := harmless[runner]; re != nil && re.MatchString(strings.Join(args, " ")) && !slices.ContainsFunc(args, func(a string) bool { return strings.Contains(a, " ") }) {
		return true
	}
	if text, splits := "", runner == "env" && len(args) > 0; splits {
		if text, splits = strings.CutPrefix(args[0], "-S"); splits && !strings.ContainsAny(text, `\'"$`) { // as a first line has it
			return judged(runner, append(strings.Fields(text), args[1:]...))
		}
	}
	return slices.ContainsFunc(runners[runner], func(f form) bool { return f.fits(runner, args) })
}

func (f *form) fits(runner string, args []string) bool {
	args, seen, ok := f.options(args)
	if !ok || len(args) < len(f.before) {
		return false
	}
	for i, what := range f.before {
		switch arg := args[i]; {
		case what == arg && strings.HasPrefix(what, "-"):
		case what == "verb" && slices.Contains(gitVerbs, arg), what == "upkeep" && slices.Contains(aptVerbs, arg):
		case arguments[what] != nil && arguments[what].MatchString(arg):
		default:
			return false
		}
	}
	args = args[len(f.before):]
	switch f.then {
	case "":
		return len(args) == 0
	case "program":
		for runner == "env" && len(args) > 0 {
			name, _, assigns := strings.Cut(args[0], "=")
			if !assigns || !isVariable(name) {
				break
			}
			args = args[1:]
		}
		return len(args) > 0 && !strings.HasPrefix(args[0], "-")
	case "script":
		return len(args) > 0 && strings.Contains(args[0], "/") && !strings.HasPrefix(args[0], "-")
	case "data": // where an option names what is done
		return seen > 0 || len(f.valued) == 0 || runner == "ssh"
	case "worked": // options are options also behind what is worked on
		return seen > 0 && !slices.ContainsFunc(args, func(a string) bool { return !arguments["path"].MatchString(a) })
	case "words":
		return !slices.ContainsFunc(args, func(a string) bool { return !arguments["word"].MatchString(a) && !(runner == "git" && quietOption(a)) })
	case "paths":
		return len(args) > 1 && !slices.ContainsFunc(args, func(a string) bool { return !arguments["path"].MatchString(a) })
	case "files":
		return len(args) > 0 && !slices.ContainsFunc(args, func(a string) bool { return !arguments["path"].MatchString(a) })
	case "find":
		return fitsFind(args)
	}
	return fitsOptions(f.then, args)
}

func quietOption(arg string) bool {
	return slices.Contains([]string{"-q", "--quiet", "--all", "--prune", "--ff-only", "--tags", "--force", "-f", "--auto"}, arg)
}

// options takes the options from the front, and says how many have a value.
func (f *form) options(args []string) (rest []string, valued int, ok bool) {
	for len(args) > 0 && strings.HasPrefix(args[0], "-") && args[0] != "-" && args[0] != "--" {
		arg := args[0]
		if len(f.before) > 0 && arg == f.before[0] {
			break
		}
		if what, is := f.valued[arg]; is {
			if len(args) < 2 || !arguments[what].MatchString(args[1]) {
				return nil, 0, false
			}
			args, valued = args[2:], valued+1
			continue
		}
		if !slices.Contains(f.whole, arg) && (strings.Trim(arg[1:], f.flags) != "" || f.flags == "") {
			if f.then == "find" || optionSets[f.then].letters != "" {
				return args, valued, true // they stand anywhere
			}
			return nil, 0, false
		}
		args = args[1:]
	}
	return args, valued, true
}

// fitsFind reports whether find looks, prints and deletes, and does nothing else.
func fitsFind(args []string) bool {
	for len(args) > 0 && !strings.HasPrefix(args[0], "-") && args[0] != "!" && args[0] != "(" {
		args = args[1:]
	}
	for len(args) > 0 {
		n, is := findTests[args[0]]
		if !is || len(args) <= n {
			return false
		}
		args = args[1+n:]
	}
	return true
}

// fitsOptions reports whether all options of a program are among those that are known.
func fitsOptions(program string, args []string) bool {
	set := optionSets[program]
	for i, arg := range args {
		switch name, _, _ := strings.Cut(arg, "="); {
		case arg == "-" || !strings.HasPrefix(arg, "-"):
			if program == "tar" && i == 0 && strings.Trim(arg, set.letters) != "" {
				return false // its first argument is letters, also without a dash
			}
		case strings.HasPrefix(arg, "--"):
			if !slices.Contains(set.whole, name) {
				return false
			}
		case strings.Trim(arg[1:2], set.letters) != "" || program != "sort" && strings.Trim(arg[1:], set.letters) != "":
			return false
		}
	}
	return true
}
