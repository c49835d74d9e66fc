package startup

import (
	"bufio"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// scripts returns the init scripts that start at boot, but for those in whose place the
// init system takes a unit of the same name. They are only read: which of them start is
// the init system's to arrange (Linux Standard Base, "Comment Conventions for Init
// Scripts").
func (u *units) scripts() []Item {
	l := u.look
	var entries []os.DirEntry
	if real, err := l.real(initScripts); err == nil {
		entries, _ = os.ReadDir(real)
	}
	started := l.startedScripts()
	var out []Item
	if it, ok := l.localScript(); ok {
		out = append(out, it)
	}
	for _, d := range entries {
		path := filepath.Join(initScripts, d.Name())
		header, isScript := l.header(path)
		switch {
		case strings.Contains(d.Name(), "."), u.files[d.Name()+".service"] != "", !isScript && !slices.Contains(started, d.Name()):
			continue // left over by a package manager, or taken from a unit, or no script
		}
		it := Item{ID: string(FromScript) + ":" + d.Name(), Name: d.Name(), About: header["Short-Description"], Source: FromScript, At: AtBoot,
			File: l.below(path), Command: []string{path, "start"}, Account: "root", State: Off}
		if slices.Contains(started, d.Name()) {
			it.State, it.Enabled = On, true
			if why := l.executable(path); why != "" {
				it.State, it.Why = Missing, why
			}
		}
		out = append(out, it)
	}
	return out
}

// initScripts is the folder of init scripts.
const initScripts = "/etc/init.d"

// localScript is the script that init systems run at the end of a boot, where it is
// there and executable.
func (l *Look) localScript() (Item, bool) {
	const path = "/etc/rc.local"
	real, err := l.real(path)
	if err != nil {
		return Item{}, false
	}
	if info, err := os.Stat(real); err != nil || !info.Mode().IsRegular() {
		return Item{}, false
	}
	it := Item{ID: string(FromScript) + ":rc.local", Name: "rc.local", About: "The machine's own commands at the end of a boot", Source: FromScript, At: AtBoot,
		File: l.below(path), Command: []string{path}, Account: "root", Enabled: true, State: On}
	if l.executable(path) != "" {
		it.Enabled, it.State, it.Why = false, Off, "it is not marked as executable"
	}
	return it, true
}

// startedScripts are the names of those that a link starts in one of the runlevels with
// people (2 to 5), or while the machine comes up.
func (l *Look) startedScripts() []string {
	var out []string
	for _, level := range []string{"S", "2", "3", "4", "5"} {
		real, err := l.real("/etc/rc" + level + ".d")
		if err != nil {
			continue
		}
		entries, _ := os.ReadDir(real)
		for _, d := range entries {
			if name, ok := strings.CutPrefix(d.Name(), "S"); ok {
				out = append(out, strings.TrimLeft(name, "0123456789"))
			}
		}
	}
	return out
}

// header reads the block of comments that says what a script is.
func (l *Look) header(path string) (map[string]string, bool) {
	real, err := l.real(path)
	if err != nil {
		return nil, false
	}
	if info, err := os.Stat(real); err != nil || !info.Mode().IsRegular() {
		return nil, false
	}
	f, err := os.Open(real)
	if err != nil {
		return nil, false
	}
	defer f.Close()
	const most = 64 << 10
	s := bufio.NewScanner(io.LimitReader(f, most))
	var out map[string]string
	for s.Scan() {
		line := strings.TrimSpace(s.Text())
		switch {
		case line == "### BEGIN INIT INFO":
			out = map[string]string{}
		case line == "### END INIT INFO":
			return out, out != nil
		case out != nil:
			if key, value, ok := strings.Cut(strings.TrimLeft(line, "# "), ":"); ok {
				out[strings.TrimSpace(key)] = strings.TrimSpace(value)
			}
		}
	}
	return out, false
}
