//go:build linux

package linux

import (
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// mountTable is the kernel's table of mounts (proc_pid_mountinfo(5)).
const mountTable = "/proc/self/mountinfo"

// mounts tells when the table of mounts changes.
type mounts struct {
	table *os.File
	done  chan struct{}
}

// watchMounts calls changed with the mount points that came and went.
func watchMounts(changed func(came, went []string)) (*mounts, error) {
	table, err := os.Open(mountTable)
	if err != nil {
		return nil, fmt.Errorf("mounts cannot be watched: %w", err)
	}
	raw, err := table.SyscallConn()
	if err != nil {
		table.Close()
		return nil, fmt.Errorf("mounts cannot be watched: %w", err)
	}
	m := &mounts{table: table, done: make(chan struct{})}
	var before, now map[string]int
	if err := raw.Control(func(fd uintptr) { before = mountPoints(int(fd)) }); err != nil {
		table.Close()
		return nil, fmt.Errorf("mounts cannot be watched: %w", err)
	}
	go func() {
		defer close(m.done)
		for {
			// The table can always be read, and is reported anew when it has changed. What is
			// reported while nobody waits is forgotten when the waiting begins: so it is read
			// then, and only what is the same is waited for.
			var came, went []string
			if raw.Read(func(fd uintptr) bool {
				if now = mountPoints(int(fd)); now == nil {
					return false
				}
				came, went = missing(now, before), missing(before, now)
				return len(came)+len(went) > 0
			}) != nil {
				return
			}
			changed(came, went)
			before = now
		}
	}()
	return m, nil
}

func (m *mounts) close() {
	m.table.Close()
	<-m.done
}

// mountPoints reads where something is mounted, and how often; nil where that cannot be
// read.
func mountPoints(table int) map[string]int {
	points := map[string]int{}
	var data []byte
	for page := make([]byte, 64<<10); ; {
		n, err := unix.Pread(table, page, int64(len(data)))
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return nil
		}
		if n == 0 {
			break
		}
		data = append(data, page[:n]...)
	}
	for line := range strings.Lines(string(data)) {
		if f := strings.Fields(line); len(f) > 4 {
			points[unescape(f[4])]++
		}
	}
	return points
}

// unescape puts back the blanks and the like that the table writes as \040.
func unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+3 < len(s) {
			if n, err := strconv.ParseUint(s[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// missing lists what is in a and not as often in b.
func missing(a, b map[string]int) []string {
	var out []string
	for point, n := range a {
		if n > b[point] {
			out = append(out, point)
		}
	}
	return out
}
