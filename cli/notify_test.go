//go:build linux

package cli_test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// TestServiceManager: a keeper says when it answers, and then that it goes on;
// one that is stopped says nothing.
func TestServiceManager(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	socket := filepath.Join(dir, "notify")
	l, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: socket, Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	keeper := exec.Command(program, "--home", filepath.Join(dir, "tg"), "keeper", "run")
	keeper.Env = append(os.Environ(), "NOTIFY_SOCKET="+socket, "WATCHDOG_USEC=400000")
	if err := keeper.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { keeper.Process.Kill(); keeper.Wait() }()
	told := func(within time.Duration) string {
		buf := make([]byte, 100)
		l.SetReadDeadline(time.Now().Add(within))
		n, err := l.Read(buf)
		if err != nil {
			return ""
		}
		return string(buf[:n])
	}
	if got := told(20 * time.Second); got != "READY=1" {
		t.Fatalf("told %q first", got)
	}
	for range 3 {
		if got := told(20 * time.Second); got != "WATCHDOG=1" {
			t.Fatalf("told %q", got)
		}
	}
	if err := keeper.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	const underWay = 200 // at most: what was told before it stood still
	heard := 0
	for told(600*time.Millisecond) != "" && heard < underWay {
		heard++
	}
	if heard == underWay {
		t.Error("it is told on while it is stopped")
	}
}
