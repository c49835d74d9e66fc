package launch

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/desktop"
	"timegate/inspect"
	"timegate/workstation"
	"timegate/workstation/accounts"
	"timegate/workstation/here"
)

// joinDesktop lets a program of an account join a desktop session, with its
// windows as the gate has them.
func (l *Launcher) joinDesktop(o *workstation.Order, g *gate.Gate, a account, cause *engine.Cause) error {
	s, err := l.sessionOf(g, a, cause)
	if err != nil {
		return err
	}
	vars := s.Vars
	if g.As.Elevated {
		vars = s.Display()
	}
	// What the gate's file says of the surroundings counts for more.
	for _, v := range vars {
		if name, _, _ := strings.Cut(v, "="); g.As.Env[name] == "" {
			o.Env = slices.DeleteFunc(o.Env, func(old string) bool { return strings.HasPrefix(old, name+"=") })
			o.Env = append(o.Env, v)
		}
	}
	switch mode := windowOf(g, here.Program(*o)); mode {
	case gate.WindowOrdinary:
	case gate.WindowTerminal:
		o.Window = &workstation.Window{Mode: mode}
	default:
		if !s.HasX {
			o.Note = NoRelay
			return nil
		}
		owner := ownerOf(s)
		o.Window = &workstation.Window{Mode: mode, As: owner.rights(), Vars: append(s.Vars, "HOME="+owner.home)}
		// Toolkits prefer Wayland where it is offered.
		o.Env = slices.DeleteFunc(o.Env, func(v string) bool {
			return strings.HasPrefix(v, "WAYLAND_DISPLAY=") || strings.HasPrefix(v, "XDG_SESSION_TYPE=")
		})
		o.Env = append(o.Env, "WAYLAND_DISPLAY=", "XDG_SESSION_TYPE=x11")
	}
	return nil
}

// NoRelay says why the windows of a program are not kept away.
const NoRelay = "its windows appear as they like: the desktop has Wayland alone, which lets nobody else keep them away"

// windowOf is how a gate's windows appear, once it is known whether its
// program is one that wants a terminal.
func windowOf(g *gate.Gate, program string) string {
	if g.As.Window == gate.WindowOrdinary && g.As.Desktop && desktop.WantsTerminal(program, desktop.Folders) {
		return gate.WindowTerminal
	}
	return g.As.Window
}

// sessionOf finds the desktop session of the account that a program runs as; with root's
// rights, that of the person who is meant: the one whose logon or the like opened the gate,
// the one whom the gate needs, or who alone is on a desktop or has theirs in front.
func (l *Launcher) sessionOf(g *gate.Gate, a account, cause *engine.Cause) (workstation.Session, error) {
	if !g.As.Elevated {
		list := l.Sessions(a.uid)
		if len(list) == 0 {
			return workstation.Session{}, errors.New("it is to run on a desktop, and " + a.name + " is not logged on to one now")
		}
		return list[0], nil
	}
	var people []workstation.Session // one of each, who may have several
	for _, s := range l.Sessions(-1) {
		if !slices.ContainsFunc(people, func(o workstation.Session) bool { return o.UID == s.UID }) {
			people = append(people, s)
		}
	}
	if len(people) == 0 {
		return workstation.Session{}, errors.New("it is to run on a desktop, and nobody is logged on to one now")
	}
	var names []string
	for _, s := range people {
		names = append(names, accounts.NameOf(s.UID))
	}
	of := func(name string) int { return slices.Index(names, name) }
	front := slices.DeleteFunc(slices.Clone(people), func(s workstation.Session) bool { return !s.InFront })
	switch {
	case cause != nil && cause.Account != "" && of(cause.Account) >= 0:
		return people[of(cause.Account)], nil
	case of(g.Needs.People) >= 0:
		return people[of(g.Needs.People)], nil
	case len(people) == 1:
		return people[0], nil
	case len(front) == 1:
		return front[0], nil
	}
	return workstation.Session{}, fmt.Errorf("it is to run on a person's desktop with root's rights, and of %s, who are logged on to one, it is not known who is meant: write people = %q in [needs], or the like",
		strings.Join(names, " and "), names[0])
}

// ownerOf returns the account whose session it is, without groups where those
// cannot be told.
func ownerOf(s workstation.Session) account {
	if a, err := lookup(accounts.NameOf(s.UID)); err == nil {
		return a
	}
	return account{uid: s.UID, gid: s.UID, home: "/"}
}

