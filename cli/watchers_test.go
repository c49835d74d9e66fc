//go:build linux

package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"timegate/workstation/wstest"
)

// TestWithoutWatchers: a keeper whose account has no watcher of files left (inotify(7)) begins,
// opens gates, sees one that is written, and says what it lacks.
func TestWithoutWatchers(t *testing.T) {
	t.Parallel()
	home := homeWith(t, "humidity-log", "run = [\"/bin/true\"]\nopens = [\"every 1s\"]\n")
	without := func(args ...string) *exec.Cmd {
		return exec.Command(wstest.Need(t, "unshare", "util-linux"), append([]string{"--user", "--map-root-user", "sh", "-c", "echo 0 > /proc/sys/user/max_inotify_instances && exec \"$@\"", "sh"}, args...)...)
	}
	if out, err := without("true").CombinedOutput(); err != nil {
		wstest.Skip(t, "it wants a user namespace of its own: %v %s", err, out)
	}
	k := without(program, "--home", home, "keeper", "run")
	var log seen
	logged, theirs, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	k.Stderr = theirs
	go log.follow(logged)
	if err := k.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		k.Process.Signal(syscall.SIGTERM)
		k.Wait()
	})
	ran := func(gate string) func() bool {
		return func() bool {
			out, err := exec.Command(program, "--home", home, "history", gate, "--result", "ok").CombinedOutput()
			return err == nil && strings.Contains(string(out), " ok ")
		}
	}
	wstest.Await(t, "a run", ran("humidity-log"))
	if err := os.WriteFile(filepath.Join(home, "gates/glue-warm.toml"), []byte("run = [\"/bin/true\"]\nopens = [\"every 1s\"]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	wstest.Await(t, "a run of a gate that was written", ran("glue-warm"))
	log.await(t, "no watcher of files left")
}
