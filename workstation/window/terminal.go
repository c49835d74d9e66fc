//go:build linux

package window

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"timegate/workstation"
)

// A console program in a terminal is started by three processes. The holder
// stands for the program: it is what the keeper starts and waits for, and ends
// as the program ends. It starts the person's terminal emulator, which starts
// the third, inside; some emulators do so by way of a process that runs
// already and knows nothing of the holder. Inside gets from the holder what to
// start, and starts it on a terminal of its own, which it shows in the
// emulator's and copies to where the program's output is kept.

// Terminals are ways to start a program in the person's terminal emulator, the
// first one first: by the freedesktop.org proposal for default terminals, by
// Debian Policy 11.8.3, and the X server's own.
var Terminals = [][]string{{"xdg-terminal-exec"}, {"x-terminal-emulator", "-e"}, {"xterm", "-e"}}

// Terminal returns how a program is started in a terminal, given the PATH in
// which the emulator is looked for.
func Terminal(path string) ([]string, error) {
	for _, t := range Terminals {
		for _, dir := range filepath.SplitList(path) {
			full := filepath.Join(dir, t[0])
			if info, err := os.Stat(full); err == nil && filepath.IsAbs(full) && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
				return append([]string{full}, t[1:]...), nil
			}
		}
	}
	names := make([]string, len(Terminals))
	for i, t := range Terminals {
		names[i] = t[0]
	}
	return nil, fmt.Errorf("no terminal emulator is installed: none of %s is in %s", strings.Join(names, ", "), path)
}

// Hold returns the arguments of a holder that starts a program in a terminal.
func Hold(terminal, argv []string) []string {
	return slices.Concat([]string{"timegate", Helper, "hold", fmt.Sprint(len(terminal))}, terminal, argv)
}

// comeUp is how long a terminal emulator may take.
const comeUp = 20 * time.Second

// task is what a holder tells inside, with the descriptor of the output.
type task struct {
	Argv   []string `json:"argv"`
	Env    []string `json:"env"`
	Folder string   `json:"folder"`
}

// outcome is what inside tells the holder.
type outcome struct {
	Status int            `json:"status"`
	Signal syscall.Signal `json:"signal,omitempty"`
	Error  string         `json:"error,omitempty"`
}

// The statuses with which a holder ends where its program did not come to
// run: the shell's for a command that cannot be found or started.
const notStarted = 127

// holdMain is the holder's process.
func holdMain(terminal, argv []string) int {
	// The program gets what ends the tree too. The holder ends with it.
	outlive()
	out, err := hold(terminal, argv)
	if err == nil && out.Error != "" {
		err = errors.New(out.Error)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "timegate:", err)
		return notStarted
	}
	if out.Signal != 0 {
		signal.Reset(out.Signal)
		unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0) // no core of the holder
		unix.Kill(os.Getpid(), out.Signal)
		time.Sleep(time.Second) // the signal comes before that
	}
	return out.Status
}

func hold(terminal, argv []string) (outcome, error) {
	name := "@timegate-" + rand.Text()
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: name, Net: "unix"})
	if err != nil {
		return outcome{}, err
	}
	defer l.Close()
	emulator := exec.Command(terminal[0], append(terminal[1:], fmt.Sprintf("/proc/%d/exe", os.Getpid()), Helper, "inside", name)...)
	emulator.Stdout, emulator.Stderr = os.Stdout, os.Stderr
	// The emulator is no part of what was asked for: it is not found again by
	// the mark, but as what the holder has started.
	emulator.Env = slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, workstation.MarkVariable+"=") })
	if err := emulator.Start(); err != nil {
		return outcome{}, err
	}
	go func() {
		if err := emulator.Wait(); err != nil {
			l.Close() // where it had come up, nobody listens any more
		}
	}()
	conn, err := awaitInside(l)
	if err != nil {
		return outcome{}, err
	}
	defer conn.Close()
	dir, _ := os.Getwd()
	b, err := json.Marshal(task{Argv: argv, Env: os.Environ(), Folder: dir})
	if err != nil {
		return outcome{}, err
	}
	if err := send(conn, append(b, '\n'), []int{syscall.Stdout}); err != nil {
		return outcome{}, err
	}
	var out outcome
	if err := json.NewDecoder(conn).Decode(&out); err != nil {
		return outcome{Signal: syscall.SIGHUP}, nil // inside was killed, and the program lost its terminal
	}
	return out, nil
}

// awaitInside waits for the one that the emulator starts.
func awaitInside(l *net.UnixListener) (*net.UnixConn, error) {
	l.SetDeadline(time.Now().Add(comeUp))
	for {
		c, err := l.AcceptUnix()
		switch {
		case errors.Is(err, os.ErrDeadlineExceeded):
			return nil, fmt.Errorf("the terminal emulator did not come up within %v", comeUp)
		case err != nil:
			return nil, errors.New("the terminal emulator ended at once")
		case ours(c):
			return c, nil
		}
		c.Close()
	}
}

// receive reads a task and its descriptor.
func receive(c *net.UnixConn) (task, *os.File, error) {
	var t task
	oob := make([]byte, unix.CmsgSpace(4))
	first := make([]byte, 1)
	_, oobn, _, _, err := c.ReadMsgUnix(first, oob)
	if err != nil {
		return t, nil, err
	}
	fds := descriptors(oob[:oobn])
	if len(fds) != 1 {
		closeAll(fds)
		return t, nil, errors.New("no output came with the task")
	}
	output := os.NewFile(uintptr(fds[0]), "output")
	err = json.NewDecoder(io.MultiReader(strings.NewReader(string(first)), c)).Decode(&t)
	return t, output, err
}
