package rights

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"time"
	"timegate/workstation/cgroup"

	"golang.org/x/sys/unix"
)

// Self is the file that this process runs, also where its file was replaced
// (proc_pid_exe(5)).
const Self = "/proc/self/exe"

// firstOther is the first descriptor beside standard input, output and error.
const firstOther = 3

// How a process ends that cannot take on the rights that it was to have.
const (
	refused       = "timegate: the rights of another account: "
	refusedStatus = 125
)

// Become takes on the rights that the first arguments say, and returns the other
// arguments. Where there is nothing to take on, all are returned. A process that
// cannot take them on ends, and one that is to be another program becomes it.
func Become(args []string) []string {
	if len(args) == 0 || args[0] != Argument {
		return args
	}
	rest, err := become(args)
	if err != nil {
		fmt.Fprintln(os.Stderr, refused+err.Error())
		os.Exit(refusedStatus)
	}
	return rest
}

func become(args []string) ([]string, error) {
	as, rest, err := parse(args)
	if err != nil {
		return nil, err
	}
	groups := make([]int, len(as.Groups))
	for i, g := range as.Groups {
		groups[i] = int(g)
	}
	// PR_SET_DUMPABLE (prctl(2)) keeps the account from tracing this process. It is set
	// before, so that there is no moment without it, and after, as rights that change
	// may set it back. The calls are for all threads.
	hide := func() error { return unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0) }
	if err := errors.Join(hide(), syscall.Setgroups(groups), syscall.Setresgid(int(as.GID), int(as.GID), int(as.GID)),
		syscall.Setresuid(int(as.UID), int(as.UID), int(as.UID)), hide()); err != nil {
		return nil, err
	}
	if rest[0] != run || len(rest) < 2 {
		return rest, nil
	}
	unix.CloseRange(firstOther, math.MaxUint32, unix.CLOSE_RANGE_CLOEXEC)
	return nil, syscall.Exec(rest[1], rest[1:], os.Environ())
}

// Alone lets no descriptor of this process be open in programs that it starts, but
// those that are handed to them (close_range(2), since Linux 5.11).
func Alone() { unix.CloseRange(firstOther, math.MaxUint32, unix.CLOSE_RANGE_CLOEXEC) }

// endPatience is how long the output of a program that was ended is waited for:
// something that it has started may hold it open.
const endPatience = 200 * time.Millisecond

// Run runs a program and returns what it has printed. It ends with the context, with
// all of its session. Its error is an [*exec.ExitError], a [*TooMuchError], or says
// why it cannot be run.
func Run(ctx context.Context, c Call) ([]byte, error) {
	path, args := c.Program, append([]string{c.Program}, c.Args...)
	switch {
	case c.As != nil && c.Program == Self:
		path, args = Self, Argv(c.As, c.Args...)
	case c.As != nil:
		path, args = Self, Argv(c.As, append([]string{run, c.Program}, c.Args...)...)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	out := &bounded{most: c.Most, full: cancel}
	command := func(attr *syscall.SysProcAttr) *exec.Cmd {
		cmd := exec.CommandContext(ctx, path)
		cmd.Args, cmd.Env, cmd.Dir, cmd.Stdin = args, c.Env, c.Dir, bytes.NewReader(c.Stdin)
		if cmd.Env == nil {
			cmd.Env = []string{"PATH=/usr/bin:/bin"}
		}
		if cmd.Dir == "" {
			cmd.Dir = "/"
		}
		cmd.Stdout, cmd.Stderr = out, out
		cmd.SysProcAttr, cmd.WaitDelay = attr, endPatience
		cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
		return cmd
	}
	Alone()
	err := errNoGroup
	if c.As != nil {
		err = inGroup(command)
	}
	if errors.Is(err, errNoGroup) {
		err = command(&syscall.SysProcAttr{Setsid: true}).Run()
	}
	text := out.text.String()
	if exit, is := errors.AsType[*exec.ExitError](err); is && c.As != nil && exit.ExitCode() == refusedStatus && strings.HasPrefix(text, refused) {
		return nil, errors.New(strings.TrimSpace(text)) // it is not the program's own end
	}
	if out.over {
		err = &TooMuchError{c.Program, c.Most}
	} else if errors.Is(err, exec.ErrWaitDelay) {
		err = nil // it has ended well, and left something behind
	}
	return out.text.Bytes(), err
}

// errNoGroup says that a program was not started, for want of a control group.
var errNoGroup = errors.New("there is no control group")

// inGroup runs a command in a control group of its own, and ends all that is left in it:
// what the account lets a helper leave behind would have no limits but this process's.
func inGroup(command func(*syscall.SysProcAttr) *exec.Cmd) error {
	g := cgroup.New("helper " + rand.Text())
	if g == nil {
		return errNoGroup
	}
	defer g.Remove()
	defer g.Kill()
	fd, err := g.Open()
	if err != nil {
		return errNoGroup
	}
	defer unix.Close(fd)
	cmd := command(&syscall.SysProcAttr{Setsid: true, UseCgroupFD: true, CgroupFD: fd})
	if err := cmd.Start(); err != nil {
		return errNoGroup
	}
	return cmd.Wait()
}

// bounded keeps what is written up to a number of bytes.
type bounded struct {
	mu   sync.Mutex
	text bytes.Buffer
	most int64
	over bool
	full func() // called when there is more
}

// Write implements [io.Writer].
func (b *bounded) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	room := b.most - int64(b.text.Len())
	b.text.Write(p[:min(int64(len(p)), max(room, 0))])
	if int64(len(p)) > room && !b.over {
		b.over = true
		b.full()
	}
	return len(p), nil
}

// NoPrograms reports whether a file lies on a file system from which nothing is run
// (ST_NOEXEC in statfs(2)).
func NoPrograms(path string) bool {
	var st unix.Statfs_t
	return unix.Statfs(path, &st) == nil && st.Flags&unix.ST_NOEXEC != 0
}
