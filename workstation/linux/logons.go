//go:build linux

package linux

import (
	"bytes"
	"encoding/binary"
	"os"
	"runtime"
	"strings"
	"time"
)

// wtmp is where the system keeps who was logged on (utmp(5)).
const wtmp = "/var/log/wtmp"

// DesktopLogons returns when accounts were last logged on to a desktop, and
// since when that is recorded. It returns false where no record tells of
// desktops.
func DesktopLogons() (last map[string]time.Time, since time.Time, ok bool) {
	data, err := os.ReadFile(wtmp)
	if err != nil {
		return nil, since, false
	}
	return desktopLogons(data, runtime.GOARCH)
}

// desktopLogons reads records of utmp(5). Their size depends on how the
// machine's C library writes times.
func desktopLogons(data []byte, arch string) (last map[string]time.Time, since time.Time, ok bool) {
	const line, user, host = 8, 44, 76
	const userProcess = 7
	size, stamp, wide := 384, 340, false
	if arch == "arm64" || arch == "riscv64" {
		size, stamp, wide = 400, 344, true
	}
	last = map[string]time.Time{}
	text := func(b []byte) string { name, _, _ := bytes.Cut(b, []byte{0}); return string(name) }
	for ; len(data) >= size; data = data[size:] {
		at := time.Unix(int64(binary.NativeEndian.Uint32(data[stamp:])), 0)
		if wide {
			at = time.Unix(int64(binary.NativeEndian.Uint64(data[stamp:])), 0)
		}
		if since.IsZero() {
			since = at
		}
		// A desktop's display stands where a terminal or a host does otherwise:
		// ":0", or "tty2" with the same as host.
		seat, from := text(data[line:line+32]), text(data[host:host+256])
		desktop := strings.HasPrefix(seat, ":") || strings.HasPrefix(from, ":") || strings.HasPrefix(from, "tty")
		if binary.NativeEndian.Uint16(data) == userProcess && desktop {
			last[text(data[user:user+32])] = at
		}
	}
	return last, since, len(last) > 0
}
