//go:build linux

package linux

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"timegate/workstation"
)

// limitItems are what limits.conf(5) can limit: the kernel's number of it
// (getrlimit(2)), and in which unit it is written. What is not here concerns
// logins alone.
var limitItems = map[string]struct {
	resource int
	unit     uint64
}{
	"core": {unix.RLIMIT_CORE, 1024}, "data": {unix.RLIMIT_DATA, 1024}, "fsize": {unix.RLIMIT_FSIZE, 1024}, "memlock": {unix.RLIMIT_MEMLOCK, 1024},
	"nofile": {unix.RLIMIT_NOFILE, 1}, "rss": {unix.RLIMIT_RSS, 1024}, "stack": {unix.RLIMIT_STACK, 1024}, "cpu": {unix.RLIMIT_CPU, 60},
	"nproc": {unix.RLIMIT_NPROC, 1}, "as": {unix.RLIMIT_AS, 1024}, "locks": {unix.RLIMIT_LOCKS, 1}, "sigpending": {unix.RLIMIT_SIGPENDING, 1},
	"msgqueue": {unix.RLIMIT_MSGQUEUE, 1}, "rtprio": {unix.RLIMIT_RTPRIO, 1}, "nice": {unix.RLIMIT_NICE, 1},
}

// Limits returns what an account may use of the machine's resources after a
// fresh login, where that is not what the keeper may: by limits.conf(5) and the
// files beside it in a folder such as /etc/security.
func Limits(folder, account string, groups []string) []workstation.Limit {
	files, _ := filepath.Glob(filepath.Join(folder, "limits.d", "*.conf"))
	slices.Sort(files)
	type key struct {
		item string
		hard bool
	}
	// The more narrowly a line is meant, the more it counts; then the last.
	chosen, rank := map[key]uint64{}, map[key]int{}
	for _, file := range append([]string{filepath.Join(folder, "limits.conf")}, files...) {
		f, err := os.Open(file)
		if err != nil {
			continue
		}
		for s := bufio.NewScanner(f); s.Scan(); {
			text, _, _ := strings.Cut(s.Text(), "#")
			line := strings.Fields(text)
			if len(line) != 4 {
				continue
			}
			value, ok := limitValue(line[2], line[3])
			r := limitRank(line[0], account, groups)
			if !ok || r == 0 {
				continue
			}
			for _, k := range []key{{line[2], false}, {line[2], true}} {
				if (line[1] == "-" || (line[1] == "hard") == k.hard) && r >= rank[k] {
					chosen[k], rank[k] = value, r
				}
			}
		}
		f.Close()
	}
	var out []workstation.Limit
	for item := range limitItems {
		l := workstation.Limit{Item: item}
		if v, ok := chosen[key{item, false}]; ok {
			l.Soft = &v
		}
		if v, ok := chosen[key{item, true}]; ok {
			l.Hard = &v
		}
		if l.Soft != nil || l.Hard != nil {
			out = append(out, l)
		}
	}
	slices.SortFunc(out, func(a, b workstation.Limit) int { return strings.Compare(a.Item, b.Item) })
	return out
}

// limitRank tells how narrowly a line is meant for an account: 0 for not at
// all. What is for all, or for a group, is not for root.
func limitRank(domain, account string, groups []string) int {
	group, isGroup := strings.CutPrefix(domain, "@")
	switch {
	case domain == account:
		return 3
	case account == "root":
		return 0
	case isGroup && slices.Contains(groups, group):
		return 2
	case domain == "*":
		return 1
	}
	return 0
}

// limitValue reads a value as the kernel wants it.
func limitValue(item, text string) (uint64, bool) {
	it, known := limitItems[item]
	switch text {
	case "unlimited", "infinity", "-1":
		if item != "nice" {
			return unix.RLIM_INFINITY, known
		}
	}
	n, err := strconv.ParseInt(text, 10, 64)
	switch {
	case err != nil, !known:
		return 0, false
	case item == "nice": // from 19, which is nothing, to -20
		return uint64(20 - max(min(n, 19), -20)), true
	case n < 0:
		return 0, false
	}
	return uint64(n) * it.unit, true
}

// limit sets the limits of a process; 0 stands for this one.
func limit(pid int, limits []workstation.Limit) error {
	for _, l := range limits {
		resource := limitItems[l.Item].resource
		var now unix.Rlimit
		if err := unix.Prlimit(pid, resource, nil, &now); err != nil {
			return fmt.Errorf("its limit %s could not be set: %w", l.Item, err)
		}
		before := now
		if l.Hard != nil {
			now.Max = *l.Hard
		}
		if l.Soft != nil {
			now.Cur = *l.Soft
		}
		now.Cur = min(now.Cur, now.Max)
		if now == before {
			continue
		}
		if err := unix.Prlimit(pid, resource, &now, nil); err != nil {
			return fmt.Errorf("its limit %s could not be set: %w", l.Item, err)
		}
	}
	return nil
}

// LimitSelf sets the limits of this process, and so of what it starts, where they
// are not so already. It returns what could not be set, or "".
func LimitSelf(limits []workstation.Limit) (note string) {
	for _, l := range limits {
		if err := limit(0, []workstation.Limit{l}); err != nil {
			note = err.Error()
		}
	}
	return note
}

// startWith starts a program from a thread of its own, so that it is of low
// priority, or has its limits, before it begins. The thread ends: it could not
// get its own priority back. A limit that the keeper has not the right to set
// is noted.
func startWith(o workstation.Order, l *appearance, attr *os.ProcAttr) (proc *os.Process, err error) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread() // and never unlocked: the thread ends with the goroutine
		if o.Low {
			if err = lower(); err != nil {
				return
			}
		}
		// A program that is traced stops before its first instruction
		// (ptrace(2), PTRACE_TRACEME).
		attr.Sys.Ptrace = len(o.Limits) > 0
		proc, err = os.StartProcess(l.program, o.Argv, attr)
		if attr.Sys.Ptrace && errors.Is(err, unix.EPERM) {
			// It may be the tracing that is not permitted here.
			attr.Sys.Ptrace = false
			if proc, err = os.StartProcess(l.program, o.Argv, attr); err == nil {
				l.addNote("its limits could not be set: tracing is not permitted here")
			}
		}
		if err != nil || !attr.Sys.Ptrace {
			return
		}
		_, err = unix.Wait4(proc.Pid, nil, 0, nil)
		if failed := limit(proc.Pid, o.Limits); failed != nil {
			l.addNote(failed.Error())
		}
		if err = errors.Join(err, unix.PtraceDetach(proc.Pid)); err != nil {
			proc.Kill()
			proc.Wait()
		}
	}()
	<-done
	return proc, err
}
