// Package cgroup keeps programs in control groups (cgroups(7), version 2), out of which
// nothing that comes of them can slip. Where the system has none, or does not let this
// account make one, groups are nil, and all that is asked of them does nothing.
package cgroup

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"timegate/core/phrase"
)

// Group is a control group in which programs are started.
type Group struct{ dir string }

const groupPrefix = "timegate-"

// stale is the age from which an empty group is nobody's any more: a younger one
// may be about to be filled by another keeper, which has the same group as this one.
const stale = time.Minute

// groupBase is this process's own group, below which it makes others, or "".
// Groups that earlier runs left empty are taken away.
var groupBase = sync.OnceValue(func() string {
	base := ownGroup(textOf("/proc/self/cgroup"), textOf("/proc/self/mountinfo"))
	if base == "" || unix.Access(base, unix.W_OK) != nil {
		return ""
	}
	left, _ := filepath.Glob(filepath.Join(base, groupPrefix+"*"))
	for _, dir := range left {
		if info, err := os.Stat(dir); err == nil && time.Since(info.ModTime()) > stale {
			unix.Rmdir(dir) // fails where programs still run in it
		}
	}
	return base
})

// ownGroup finds the folder of a process's group by the texts that tell of its groups and
// its mounts; "" where there is none.
func ownGroup(groups, mounts string) string {
	for line := range strings.Lines(groups) {
		path, is := strings.CutPrefix(strings.TrimRight(line, "\n"), "0::")
		if !is {
			continue
		}
		for mount := range strings.Lines(mounts) {
			// … root, mount point, options, "-", type (proc_pid_mountinfo(5))
			f := strings.Fields(mount)
			if i := slices.Index(f, "-"); i >= 6 && i+1 < len(f) && f[i+1] == "cgroup2" && phrase.Within(path, f[3]) {
				return filepath.Join(f[4], strings.TrimPrefix(path, f[3]))
			}
		}
	}
	return ""
}

// textOf is a small file of the kernel's, "" where it cannot be read.
func textOf(path string) string {
	text, _ := os.ReadFile(path)
	return string(text)
}

// Contained reports whether nothing that comes of a program can escape being
// ended with it.
func Contained() bool { return groupBase() != "" }

// New makes a group for a run, given by its mark.
func New(mark string) *Group {
	base := groupBase()
	if base == "" || mark == "" {
		return nil
	}
	g := &Group{groupOf(base, mark)}
	unix.Rmdir(g.dir) // one that was left empty
	if err := os.Mkdir(g.dir, 0o755); err != nil {
		return nil
	}
	return g
}

// Find returns the group in which a run was started before.
func Find(mark string) *Group {
	if base := groupBase(); base != "" {
		if dir := groupOf(base, mark); unix.Access(dir, unix.F_OK) == nil {
			return &Group{dir}
		}
	}
	return nil
}

// groupOf is the folder of a run's group. Runs of different homes have the same
// numbers, and their keepers may share a group: so it is named by the run's mark,
// of which it says nothing, as anybody may read the name.
func groupOf(base, mark string) string {
	sum := sha256.Sum256([]byte("control group of " + mark))
	return filepath.Join(base, groupPrefix+"run-"+hex.EncodeToString(sum[:8]))
}

// Open returns a descriptor by which a program is started in the group.
func (g *Group) Open() (int, error) {
	return unix.Open(g.dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
}

// Members lists the processes in the group and in those below it.
func (g *Group) Members() []int {
	if g == nil {
		return nil
	}
	var out []int
	filepath.WalkDir(g.dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return nil
		}
		f, err := os.Open(filepath.Join(path, "cgroup.procs"))
		if err != nil {
			return nil
		}
		defer f.Close()
		for s := bufio.NewScanner(f); s.Scan(); {
			if pid, err := strconv.Atoi(s.Text()); err == nil {
				out = append(out, pid)
			}
		}
		return nil
	})
	return out
}

// Kill ends all in the group at once (cgroup.kill, since Linux 5.14).
func (g *Group) Kill() {
	if g != nil {
		os.WriteFile(filepath.Join(g.dir, "cgroup.kill"), []byte("1"), 0)
	}
}

// Remove takes the group away. Where processes are left in it, it stays for
// them, and a later keeper takes it away.
func (g *Group) Remove() {
	if g != nil {
		unix.Rmdir(g.dir)
	}
}

// Shared makes a control group that an account may divide, but not leave
// (Delegation in the kernel's cgroup-v2.rst). It is nil where that cannot be.
func Shared(name string, uid, gid int) *Group {
	base := groupBase()
	if base == "" {
		return nil
	}
	g := &Group{filepath.Join(base, groupPrefix+name)}
	if err := os.Mkdir(g.dir, 0o755); err != nil && !os.IsExist(err) {
		return nil
	}
	if uid == os.Getuid() {
		return g
	}
	for _, name := range []string{"", "cgroup.procs", "cgroup.threads", "cgroup.subtree_control"} {
		if err := os.Chown(filepath.Join(g.dir, name), uid, gid); err != nil && !os.IsNotExist(err) {
			return nil
		}
	}
	return g
}
