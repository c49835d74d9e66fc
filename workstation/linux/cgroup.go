//go:build linux

package linux

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
	"timegate/core/phrase"

	"golang.org/x/sys/unix"
)

// group is a control group (cgroups(7), version 2) in which a program is
// started, and out of which nothing that comes of it can slip. It is nil
// where the system has none, or does not let this account make one.
type group struct{ dir string }

const groupPrefix = "timegate-"

// stale is the age from which an empty group is nobody's any more: a younger one
// may be about to be filled by another keeper, which has the same group as this one.
const stale = time.Minute

// groupBase is this process's own group, below which it makes others, or "".
// Groups that earlier runs left empty are taken away.
var groupBase = sync.OnceValue(func() string {
	base := ownGroup("/proc/self/cgroup", mountTable)
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
			if f[i] == "-" && f[i+1] == "cgroup2" && phrase.Within(path, f[3]) {
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

// newGroup makes a group for a run, given by its mark.
func newGroup(mark string) *group {
	base := groupBase()
	if base == "" || mark == "" {
		return nil
	}
	g := &group{groupOf(base, mark)}
	unix.Rmdir(g.dir) // one that was left empty
	if err := os.Mkdir(g.dir, 0o755); err != nil {
		return nil
	}
	return g
}

// findGroup returns the group in which a run was started before.
func findGroup(mark string) *group {
	if base := groupBase(); base != "" {
		if dir := groupOf(base, mark); isDir(dir) {
			return &group{dir}
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
