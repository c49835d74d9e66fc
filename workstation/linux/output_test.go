//go:build linux

package linux

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"
)

// TestTakePipe: what a process shows as its pipe is taken only if it is that
// pipe.
func TestTakePipe(t *testing.T) {
	t.Parallel()
	read, end, err := newPipe(nil)
	if err != nil {
		t.Fatal(err)
	}
	defer read.Close()
	defer end.file.Close()
	secret := filepath.Join(t.TempDir(), "shadow")
	fifo := filepath.Join(t.TempDir(), "fifo")
	if err := errors.Join(os.WriteFile(secret, []byte("of root\n"), 0o600), unix.Mkfifo(fifo, 0o600)); err != nil {
		t.Fatal(err)
	}
	for link, want := range map[string]bool{fmt.Sprintf("/proc/self/fd/%d", end.file.Fd()): true, secret: false, fifo: false, "/dev/null": false, "/nowhere": false} {
		pipe := takePipe(link, end.id)
		if (pipe != nil) != want {
			t.Errorf("taken from %s: %v", link, pipe != nil)
		}
		pipe.Close()
	}
}

func TestInspect(t *testing.T) {
	t.Parallel()
	p, ok := inspect(os.Getpid(), "no-mark")
	if !ok || p.parent != os.Getppid() || p.zombie || p.marked {
		t.Errorf("inspect of this process = %+v, %v", p, ok)
	}
	if _, ok := inspect(1<<30, ""); ok {
		t.Error("a process that is not there was inspected")
	}
	for env, want := range map[string]bool{
		"A=1\x00TIMEGATE_MARK=7\x00": true, "TIMEGATE_MARK=77\x00": false, "XTIMEGATE_MARK=7\x00": false, "": false, "TIMEGATE_MARK=7": true,
	} {
		if got := hasMark([]byte(env), "7"); got != want {
			t.Errorf("hasMark(%q) = %v", env, got)
		}
	}
}
