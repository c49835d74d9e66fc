//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"

	"timegate/workstation"
	"timegate/workstation/cgroup"
	"timegate/workstation/rights"
)

// SelfOrder says how this program is started once more, as one of its helpers.
type SelfOrder struct {
	Args   []string
	Env    []string
	As     *workstation.Account // nil for the rights of this process
	Limits []workstation.Limit
	Group  string     // of a control group of its own, which the account may divide
	Files  []*os.File // its descriptors from 3 on
}

// StartSelf starts this program once more. It has its limits from its first
// instruction on, and none of this process's files, and takes on its rights before
// it does anything else ([rights.Become]).
func StartSelf(o SelfOrder) (*os.Process, error) {
	null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer null.Close()
	attr := &os.ProcAttr{Dir: "/", Env: o.Env, Files: append([]*os.File{null, null, null}, o.Files...),
		Sys: &syscall.SysProcAttr{Setsid: true}}
	uid, gid := os.Getuid(), os.Getgid()
	if o.As != nil {
		uid, gid = int(o.As.UID), int(o.As.GID)
	}
	if g := cgroup.Shared(o.Group, uid, gid); g != nil {
		if fd, err := g.Open(); err == nil {
			attr.Sys.UseCgroupFD, attr.Sys.CgroupFD = true, fd
			defer unix.Close(fd)
		}
	}
	order := workstation.Order{Argv: rights.Argv(o.As, o.Args...), Limits: o.Limits}
	rights.Alone()
	start := func() (*os.Process, error) { return os.StartProcess(rights.Self, order.Argv, attr) }
	if len(o.Limits) > 0 {
		start = func() (*os.Process, error) { return startWith(order, &appearance{program: rights.Self}, attr) }
	}
	proc, err := start()
	if err != nil && attr.Sys.UseCgroupFD {
		attr.Sys.UseCgroupFD = false // it may be the group that was refused
		proc, err = start()
	}
	return proc, err
}

// Seclude closes what a process shows of itself to others of its account: its
// memory, and its descriptors (PR_SET_DUMPABLE in prctl(2)).
func Seclude() {
	unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0)
}

// SocketIn returns the address of a socket in a folder, however long its path is: by
// the descriptor of the folder, which must stay open for as long as the address
// is used (sun_path in unix(7) holds 108 bytes).
func SocketIn(folder *os.File, name string) string {
	return filepath.Join("/proc/self/fd", strconv.Itoa(int(folder.Fd())), name)
}
