//go:build linux

package linux_test

import (
	"io"
	"os"
	"os/exec"
	"syscall"
	"testing"
	"time"

	"timegate/workstation/linux"
	"timegate/workstation/wstest"
)

// TestActivity: what a tree of processes uses is told while it lives: the processor time
// of all, also of children that have ended, and the memory of those that are there.
func TestActivity(t *testing.T) {
	t.Parallel()
	// The first child works until the kernel has counted 50 ms for it, and ends; the
	// second one stays.
	cmd := exec.Command("/bin/sh", "-c", `sh -c 'while :; do set -- $(cut -d" " -f14 /proc/$$/stat); [ "$1" -ge 5 ] && exit; done'; sleep 60 & echo ready; wait`)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		cmd.Wait()
	})
	if _, err := io.ReadFull(out, make([]byte, len("ready\n"))); err != nil {
		t.Fatal(err)
	}
	wstest.Await(t, "the second child", func() bool { a, _ := linux.Activity(cmd.Process.Pid); return a.Processes == 2 })
	a, ok := linux.Activity(cmd.Process.Pid)
	if !ok || a.Processor < 50*time.Millisecond || a.Processor > time.Minute || a.Memory < int64(os.Getpagesize()) {
		t.Errorf("a shell that has worked, with its child: %+v, %v", a, ok)
	}
	if a, ok := linux.Activity(1 << 30); ok {
		t.Errorf("a process that is not there: %+v", a)
	}
}
