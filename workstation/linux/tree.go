//go:build linux

package linux

import (
	"bytes"
	"errors"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"timegate/workstation"
)

// procInfo is what /proc tells of a process.
type procInfo struct {
	pid, parent, session int
	zombie               bool
	marked               bool
}

// endTree sends a signal to every process of a tree: the group in which it
// was started, the leader's session, its descendants, and whoever carries the
// mark in its environment. KILL is repeated until none is left, as a process
// may fork while it is looked for.
func endTree(leader int, mark string, g *group, sig syscall.Signal) error {
	const rounds = 20
	for range rounds {
		if sig == syscall.SIGKILL {
			g.kill()
		}
		members := tree(leader, mark)
		for _, pid := range g.members() {
			if !slices.Contains(members, pid) {
				members = append(members, pid)
			}
		}
		for _, pid := range members {
			if err := sendTo(pid, mark, sig); err != nil && !errors.Is(err, syscall.ESRCH) {
				return err
			}
		}
		if sig != syscall.SIGKILL || len(members) == 0 {
			return nil
		}
	}
	return nil
}

func sendTo(pid int, mark string, sig syscall.Signal) error {
	fd, err := unix.PidfdOpen(pid, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	return unix.PidfdSendSignal(fd, unix.Signal(sig), nil, 0)
}

// tree lists the living processes of a tree, the leader first.
func tree(leader int, mark string) []int {
	procs := scan(mark)
	in := map[int]bool{}
	for _, p := range procs {
		if p.marked || leader != 0 && (p.pid == leader || p.session == leader) {
			in[p.pid] = true
		}
	}
	for grown := true; grown; {
		grown = false
		for _, p := range procs {
			if !in[p.pid] && in[p.parent] {
				in[p.pid], grown = true, true
			}
		}
	}
	var out []int
	for _, p := range procs {
		if in[p.pid] && !p.zombie {
			if p.pid == leader {
				out = append([]int{p.pid}, out...)
			} else {
				out = append(out, p.pid)
			}
		}
	}
	return out
}

// scan reads the processes of the machine.
func scan(mark string) []procInfo {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	self := os.Getpid()
	var out []procInfo
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == self {
			continue
		}
		if p, ok := inspect(pid, mark); ok {
			out = append(out, p)
		}
	}
	return out
}

func inspect(pid int, mark string) (procInfo, bool) {
	dir := "/proc/" + strconv.Itoa(pid)
	stat, err := os.ReadFile(dir + "/stat")
	if err != nil {
		return procInfo{}, false
	}
	// The name in brackets may hold anything: count fields from its end.
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	if len(fields) < 4 {
		return procInfo{}, false
	}
	p := procInfo{pid: pid, zombie: fields[0] == "Z" || fields[0] == "X"}
	p.parent, _ = strconv.Atoi(fields[1])
	p.session, _ = strconv.Atoi(fields[3])
	env, err := os.ReadFile(dir + "/environ")
	p.marked = err == nil && hasMark(env, mark)
	return p, true
}

func hasMark(env []byte, mark string) bool {
	want := []byte(workstation.MarkVariable + "=" + mark)
	for v := range bytes.SplitSeq(env, []byte{0}) {
		if bytes.Equal(v, want) {
			return true
		}
	}
	return false
}

// Adopt implements [workstation.Workstation].
func (Starter) Adopt(o workstation.Order, pid int) workstation.Process {
	if pid == 0 {
		// The keeper died between start and record: the leader of the marked
		// processes is the one that leads its session.
		for _, p := range scan(o.Mark) {
			if p.marked && !p.zombie && p.session == p.pid {
				pid = p.pid
			}
		}
	}
	info, ok := inspect(pid, o.Mark)
	if pid == 0 || !ok || !info.marked || info.zombie {
		return nil
	}
	fd, err := unix.PidfdOpen(pid, unix.PIDFD_NONBLOCK)
	if err != nil {
		return nil
	}
	handle := os.NewFile(uintptr(fd), "pidfd")
	p := &process{pid: pid, mark: o.Mark, group: findGroup(o.Mark)}
	c := resumeCollector(o.Output, findPipe(pid, o.Mark))
	go c.run()
	go func() {
		defer handle.Close()
		waitExit(handle)
		p.gone()
		p.group.remove()
		exit := exitByHandle(handle)
		exit.Usage.Output, exit.Usage.Dropped = c.ended()
		o.Done(exit)
	}()
	return p
}

// waitExit returns when the process of a pidfd has ended: the descriptor then
// becomes readable.
func waitExit(handle *os.File) {
	raw, err := handle.SyscallConn()
	if err != nil {
		return
	}
	raw.Read(func(fd uintptr) bool {
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, 0)
		return err == nil && n > 0
	})
}
