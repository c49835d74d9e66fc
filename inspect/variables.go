package inspect

import (
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"timegate/core/gate"
)

// plainVariables are variables that say in which words and how wide a program speaks, and
// nothing else, as long as their values are plain: a path in one of them would be read.
var (
	plainVariables = regexp.MustCompile(`^(LANG|LANGUAGE|LC_[A-Z]+|TZ|TERM|COLUMNS|LINES|NO_COLOR|USER|LOGNAME)$`)
	plainValue     = regexp.MustCompile(`^[A-Za-z0-9_@,:+. -]*$`)
	zoneName       = regexp.MustCompile(`^[A-Za-z0-9_+-]+(/[A-Za-z0-9_+-]+)*$`)
)

// pathVariables are those whose value is a list of paths, from which programs take what
// they run or read. It is enough that nobody can change what lies there.
var pathVariables = []string{"PATH", "HOME", "TMPDIR", "XDG_CONFIG_HOME", "XDG_CONFIG_DIRS", "XDG_DATA_HOME", "XDG_DATA_DIRS", "XDG_STATE_HOME", "XDG_CACHE_HOME"}

// variables looks at the variables that are given to a program. With root's rights only
// those are taken that are known to be harmless: of all others somebody would have to know
// what the program, and all that it runs, makes of them.
func (h *hazards) variables(env map[string]string) {
	for _, name := range slices.Sorted(maps.Keys(env)) {
		value := env[name]
		switch {
		case h.trustsVariable(name):
			h.tell(gate.Finding{Severity: gate.Warning, Code: "trusted-variable", Message: fmt.Sprintf("the gate trusts the variable %s, whatever the program makes of it", name),
				Remedy: "take it out of trust in [as] where it is no longer needed"})
		case steersLoading(name):
			h.add("loader-environment", fmt.Sprintf("the variable %s lets other code be loaded into the program", name), "take it out of [as] env")
		case slices.Contains(pathVariables, name) || !h.root && leadsSomewhere(name):
			h.pathsIn(name, value)
		case plainVariables.MatchString(name) && (plainValue.MatchString(value) || name == "TZ" && zoneName.MatchString(value)):
		case h.root:
			h.add("unjudged-variable", fmt.Sprintf("it cannot be judged beforehand what the program makes of the variable %s", name),
				fmt.Sprintf("set it in a script that only root can write; or, if it is the program's own and leads nowhere, trust = [%q] in [as]", "$"+name))
		}
	}
}

// pathsIn looks at the paths that a variable names.
func (h *hazards) pathsIn(name, value string) {
	for _, path := range filepath.SplitList(value) {
		switch {
		case filepath.IsAbs(expand(path, h.home)):
			h.path(expand(path, h.home), "a folder that the variable "+name+" names")
		case h.root || name == "PATH":
			h.add("relative-program", fmt.Sprintf("%s names %q, which is wherever the program is at the time", name, path), "write whole paths, and no empty one")
		}
	}
}

// trustsVariable reports whether the gate trusts a variable: by its name behind a $, or by
// the beginning of it and a *.
func (h *hazards) trustsVariable(name string) bool {
	return slices.ContainsFunc(h.trust, func(t string) bool {
		t, is := strings.CutPrefix(t, "$")
		begins, many := strings.CutSuffix(t, "*")
		return is && (t == name || many && strings.HasPrefix(name, begins))
	})
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

// leadsSomewhere reports whether programs take code, or what they do, from where a
// variable leads.
func leadsSomewhere(name string) bool {
	if slices.Contains([]string{"ZDOTDIR", "SHELL", "EDITOR", "VISUAL", "PAGER"}, name) || strings.HasPrefix(name, "XDG_CONFIG_") || strings.HasPrefix(name, "XDG_DATA_") {
		return true
	}
	for _, end := range []string{"PATH", "LIB", "RC", "CONFIG", "CONF"} {
		if strings.HasSuffix(name, end) {
			return true
		}
	}
	return false
}
