//go:build linux

package window

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"timegate/workstation"
	"timegate/workstation/rights"
)

// patience is how long a display may take to answer.
const patience = 3 * time.Second

// A Relay is a relay at work, before it knows its program.
type Relay struct {
	Display string // what the program is to be told as DISPLAY
	Note    string // what may not be as it is wished, or ""
	starter *os.File
}

// StartRelay starts a relay with somebody's rights; nil stands for one's own.
// vars are the variables that lead to the display. Its error says why the
// display cannot be used.
func StartRelay(mode Mode, as *workstation.Account, vars []string) (*Relay, error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, os.NewSyscallError("socketpair", err)
	}
	theirs := os.NewFile(uintptr(pair[1]), "relay")
	defer theirs.Close()
	unix.SetNonblock(pair[0], true) // so that it can have a deadline
	r := &Relay{starter: os.NewFile(uintptr(pair[0]), "relay")}
	null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	if err != nil {
		r.starter.Close()
		return nil, err
	}
	defer null.Close()
	rights.Alone()
	proc, err := os.StartProcess(rights.Self, rights.Argv(as, Helper, "relay", string(mode)), &os.ProcAttr{
		Dir: "/", Env: vars, Files: []*os.File{null, null, null, theirs},
		Sys: &syscall.SysProcAttr{Setsid: true},
	})
	if err != nil {
		r.starter.Close()
		return nil, err
	}
	go proc.Wait()
	theirs.Close()
	if err := r.greet(); err != nil {
		r.starter.Close()
		proc.Kill()
		return nil, err
	}
	return r, nil
}

// mostGreeting is how much a relay may say, in bytes.
const mostGreeting = 4 << 10

// greet waits for the relay's display.
func (r *Relay) greet() error {
	r.starter.SetReadDeadline(time.Now().Add(patience))
	line, err := bufio.NewReader(io.LimitReader(r.starter, mostGreeting)).ReadString('\n')
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return fmt.Errorf("the display did not answer within %v", patience)
	}
	if err != nil {
		return errors.New("the relay to the display ended at once")
	}
	line = strings.TrimSuffix(line, "\n")
	if why, ok := strings.CutPrefix(line, "error "); ok {
		return errors.New(why)
	}
	r.Display, r.Note, _ = strings.Cut(line, " ")
	return nil
}

// Serve tells the relay which program it is for; it ends with that one's last
// window. 0 stands for none: it then ends at once.
func (r *Relay) Serve(pid int) {
	r.starter.WriteString(strconv.Itoa(pid))
	r.starter.Close()
}
