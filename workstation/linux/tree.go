//go:build linux

package linux

import (
	"bytes"
	"errors"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"timegate/workstation"
	"timegate/workstation/cgroup"
)

// procInfo is what /proc tells of a process.
type procInfo struct {
	pid, parent, session int
	born                 int64 // ticks since the boot
	used                 int64 // processor time in ticks, with that of children that were waited for
	resident             int64 // pages
	zombie               bool
	marked               bool // it carries the mark and is of the account that looks
}

// endTree sends a signal to every process of a tree: the group in which it
// was started, the leader's session, its descendants, and whoever carries the
// mark in its environment. KILL is repeated until none is left, as a process
// may fork while it is looked for. Whom TERM reached is noted in told, with what it ran
// then: it reaches no program twice, but a shell that was just about to run another one
// may have forgotten it.
func endTree(leader int, mark string, g *cgroup.Group, sig syscall.Signal, told map[int]string) error {
	const rounds = 20
	for range rounds {
		if sig == syscall.SIGKILL {
			g.Kill()
		}
		members := tree(leader, mark)
		for _, pid := range g.Members() {
			if !slices.Contains(members, pid) {
				members = append(members, pid)
			}
		}
		for _, pid := range members {
			runs := commandOf(pid)
			if was, is := told[pid]; is && was == runs && sig == syscall.SIGTERM {
				continue
			}
			if err := sendTo(pid, mark, sig); err != nil && !errors.Is(err, syscall.ESRCH) {
				return err
			}
			told[pid] = runs
		}
		if sig != syscall.SIGKILL || len(members) == 0 {
			return nil
		}
	}
	return nil
}

// commandOf returns the name of what a process runs (comm in proc(5)).
func commandOf(pid int) string {
	name, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/comm")
	if err != nil {
		return "" // it is no more
	}
	return string(name)
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

// Activity returns what the tree of a process has used so far, and whether it is
// there.
func Activity(leader int) (workstation.Activity, bool) {
	const tick = time.Second / 100 // USER_HZ, which proc(5) counts in
	var a workstation.Activity
	for _, pid := range tree(leader, "") {
		if p, ok := inspect(pid, ""); ok {
			a.Processor += time.Duration(p.used) * tick
			a.Memory += p.resident * int64(os.Getpagesize())
			a.Processes++
		}
	}
	return a, a.Processes > 0
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
	const state, parent, session, user, waited, start, resident = 0, 1, 3, 11, 14, 19, 21
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	if len(fields) <= resident {
		return procInfo{}, false
	}
	p := procInfo{pid: pid, zombie: fields[state] == "Z" || fields[state] == "X"}
	p.parent, _ = strconv.Atoi(fields[parent])
	p.session, _ = strconv.Atoi(fields[session])
	p.born, _ = strconv.ParseInt(fields[start], 10, 64)
	for _, f := range fields[user : waited+1] {
		ticks, _ := strconv.ParseInt(f, 10, 64)
		p.used += ticks
	}
	p.resident, _ = strconv.ParseInt(fields[resident], 10, 64)
	if mark != "" && ownedBy(dir, os.Getuid()) {
		env, err := readSome(dir+"/environ", mostEnviron)
		p.marked = err == nil && hasMark(env, mark)
	}
	return p, true
}

// mostEnviron bounds how much of a process's environment is looked through.
const mostEnviron = 4 << 20

func readSome(path string, most int64) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, most))
}

// ownedBy reports whether a process is an account's: a mark in the environment
// of another's says nothing, whoever has written it there.
func ownedBy(dir string, uid int) bool {
	info, err := os.Stat(dir + "/environ")
	if err != nil {
		return false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(st.Uid) == uid
}

// bornOf returns when a process began, in ticks since the boot.
func bornOf(pid int) (born int64, ok bool) {
	p, ok := inspect(pid, "")
	return p.born, ok
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

// Adopt implements [workstation.Starter]. A program is what it is taken for if
// process number, beginning, account and the secret mark of its run agree.
func (Starter) Adopt(o workstation.Order, pid int, born int64) workstation.Process {
	g := cgroup.Find(o.Mark)
	if pid == 0 {
		pid, born = leaderOf(o.Mark, g)
	}
	info, ok := inspect(pid, o.Mark)
	if pid == 0 || !ok || !info.marked || info.zombie || born != 0 && info.born != born {
		return nil
	}
	fd, err := unix.PidfdOpen(pid, unix.PIDFD_NONBLOCK)
	if err != nil {
		return nil
	}
	handle := os.NewFile(uintptr(fd), "pidfd")
	if again, ok := bornOf(pid); !ok || again != info.born {
		handle.Close()
		return nil // another has its number by now
	}
	p := &process{pid: pid, born: info.born, mark: o.Mark, group: g}
	c := newCollector(o, findPipe(pid, o.Mark))
	go c.run()
	go func() {
		defer handle.Close()
		waitExit(handle)
		at := time.Now()
		p.gone()
		p.rest(o.Rest)
		p.group.Remove()
		exit := exitByHandle(handle)
		if exit.At = at; p.stopped() {
			exit.At = time.Time{} // it was over when nothing of it was left
		}
		exit.Usage.Output = c.ended()
		o.Done(exit)
	}()
	return p
}

// leaderOf finds the process of a run that leads its session, where its number
// was never told: among those of the run's group, where it has one.
func leaderOf(mark string, g *cgroup.Group) (pid int, born int64) {
	inGroup := g.Members()
	for _, p := range scan(mark) {
		if p.marked && !p.zombie && p.session == p.pid && (g == nil || slices.Contains(inGroup, p.pid)) {
			return p.pid, p.born
		}
	}
	return 0, 0
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
