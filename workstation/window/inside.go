//go:build linux

package window

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// insideMain is the process in the terminal emulator.
func insideMain(name string) int {
	signals := make(chan os.Signal, 8) // before anybody can have a reason to send them
	signal.Notify(signals, syscall.SIGWINCH, syscall.SIGHUP, syscall.SIGTERM, syscall.SIGINT)
	conn, err := net.DialUnix("unix", nil, &net.UnixAddr{Name: name, Net: "unix"})
	if err != nil {
		fmt.Fprintln(os.Stderr, "timegate: the keeper's program is gone:", err)
		return notStarted
	}
	defer conn.Close()
	if !ours(conn) {
		return notStarted
	}
	out, err := inside(conn, signals)
	if err != nil {
		out.Error = err.Error()
	}
	if err := json.NewEncoder(conn).Encode(out); err != nil {
		return notStarted
	}
	return 0
}

// inside runs a program on a terminal of its own, shown in this one.
func inside(conn *net.UnixConn, signals <-chan os.Signal) (outcome, error) {
	t, output, err := receive(conn)
	if err != nil {
		return outcome{}, err
	}
	defer output.Close()
	master, slave, err := openTerminal()
	if err != nil {
		return outcome{}, err
	}
	defer master.Close()
	resize(master)
	cmd := exec.Cmd{Path: t.Argv[0], Args: t.Argv, Env: append(t.Env, "TERM="+os.Getenv("TERM")), Dir: t.Folder, Stdin: slave, Stdout: slave, Stderr: slave,
		SysProcAttr: &syscall.SysProcAttr{Setsid: true, Setctty: true}}
	err = cmd.Start()
	slave.Close()
	if err != nil {
		return outcome{}, err
	}
	if name := t.title(); name != "" {
		fmt.Fprintf(os.Stdout, "\x1b]2;%s\x1b\\", name) // the window's title, as terminals read it (ECMA-48, OSC)
	}
	old, err := term.MakeRaw(syscall.Stdin)
	if err == nil {
		defer term.Restore(syscall.Stdin, old)
	}
	go attend(master, signals)
	go io.Copy(master, os.Stdin)
	shown := make(chan struct{})
	go func() {
		defer close(shown)
		show(master, output)
	}()
	err = cmd.Wait()
	select {
	case <-shown:
	case <-time.After(time.Second): // something that it left behind still has the terminal
	}
	if exit := (*exec.ExitError)(nil); err != nil && !errors.As(err, &exit) {
		return outcome{}, err
	}
	return outcomeOf(cmd.ProcessState), nil
}

// title returns the name of the gate that a program is started for, or "".
func (t *task) title() string {
	for _, v := range t.Env {
		if name, ok := strings.CutPrefix(v, "TIMEGATE_GATE="); ok {
			return name
		}
	}
	return ""
}

func outcomeOf(state *os.ProcessState) outcome {
	if ws, ok := state.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
		return outcome{Signal: ws.Signal()}
	}
	return outcome{Status: state.ExitCode()}
}

// openTerminal makes a pseudo-terminal (pts(4)). It is not opened by a package,
// as those make it block: closing it must end a read that waits.
func openTerminal() (master, slave *os.File, err error) {
	master, err = os.OpenFile("/dev/ptmx", os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		return nil, nil, err
	}
	var n int
	err = control(master, func(fd int) (err error) {
		if err = unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0); err == nil {
			n, err = unix.IoctlGetInt(fd, unix.TIOCGPTN)
		}
		return err
	})
	if err == nil {
		slave, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0)
	}
	if err != nil {
		master.Close()
		return nil, nil, err
	}
	return master, slave, nil
}

// show copies what the program prints to the emulator and to the output. An
// emulator that has gone is passed over.
func show(master, output *os.File) {
	buf := make([]byte, 32<<10)
	for {
		n, err := master.Read(buf)
		os.Stdout.Write(buf[:n])
		output.Write(buf[:n])
		if err != nil {
			return
		}
	}
}

// attend passes on the emulator's size, and that it was closed. Where the
// whole tree is asked to end, the emulator goes too, and the program keeps its
// terminal for as long as it takes to end.
func attend(master *os.File, signals <-chan os.Signal) {
	var asked atomic.Bool
	for s := range signals {
		switch s {
		case syscall.SIGWINCH:
			resize(master)
		case syscall.SIGTERM:
			asked.Store(true)
		case syscall.SIGHUP:
			const together = 300 * time.Millisecond
			time.AfterFunc(together, func() {
				if !asked.Load() {
					master.Close() // the kernel tells the program
				}
			})
		}
	}
}

// resize gives the program's terminal the size of the emulator's.
func resize(master *os.File) {
	size, err := unix.IoctlGetWinsize(syscall.Stdin, unix.TIOCGWINSZ)
	if err != nil {
		return
	}
	control(master, func(fd int) error { return unix.IoctlSetWinsize(fd, unix.TIOCSWINSZ, size) })
}

// control lets f work on a file's descriptor; reads of it can still be ended
// by closing it, which they cannot after [os.File.Fd].
func control(file *os.File, f func(fd int) error) error {
	raw, err := file.SyscallConn()
	if err != nil {
		return err
	}
	var done error
	err = raw.Control(func(fd uintptr) { done = f(int(fd)) })
	return errors.Join(err, done)
}
