//go:build !linux

package rights

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"time"
)

// Self is the file that this process runs.
var Self, _ = os.Executable()

// Become takes on nothing here.
func Become(args []string) []string { return args }

// Alone does nothing here: nothing is passed on.
func Alone() {}

// Run runs a program, with one's own rights, and returns what it has printed.
func Run(ctx context.Context, c Call) ([]byte, error) {
	if c.As != nil {
		return nil, errors.ErrUnsupported
	}
	cmd := exec.CommandContext(ctx, c.Program, c.Args...)
	cmd.Env, cmd.Dir, cmd.Stdin, cmd.WaitDelay = c.Env, c.Dir, bytes.NewReader(c.Stdin), time.Second
	out, err := cmd.CombinedOutput()
	if int64(len(out)) > c.Most {
		return out[:c.Most], &TooMuchError{c.Program, c.Most}
	}
	return out, err
}

// NoPrograms reports whether a file lies on a file system from which nothing is run. On
// this system that is not known.
func NoPrograms(string) bool { return false }
