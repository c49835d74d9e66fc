//go:build linux

package linux

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"timegate/workstation"
)

// desktopVariables are by what a program reaches a desktop session: its
// display, its message bus, its runtime folder.
var desktopVariables = []string{"DISPLAY", "WAYLAND_DISPLAY", "XAUTHORITY", "XDG_RUNTIME_DIR", "DBUS_SESSION_BUS_ADDRESS",
	"XDG_SESSION_ID", "XDG_SESSION_TYPE", "XDG_CURRENT_DESKTOP", "XDG_SEAT", "DESKTOP_SESSION"}

// FirstPerson is the lowest number of a person's account (useradd(8)); those
// below are the system's own.
const FirstPerson = 1000

// Sessions finds the desktop sessions of an account, or of all people where
// uid is negative, by the processes in them: those that were told of a
// display that is there. A process that knows more of its session counts for
// more; an account has one.
func Sessions(uid int) []workstation.Session {
	best := map[int][]string{}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if _, err := strconv.Atoi(e.Name()); err != nil {
			continue
		}
		info, err := os.Stat("/proc/" + e.Name())
		if err != nil {
			continue
		}
		st, ok := info.Sys().(*syscall.Stat_t)
		owner := -1
		if ok {
			owner = int(st.Uid)
		}
		// The system's own accounts have no desktops; root's may be asked for.
		if uid >= 0 && owner != uid || uid < 0 && owner < FirstPerson {
			continue
		}
		env, err := os.ReadFile("/proc/" + e.Name() + "/environ")
		if err != nil {
			continue
		}
		if vars := sessionVars(string(env)); len(vars) > len(best[owner]) {
			best[owner] = vars
		}
	}
	var out []workstation.Session
	for owner, vars := range best {
		out = append(out, workstation.Session{UID: owner, Vars: vars, HasX: HasX(vars)})
	}
	slices.SortFunc(out, func(a, b workstation.Session) int { return a.UID - b.UID })
	return out
}

// Sessions implements [workstation.Workstation]: the variables of a session are
// in its processes.
func (m *Machine) Sessions(int) ([]workstation.Session, bool) { return nil, false }

// desktops returns the accounts that are logged on to a desktop, as
// [engine.Facts] has them.
func desktops() []string {
	list := Sessions(-1)
	if own := os.Getuid(); !slices.ContainsFunc(list, func(s workstation.Session) bool { return s.UID == own }) {
		list = append(list, Sessions(own)...)
	}
	var out []string
	for _, s := range list {
		if s.UID == os.Getuid() {
			out = append(out, "")
		}
		if u, err := user.LookupId(strconv.Itoa(s.UID)); err == nil {
			out = append(out, u.Username)
		}
	}
	slices.Sort(out)
	return out
}

// HasX reports whether a session's variables name an X server that is
// there.
func HasX(vars []string) bool {
	for _, v := range vars {
		if name, ok := strings.CutPrefix(v, "DISPLAY="); ok {
			return xThere(name)
		}
	}
	return false
}

// sessionVars picks the variables of a desktop session out of an environment;
// there are none where its display is not there. What a keeper has started
// does not count: it may have been told of a display that shows nothing.
func sessionVars(env string) []string { return SessionVars(strings.Split(env, "\x00")) }

// SessionVars picks the variables of a desktop session out of a list of
// NAME=value.
func SessionVars(env []string) []string {
	var out []string
	values := map[string]string{}
	for _, v := range env {
		name, value, ok := strings.Cut(v, "=")
		if name == workstation.MarkVariable {
			return nil
		}
		if ok && value != "" && slices.Contains(desktopVariables, name) {
			values[name] = value
			out = append(out, v)
		}
	}
	if !displayThere(values) {
		return nil
	}
	slices.Sort(out)
	return out
}

// displayThere reports whether the socket of a display exists: an X server's
// (X(7)), or a Wayland compositor's.
func displayThere(values map[string]string) bool {
	if name := values["WAYLAND_DISPLAY"]; name != "" {
		if !filepath.IsAbs(name) {
			name = filepath.Join(values["XDG_RUNTIME_DIR"], name)
		}
		if isSocket(name) {
			return true
		}
	}
	return xThere(values["DISPLAY"])
}

// xThere reports whether the X server that a DISPLAY names is there.
func xThere(display string) bool {
	host, rest, ok := strings.Cut(display, ":")
	number, _, _ := strings.Cut(rest, ".")
	if _, err := strconv.Atoi(number); !ok || host != "" || err != nil {
		return false
	}
	return isSocket(fmt.Sprintf("/tmp/.X11-unix/X%s", number))
}

func isSocket(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode()&os.ModeSocket != 0
}
