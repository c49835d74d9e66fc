//go:build linux

package linux

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"
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
	before := mountPoints(table)
	go func() {
		defer close(m.done)
		for {
			// The table can always be read, and is reported anew when it has
			// changed.
			asked := false
			if raw.Read(func(uintptr) bool { before := asked; asked = true; return before }) != nil {
				return
			}
			now := mountPoints(table)
			if came, went := missing(now, before), missing(before, now); len(came)+len(went) > 0 {
				changed(came, went)
			}
			before = now
		}
	}()
	return m, nil
}

func (m *mounts) close() {
	m.table.Close()
	<-m.done
}

// mountPoints reads where something is mounted, and how often.
func mountPoints(table *os.File) map[string]int {
	points := map[string]int{}
	var data bytes.Buffer
	if _, err := table.Seek(0, 0); err != nil {
		return points
	}
	if _, err := data.ReadFrom(table); err != nil {
		return points
	}
	for line := range strings.Lines(data.String()) {
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