// neverOnDesktop says why an account is not known to log on to a desktop, or
// "".
func (l *Launcher) neverOnDesktop(a account) string {
	if slices.ContainsFunc(l.Sessions(a.uid), func(s workstation.Session) bool { return s.UID == a.uid }) {
		return ""
	}
	switch filepath.Base(a.shell) {
	case "nologin", "false":
		return "cannot log on: the shell is " + a.shell
	}
	if a.uid != 0 && a.uid < here.FirstPerson {
		return "is one of the system's own accounts"
	}
	if last, since, ok := here.DesktopLogons(); ok && last[a.name].IsZero() {
		return "was not on one since " + since.Format("2 Jan 2006") + ", from when on that is recorded"
	}
	return ""
}

// Windows finds what is wrong or unwise about the windows of a gate on a
// desktop.
func (l *Launcher) Windows(g *gate.Gate) []gate.Finding {
	if !g.As.Desktop {
		return l.withoutDesktop(g)
	}
	a, err := l.accountOf(g)
	if err != nil {
		return nil // told as a hazard
	}
	var out []gate.Finding
	add := func(s gate.Severity, code, message, remedy string) {
		out = append(out, gate.Finding{Severity: s, Code: code, Message: message, Remedy: remedy})
	}
	if !g.As.Elevated {
		if why := l.neverOnDesktop(a); why != "" {
			add(gate.Warning, "desktop-account", "the gate waits for a desktop of "+a.name+", who "+why, "name somebody who works at this machine, or leave desktop out")
		}
	}
	program, _, _ := l.Target(g)
	mode := windowOf(g, program)
	switch mode {
	case gate.WindowTerminal:
		if _, err := here.Terminal(pathOf(a, g)); err != nil {
			add(gate.SevereError, "no-terminal", err.Error(), "install one, or set window in [as]")
		} else if g.As.Window != mode {
			add(gate.Note, "terminal-window", "the program opens in a terminal: its desktop entry says that it wants one", `set window = "none" in [as] if it is to have none`)
		}
	case gate.WindowNone, gate.WindowMinimised:
		if s, err := l.sessionOf(g, a, nil); err == nil && !s.HasX {
			add(gate.Warning, "wayland-window", NoRelay, `set window = "ordinary", or let the person log on to a desktop with an X server`)
		}
	}
	return out
}

// ShowsWindows says why a program is one that shows windows, or "": by an application of the
// menu (sure, unless it is given options, which may have it do something else), or by the
// libraries that it names.
func (l *Launcher) ShowsWindows(g *gate.Gate) (why string, sure bool) {
	program, _, _ := l.Target(g)
	entries := desktop.Starting(program, desktop.Folders)
	if i := slices.IndexFunc(entries, func(e desktop.Entry) bool { return !e.Terminal }); i >= 0 {
		sure = !slices.ContainsFunc(g.Run[1:], func(arg string) bool { return strings.HasPrefix(arg, "-") })
		return "the menu has it as " + entries[i].Name, sure
	}
	if library := inspect.DisplayLibrary(program); library != "" {
		return "it is made with " + library, false
	}
	return "", false
}

// withoutDesktop finds what a gate without a desktop wants of one.
func (l *Launcher) withoutDesktop(g *gate.Gate) []gate.Finding {
	for _, name := range []string{"DISPLAY", "WAYLAND_DISPLAY"} {
		if g.As.Env[name] != "" {
			return nil // it is led to a display
		}
	}
	x := gate.Finding{Severity: gate.Note, Code: "no-desktop", Remedy: "give it one: timegate change " + g.Name + " --set as.desktop=true"}
	program := filepath.Base(g.Run[0])
	switch why, sure := l.ShowsWindows(g); {
	case why != "":
		if sure || g.As.Window != gate.WindowOrdinary {
			x.Severity = gate.Warning
		}
		x.Message = fmt.Sprintf("%s shows windows (%s), and without as.desktop it gets no display: what wants to show a window there fails", program, why)
	case g.As.Window != gate.WindowOrdinary:
		x.Message = fmt.Sprintf("as.window = %q changes nothing: without as.desktop %s gets no display, so it has no window", g.As.Window, program)
		x.Remedy = "leave as.window out"
	default:
		return nil
	}
	return []gate.Finding{x}
}
