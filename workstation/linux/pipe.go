//go:build linux

package linux

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"timegate/workstation"
)

// pipeVariable is the environment variable by which a later starter knows the
// pipe into which a program prints.
const pipeVariable = "TIMEGATE_PIPE"

// pipeEnd is a program's end of a pipe.
type pipeEnd struct {
	file *os.File
	id   string // the kernel's name of the pipe
}

// newPipe makes a pipe: an end to read from, and one for a program with an
// account's rights. That one is open for reading too, so that the pipe never
// lacks a reader: the program goes on when its starter ends.
func newPipe(as *workstation.Account) (read *os.File, end *pipeEnd, err error) {
	var fds [2]int
	if err := unix.Pipe2(fds[:], unix.O_CLOEXEC); err != nil {
		return nil, nil, os.NewSyscallError("pipe2", err)
	}
	defer unix.Close(fds[1])
	both, err := unix.Open("/proc/self/fd/"+strconv.Itoa(fds[1]), unix.O_RDWR|unix.O_CLOEXEC, 0)
	if err != nil {
		unix.Close(fds[0])
		return nil, nil, &os.PathError{Op: "open pipe", Path: "/proc/self/fd", Err: err}
	}
	var st unix.Stat_t
	err = unix.Fstat(both, &st)
	if err == nil && as != nil {
		// Programs open it again by names such as /dev/stderr.
		err = unix.Fchown(both, int(as.UID), int(as.GID))
	}
	if err != nil {
		unix.Close(fds[0])
		unix.Close(both)
		return nil, nil, os.NewSyscallError("fstat", err)
	}
	unix.SetNonblock(fds[0], true)
	return os.NewFile(uintptr(fds[0]), "pipe"), &pipeEnd{os.NewFile(uintptr(both), "pipe"), pipeName(st.Ino)}, nil
}

// findPipe opens the pipe of a program that another process had started, through
// any of its processes that still has it open. It is nil where none has.
func findPipe(pid int, mark string) *os.File {
	id := variable(pid, pipeVariable)
	if id == "" {
		return nil
	}
	for _, member := range tree(pid, mark) {
		links, _ := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", member))
		for _, link := range links {
			if to, err := os.Readlink(link); err != nil || to != id {
				continue
			}
			if pipe := takePipe(link, id); pipe != nil {
				return pipe
			}
		}
	}
	return nil
}

// pipeFS is the file system of pipes that have no name (PIPEFS_MAGIC in
// statfs(2)).
const pipeFS = 0x50495045

// takePipe opens a descriptor of another process, and returns it only if it is
// the pipe that is meant: what a process shows as one may be anything.
func takePipe(link, id string) *os.File {
	fd, err := unix.Open(link, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil
	}
	var st unix.Stat_t
	var fs unix.Statfs_t
	if unix.Fstat(fd, &st) != nil || unix.Fstatfs(fd, &fs) != nil || st.Mode&unix.S_IFMT != unix.S_IFIFO || fs.Type != pipeFS || pipeName(st.Ino) != id {
		unix.Close(fd)
		return nil
	}
	return os.NewFile(uintptr(fd), "pipe")
}

// pipeName is the kernel's name of a pipe.
func pipeName(inode uint64) string { return fmt.Sprintf("pipe:[%d]", inode) }

// variable returns a variable of a process's environment, as it was started.
func variable(pid int, name string) string {
	env, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
	if err != nil {
		return ""
	}
	return valueOf(strings.Split(string(env), "\x00"), name)
}

// surroundings are the variables of a program: the order's own, and those by
// which it is found again.
func surroundings(o workstation.Order, end *pipeEnd) []string {
	return append(o.Env[:len(o.Env):len(o.Env)], workstation.MarkVariable+"="+o.Mark, pipeVariable+"="+end.id)
}
