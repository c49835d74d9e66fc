package launch

import (
	"bufio"
	"os"
	"strconv"
	"strings"
)

// What a fresh login gives, as the system's files say.
const (
	loginDefs    = "/etc/login.defs" // login.defs(5)
	limitsFolder = "/etc/security"   // limits.conf(5)
	usualUmask   = 0o022             // where the system says nothing of it
)

// loginVariables are files of variables; later ones count for more
// (locale.conf(5), pam_env(8)).
var loginVariables = []string{"/etc/locale.conf", "/etc/default/locale", "/etc/environment"}

// loginVars returns the variables that a login sets for everybody.
func loginVars(root bool) map[string]string {
	out := map[string]string{"PATH": "/usr/local/bin:/usr/bin:/bin", "LANG": "C.UTF-8"}
	name := "ENV_PATH"
	if root {
		name, out["PATH"] = "ENV_SUPATH", "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
	}
	if path, ok := strings.CutPrefix(loginDef(name), "PATH="); ok {
		out["PATH"] = path
	}
	for _, file := range loginVariables {
		eachLine(file, func(line string) {
			name, value, ok := strings.Cut(strings.TrimPrefix(line, "export "), "=")
			if name = strings.TrimSpace(name); ok && name != "" && !strings.ContainsAny(name, " \t") {
				out[name] = unquoted(strings.TrimSpace(value))
			}
		})
	}
	return out
}

func unquoted(value string) string {
	if n := len(value); n >= 2 && (value[0] == '"' || value[0] == '\'') && value[n-1] == value[0] {
		return value[1 : n-1]
	}
	return value
}

// LoginUmask is the file mode mask of a fresh login.
func LoginUmask() int {
	if n, err := strconv.ParseInt(loginDef("UMASK"), 8, 32); err == nil && n >= 0 && n <= 0o777 {
		return int(n)
	}
	return usualUmask
}

// loginDef returns what the system says of something in login.defs, or "".
func loginDef(name string) (value string) {
	eachLine(loginDefs, func(line string) {
		if f := strings.Fields(line); len(f) > 1 && f[0] == name {
			value = f[1]
		}
	})
	return value
}

// eachLine reads the lines of a file that are no comments.
func eachLine(path string, take func(line string)) {
	f, err := os.Open(path)
	if err != nil {
		return
	}
	defer f.Close()
	for s := bufio.NewScanner(f); s.Scan(); {
		if line := strings.TrimSpace(s.Text()); line != "" && line[0] != '#' {
			take(line)
		}
	}
}
