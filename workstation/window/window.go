//go:build linux

// Package window decides how a program's windows appear, without the program
// knowing.
//
// A window that is changed after it has appeared has been seen. So nothing is
// changed afterwards: between the program and the X server stands a relay, a
// process of its own that belongs to the person at the display and lives as
// long as the program has windows, whatever becomes of the keeper. It passes
// on all that both say, and rewrites the few requests that make a window
// appear (X Window System Protocol, version 11; ICCCM 2.0 section 4.1; EWMH
// 1.5):
//
//   - "none": a top-level window is never mapped. The program is told that it
//     is, as some wait for that.
//   - "minimised": a top-level window is mapped with the initial state Iconic,
//     until the person has restored one of the program's windows. The program
//     is told that it has appeared and is gone again.
//
// No request is added or left out, since both ends count them: MapWindow
// becomes GetWindowAttributes, which is as long, and whose reply comes when
// the server has done all that was asked before; that reply is not passed on.
//
// A console program may be given a terminal: see [Hold].
//
// What the relay cannot do: windows of programs that speak Wayland, and those
// that a program lets another one open which runs already.
package window

import (
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strconv"
	"syscall"
)

// Mode is how windows appear.
type Mode string

// The modes that need a relay.
const (
	None      Mode = "none"
	Minimised Mode = "minimised"
)

// Helper is the first argument by which the program at hand is told to be one
// of this package's processes, and not what it otherwise is.
const Helper = "@window"

// outlive lets this process pass over what asks it to end: it ends with its
// program. What it starts does not inherit that.
func outlive() {
	signal.Notify(make(chan os.Signal, 1), syscall.SIGTERM, syscall.SIGHUP, syscall.SIGINT)
}

// Main is what the program does in place of its own work when its first
// argument is [Helper]. It takes the arguments after that one and returns an
// exit status.
func Main(args []string) int {
	var err error
	switch {
	case len(args) == 2 && args[0] == "relay":
		err = relayMain(Mode(args[1]))
	case len(args) > 2 && args[0] == "hold":
		var n int
		if n, err = strconv.Atoi(args[1]); err == nil && n > 0 && 2+n < len(args) {
			return holdMain(args[2:2+n], args[2+n:])
		}
		err = errors.New("hold: which terminal?")
	case len(args) == 2 && args[0] == "inside":
		return insideMain(args[1])
	default:
		err = fmt.Errorf("unknown arguments %q", args)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "timegate:", err)
		return 1
	}
	return 0
}
