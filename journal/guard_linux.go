package journal

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// lookAgain is how often a journal's files are looked at where the kernel does not tell of them.
const lookAgain = 5 * time.Second

// Watch calls a function when a file of a journal is taken away or put in its
// place, until the function it returns is called. Writing to them wakes nobody. Where the
// account has no watcher left (inotify(7)), the function is called every few seconds.
func Watch(path string, changed func()) (stop func(), err error) {
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if errors.Is(err, unix.EMFILE) {
		return look(changed), nil
	}
	if err != nil {
		return nil, os.NewSyscallError("inotify_init1", err)
	}
	events := os.NewFile(uintptr(fd), "inotify")
	const gone = unix.IN_DELETE | unix.IN_MOVED_FROM | unix.IN_MOVED_TO | unix.IN_DELETE_SELF | unix.IN_MOVE_SELF
	if _, err := unix.InotifyAddWatch(fd, filepath.Dir(path), gone); err != nil {
		events.Close()
		return nil, &os.PathError{Op: "watch", Path: filepath.Dir(path), Err: err}
	}
	stopMounts := watchMounts(changed)
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := events.Read(buf)
			if err != nil {
				return
			}
			if strings.Contains(string(buf[:n]), filepath.Base(path)) || n == unix.SizeofInotifyEvent {
				changed()
			}
		}
	}()
	return func() { events.Close(); stopMounts() }, nil
}

// watchMounts calls a function when something is mounted or unmounted (proc_pid_mountinfo(5)),
// until the function it returns is called: what the journal lies on can be taken away so
// that nothing else tells of it.
func watchMounts(changed func()) (stop func()) {
	// Not by os.Open: the runtime would ask for what happens to it as well, and it is told
	// to one of the two.
	table, err := unix.Open("/proc/self/mountinfo", unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return func() {} // no such kernel: what lies there is looked at when it is written to
	}
	end, ending, err := os.Pipe()
	if err != nil {
		unix.Close(table)
		return func() {}
	}
	go func() {
		defer unix.Close(table)
		defer end.Close()
		for {
			fds := []unix.PollFd{{Fd: int32(table), Events: unix.POLLPRI}, {Fd: int32(end.Fd())}}
			if _, err := unix.Poll(fds, -1); err != nil && err != unix.EINTR || fds[1].Revents != 0 {
				return
			}
			if fds[0].Revents != 0 {
				// It is told before it is done: who reads the table waits until then.
				unix.Pread(table, make([]byte, 1), 0)
				changed()
			}
		}
	}()
	return func() { ending.Close() }
}

// look calls a function every few seconds, until the function it returns is called.
func look(changed func()) (stop func()) {
	ctx, end := context.WithCancel(context.Background())
	go func() {
		again := time.NewTicker(lookAgain)
		defer again.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-again.C:
				changed()
			}
		}
	}()
	return end
}

// readOnlyDisk reports whether nothing can be written to the file system of a
// path.
func readOnlyDisk(path string) bool {
	var st unix.Statfs_t
	return unix.Statfs(filepath.Dir(path), &st) == nil && st.Flags&unix.ST_RDONLY != 0
}
