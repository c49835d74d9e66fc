//go:build linux

package linux

import (
	"bufio"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sys/unix"
)

// group is a control group (cgroups(7), version 2) in which a program is
// started, and out of which nothing that comes of it can slip. It is nil
// where the system has none, or does not let this account make one.
type group struct{ dir string }

const groupPrefix = "timegate-"

// groupBase is this process's own group, below which it makes others, or "".
// Groups that earlier runs left empty are taken away.
var groupBase = sync.OnceValue(func() string {
	base := ownGroup("/proc/self/cgroup", mountTable)
	if base == "" || unix.Access(base, unix.W_OK) != nil {
		return ""
	}
	left, _ := filepath.Glob(filepath.Join(base, groupPrefix+"*"))
	for _, dir := range left {
		unix.Rmdir(dir) // fails where programs still run in it
	}
	return base
})

// ownGroup finds the folder of a process's group by the files that tell of
// its groups and its mounts.
func ownGroup(groups, mounts string) string {
	path, found := "", false
	anyLine(groups, func(f []string) bool {
		if len(f) == 1 {
			path, found = strings.CutPrefix(f[0], "0::")
		}
		return found
	})
	if !found {
		return ""
	}
	base := ""
	anyLine(mounts, func(f []string) bool {
		// … root, mount point, options, "-", type (proc_pid_mountinfo(5))
		for i := 6; i+1 < len(f); i++ {
			if f[i] == "-" && f[i+1] == "cgroup2" && within(path, f[3]) {
				base = filepath.Join(unescape(f[4]), strings.TrimPrefix(path, f[3]))
			}
		}
		return base != ""
	})
	return base
}

// Contained reports whether nothing that comes of a program can escape being
// ended with it.
func Contained() bool { return groupBase() != "" }

// newGroup makes a group for a run.
func newGroup(run int64) *group {
	base := groupBase()
	if base == "" {
		return nil
	}
	g := &group{groupOf(base, run)}
	unix.Rmdir(g.dir) // one that was left empty
	if err := os.Mkdir(g.dir, 0o755); err != nil {
		return nil
	}
	return g
}

// findGroup returns the group in which a run was started before.
func findGroup(run int64) *group {
	if base := groupBase(); base != "" {
		if dir := groupOf(base, run); isDir(dir) {
			return &group{dir}
		}
	}
	return nil
}

// groupOf is the folder of a run's group. Anybody may read its name.
func groupOf(base string, run int64) string {
	return filepath.Join(base, groupPrefix+"run-"+strconv.FormatInt(run, 10))
}

// open returns a descriptor by which a program is started in the group.
func (g *group) open() (int, error) {
	return unix.Open(g.dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
}

// members lists the processes in the group and in those below it.
func (g *group) members() []int {
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

// kill ends all in the group at once (cgroup.kill, since Linux 5.14).
func (g *group) kill() {
	if g != nil {
		os.WriteFile(filepath.Join(g.dir, "cgroup.kill"), []byte("1"), 0)
	}
}

// remove takes the group away. Where processes are left in it, it stays for
// them, and a later keeper takes it away.
func (g *group) remove() {
	if g != nil {
		unix.Rmdir(g.dir)
	}
}
