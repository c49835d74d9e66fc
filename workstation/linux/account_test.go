//go:build linux

package linux

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"timegate/workstation"
)

// TestLimits reads limits as limits.conf(5) has them, and starts a program
// with them.
func TestLimits(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	conf := `# a comment
*        soft  core     0
*        hard  nofile   450
@binders -     nofile   300
@binders soft  memlock  64
maren    soft  nofile   250   # for her
maren    hard  cpu      2
tobias   -     nice     -5
ines     -     maxlogins 4
ines     -     nproc    many
`
	if err := errors.Join(os.WriteFile(filepath.Join(folder, "limits.conf"), []byte(conf), 0o644), os.Mkdir(filepath.Join(folder, "limits.d"), 0o755),
		os.WriteFile(filepath.Join(folder, "limits.d", "press.conf"), []byte("* hard nofile 400\nroot soft core unlimited\nmaren hard cpu 3\n"), 0o644)); err != nil {
		t.Fatal(err)
	}
	show := func(list []workstation.Limit) string {
		var out []string
		for _, l := range list {
			text := l.Item
			for _, v := range []*uint64{l.Soft, l.Hard} {
				if v == nil {
					text += " -"
				} else {
					text += fmt.Sprint(" ", *v)
				}
			}
			out = append(out, text)
		}
		return strings.Join(out, ", ")
	}
	for _, tt := range []struct{ account, group, want string }{
		{"ines", "ines", "core 0 -, nofile - 400"},
		{"ines", "binders", "core 0 -, memlock 65536 -, nofile 300 300"},
		{"maren", "binders", "core 0 -, cpu - 180, memlock 65536 -, nofile 250 300"},
		{"tobias", "tobias", "core 0 -, nice 25 25, nofile - 400"},
		{"root", "binders", "core 18446744073709551615 -"},
	} {
		if got := show(Limits(folder, tt.account, []string{tt.group})); got != tt.want {
			t.Errorf("%s of %s: %s, want %s", tt.account, tt.group, got, tt.want)
		}
	}
	done := make(chan workstation.Exit, 1)
	var text strings.Builder
	p, err := Starter{}.Start(workstation.Order{Mark: "limits", Argv: []string{"/bin/sh", "-c", "ulimit -Sn; ulimit -Hn; ulimit -Sc; nice"}, Folder: "/", Low: true,
		Limits: Limits(folder, "maren", []string{"binders"}), Print: func(b []byte) { text.Write(b) }, Done: func(x workstation.Exit) { done <- x }})
	if err != nil {
		t.Fatal(err)
	}
	x := <-done
	if text.String() != "250\n300\n0\n19\n" || x.Status != 0 || p.Note() != "" {
		t.Errorf("a program with limits: %q, %+v, note %q", text.String(), x, p.Note())
	}
	// What cannot be started says so as without limits.
	_, err = Starter{}.Start(workstation.Order{Mark: "limits", Argv: []string{"/nowhere"}, Folder: "/", Limits: Limits(folder, "maren", nil)})
	if err == nil || !strings.Contains(err.Error(), "no such file or directory; check the path") {
		t.Errorf("a program that is not there: %v", err)
	}
}

// TestNothingOpen: a program gets no descriptor but its own three, whatever
// the keeper was started with.
func TestNothingOpen(t *testing.T) {
	t.Parallel()
	var fds [2]int
	if err := unix.Pipe2(fds[:], 0); err != nil {
		t.Fatal(err)
	}
	defer unix.Close(fds[0])
	defer unix.Close(fds[1])
	done := make(chan workstation.Exit, 1)
	var text strings.Builder
	_, err := Starter{}.Start(workstation.Order{Mark: "open", Argv: []string{"/bin/sh", "-c", "echo /proc/$$/fd/*"}, Folder: "/",
		Print: func(b []byte) { text.Write(b) }, Done: func(x workstation.Exit) { done <- x }})
	if err != nil {
		t.Fatal(err)
	}
	<-done
	for name := range strings.FieldsSeq(text.String()) {
		// The shell opens /proc for itself while it looks.
		if fd, err := strconv.Atoi(filepath.Base(name)); err != nil || fd == fds[0] || fd == fds[1] {
			t.Errorf("open in a program: %s", text.String())
		}
	}
}

// TestDesktopLogons reads records of utmp(5) in both of their forms.
func TestDesktopLogons(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	record := func(kind uint16, line, user, host string, at time.Time, wide bool) []byte {
		b := make([]byte, 384)
		if wide {
			b = make([]byte, 400)
			binary.NativeEndian.PutUint64(b[344:], uint64(at.Unix()))
		} else {
			binary.NativeEndian.PutUint32(b[340:], uint32(at.Unix()))
		}
		binary.NativeEndian.PutUint16(b, kind)
		copy(b[8:40], line)
		copy(b[44:76], user)
		copy(b[76:], host)
		return b
	}
	for arch, wide := range map[string]bool{"amd64": false, "arm64": true} {
		var file []byte
		for i, r := range []struct {
			kind             uint16
			line, user, host string
		}{{2, "~", "reboot", "6.1"}, {7, ":0", "maren", ":0"}, {7, "tty2", "ines", "tty2"}, {7, "pts/0", "tobias", "192.0.2.7"}, {7, "tty1", "tobias", ""}, {8, ":0", "", ""}} {
			file = append(file, record(r.kind, r.line, r.user, r.host, at.Add(time.Duration(i)*time.Hour), wide)...)
		}
		last, since, ok := desktopLogons(append(file, 1, 2, 3), arch)
		if !ok || !since.Equal(at) || len(last) != 2 || !last["maren"].Equal(at.Add(time.Hour)) || !last["ines"].Equal(at.Add(2*time.Hour)) {
			t.Errorf("%s: %v since %v, %v", arch, last, since, ok)
		}
	}
	if _, _, ok := desktopLogons(record(7, "pts/0", "tobias", "192.0.2.7", at, false), "amd64"); ok {
		t.Error("a record without desktops tells of them")
	}
}
