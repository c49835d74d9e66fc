package journal

import (
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// Watch calls a function when a file of a journal is taken away or put in its
// place, until the function it returns is called. Writing to them wakes nobody.
func Watch(path string, changed func()) (stop func(), err error) {
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if err != nil {
		return nil, os.NewSyscallError("inotify_init1", err)
	}
	events := os.NewFile(uintptr(fd), "inotify")
	const gone = unix.IN_DELETE | unix.IN_MOVED_FROM | unix.IN_MOVED_TO | unix.IN_DELETE_SELF | unix.IN_MOVE_SELF
	if _, err := unix.InotifyAddWatch(fd, filepath.Dir(path), gone); err != nil {
		events.Close()
		return nil, &os.PathError{Op: "watch", Path: filepath.Dir(path), Err: err}
	}
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
	return func() { events.Close() }, nil
}

// readOnlyDisk reports whether nothing can be written to the file system of a
// path.
func readOnlyDisk(path string) bool {
	var st unix.Statfs_t
	return unix.Statfs(filepath.Dir(path), &st) == nil && st.Flags&unix.ST_RDONLY != 0
}
