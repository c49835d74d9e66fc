//go:build linux

package linux

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"timegate/workstation"
	"timegate/workstation/accounts"
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
// display that is there and is the account's own, or root's. A process that
// knows more of its session counts for more; an account has one. Of all people,
// only those have a desktop whom the login manager names, where it answers; where
// it does not, those whose display is root's.
func Sessions(uid int) []workstation.Session {
	byOwner := processesBy(uid)
	var strict func(owner int, vars []string) bool
	front := map[int]bool{}
	if uid < 0 {
		strict, front = onDesktop()
	}
	type found struct {
		owner int
		vars  []string
	}
	results := make(chan found, len(byOwner))
	asked := 0
	for owner, list := range byOwner {
		// Reading what a process was told may hang, if that process wants it to:
		// then nobody of its account is asked again until it comes back.
		if _, hangs := asking.LoadOrStore(owner, true); hangs {
			continue
		}
		asked++
		go func() {
			defer asking.Delete(owner)
			results <- found{owner, bestVars(list, owner)}
		}()
	}
	late := time.After(patience)
	var out []workstation.Session
	for range asked {
		select {
		case f := <-results:
			if f.vars != nil && (strict == nil || strict(f.owner, f.vars)) {
				out = append(out, workstation.Session{UID: f.owner, Vars: f.vars, HasX: HasX(f.vars, f.owner), InFront: front[f.owner]})
			}
			continue
		case <-late:
		}
		break
	}
	slices.SortFunc(out, func(a, b workstation.Session) int { return a.UID - b.UID })
	return out
}

// asking holds the accounts whose processes are being asked.
var asking sync.Map

// processesBy lists the processes of an account, or of all people's.
func processesBy(uid int) map[int][]string {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	out := map[int][]string{}
	for _, e := range entries {
		if _, err := strconv.Atoi(e.Name()); err != nil {
			continue
		}
		info, err := os.Stat("/proc/" + e.Name())
		if err != nil {
			continue
		}
		owner := -1
		if st, ok := info.Sys().(*syscall.Stat_t); ok {
			owner = int(st.Uid)
		}
		// The system's own accounts have no desktops; root's may be asked for.
		if uid < 0 && owner >= FirstPerson || owner == uid && uid >= 0 {
			out[owner] = append(out[owner], e.Name())
		}
	}
	return out
}

// bestVars returns what the process knows that knows most of a session. It may
// block.
func bestVars(processes []string, owner int) (best []string) {
	for _, pid := range processes {
		env, err := readSome("/proc/"+pid+"/environ", mostEnviron)
		if err != nil {
			continue
		}
		if vars := SessionVars(strings.Split(string(env), "\x00"), owner); len(vars) > len(best) {
			best = vars
		}
	}
	return best
}

// onDesktop returns whether somebody is on a desktop by another word than that
// of their own processes, and whose is in front where that is told.
func onDesktop() (is func(owner int, vars []string) bool, front map[int]bool) {
	graphical, front, err := graphicalSessions()
	if err == nil {
		return func(owner int, _ []string) bool { return graphical[owner] }, front
	}
	return func(_ int, vars []string) bool { return displayThere(valuesOf(vars), 0) }, nil
}

// graphicalSessions asks the login manager who is logged on to a desktop, and whose is in
// front at its seat.
func graphicalSessions() (all, front map[int]bool, err error) {
	conn, err := dialBus()
	if err != nil {
		return nil, nil, err
	}
	defer conn.Close()
	sessions, err := listSessions(conn)
	if err != nil {
		return nil, nil, err
	}
	all, front = map[int]bool{}, map[int]bool{}
	for _, s := range sessions {
		if s.graphical {
			all[s.uid] = true
			front[s.uid] = front[s.uid] || s.active
		}
	}
	return all, front, nil
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
		if name := accounts.NameOf(s.UID); name != "" {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// HasX reports whether a session's variables name an X server that is there,
// and is the account's or root's.
func HasX(vars []string, uid int) bool { return xThere(valuesOf(vars)["DISPLAY"], uid) }

func valuesOf(vars []string) map[string]string {
	out := map[string]string{}
	for _, v := range vars {
		name, value, _ := strings.Cut(v, "=")
		out[name] = value
	}
	return out
}

// SessionVars picks the variables of a desktop session of an account out of a
// list of NAME=value; there are none where its display is not there. What a
// keeper has started does not count: it may have been told of a display that
// shows nothing.
func SessionVars(env []string, uid int) []string {
	var out []string
	for _, v := range env {
		name, value, ok := strings.Cut(v, "=")
		if name == workstation.MarkVariable {
			return nil
		}
		if ok && value != "" && slices.Contains(desktopVariables, name) {
			out = append(out, v)
		}
	}
	if !displayThere(valuesOf(out), uid) {
		return nil
	}
	slices.Sort(out)
	return out
}

// displayThere reports whether the socket of a display exists and is an
// account's or root's: an X server's (X(7)), or a Wayland compositor's.
func displayThere(values map[string]string, uid int) bool {
	if name := values["WAYLAND_DISPLAY"]; name != "" {
		if !filepath.IsAbs(name) {
			name = filepath.Join(values["XDG_RUNTIME_DIR"], name)
		}
		if isSocketOf(name, uid) {
			return true
		}
	}
	return xThere(values["DISPLAY"], uid)
}

// xThere reports whether the X server that a DISPLAY names is there, and whose
// it is.
func xThere(display string, uid int) bool {
	host, rest, ok := strings.Cut(display, ":")
	number, _, _ := strings.Cut(rest, ".")
	if _, err := strconv.Atoi(number); !ok || host != "" || err != nil {
		return false
	}
	return isSocketOf(fmt.Sprintf("/tmp/.X11-unix/X%s", number), uid)
}

// isSocketOf reports whether a path is a socket that an account or root has
// made.
func isSocketOf(path string, uid int) bool {
	info, err := os.Stat(path)
	if err != nil || info.Mode()&os.ModeSocket == 0 {
		return false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && (st.Uid == 0 || int(st.Uid) == uid)
}
