//go:build linux

package linux

import (
	"os"
	"strings"

	"golang.org/x/sys/unix"

	"timegate/workstation"
	"timegate/workstation/rights"
	"timegate/workstation/window"
)

// appearance is how a program is started so that its windows appear as they should.
type appearance struct {
	program string // the file that is executed
	note    string
	relay   *window.Relay // nil where there is none
}

// serve tells the relay which program it is for, 0 for none.
func (l *appearance) serve(pid int) {
	if l.relay != nil {
		l.relay.Serve(pid)
	}
}

func (l *appearance) addNote(text string) {
	if l.note != "" {
		text = l.note + "; " + text
	}
	l.note = text
}

// arrange changes an order for a program so that its windows appear as the
// order says.
func arrange(o *workstation.Order, program string) (*appearance, error) {
	l := &appearance{program: program, note: o.Note}
	w := o.Window
	if w == nil {
		return l, nil
	}
	fail := func(err error, remedy string) (*appearance, error) {
		return nil, &workstation.StartError{Program: o.Argv[0], Err: err, Remedy: remedy}
	}
	if w.Mode == "terminal" {
		if err := unix.Access(program, unix.X_OK); err != nil {
			return nil, startError(*o, program, &os.PathError{Op: "execute", Path: program, Err: err})
		}
		terminal, err := window.Terminal(valueOf(o.Env, "PATH"))
		if err != nil {
			return fail(err, "install one, or set window in [as]")
		}
		o.Argv = window.Hold(terminal, append([]string{program}, o.Argv[1:]...))
		l.program = rights.Self
		return l, nil
	}
	relay, err := window.StartRelay(window.Mode(w.Mode), w.As, w.Vars)
	if err != nil {
		return fail(err, `its windows cannot be kept away: set window = "ordinary", or mend the display`)
	}
	if l.relay = relay; relay.Note != "" {
		l.addNote(relay.Note)
	}
	o.Env = withVariable(o.Env, "DISPLAY", relay.Display)
	return l, nil
}

// Terminal returns how a console program is started in a terminal emulator,
// given the PATH in which that is looked for. Its error says that there is
// none.
func Terminal(path string) ([]string, error) { return window.Terminal(path) }

// valueOf returns a variable's value in an environment, or "".
func valueOf(env []string, name string) string {
	for _, v := range env {
		if value, ok := strings.CutPrefix(v, name+"="); ok {
			return value
		}
	}
	return ""
}

// withVariable returns an environment in which a variable has a value.
func withVariable(env []string, name, value string) []string {
	out := make([]string, 0, len(env)+1)
	for _, v := range env {
		if !strings.HasPrefix(v, name+"=") {
			out = append(out, v)
		}
	}
	return append(out, name+"="+value)
}
