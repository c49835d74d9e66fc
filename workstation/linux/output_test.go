//go:build linux

package linux

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"timegate/workstation"
)

// TestCollector feeds a collector pieces of every size: what is kept is the
// first and the last half, whatever the pieces, and can be read meanwhile.
func TestCollector(t *testing.T) {
	for _, keep := range []int64{7, 100} {
		for _, total := range []int{0, 1, 3, 50, 51, 100, 101, 150, 151} {
			for _, piece := range []int{1, 3, 64, 5000} {
				name := fmt.Sprintf("keep %d of %d in pieces of %d", keep, total, piece)
				text := make([]byte, total)
				for i := range text {
					text[i] = 'a' + byte(i%26)
				}
				path := filepath.Join(t.TempDir(), "1.txt")
				c, end, err := newCollector(workstation.Order{Output: workstation.Output{Path: path, Keep: keep}})
				if err != nil {
					t.Fatal(err)
				}
				end.file.Close()
				for rest := text; len(rest) > 0; rest = rest[min(piece, len(rest)):] {
					c.keep(rest[:min(piece, len(rest))])
				}
				meanwhile, err := ReadOutput(path)
				half := max(keep/2, 1)
				first := text[:min(int64(total), half)]
				if total == 0 && errors.Is(err, fs.ErrNotExist) {
					err = nil
				}
				if err != nil || !bytes.HasPrefix(meanwhile, first) || total > 0 && meanwhile[len(meanwhile)-1] != text[total-1] {
					t.Fatalf("%s: meanwhile %q, %v", name, meanwhile, err)
				}
				go c.run()
				all, dropped := c.ended()
				if all != int64(total) || dropped != max(0, int64(total)-2*half) {
					t.Errorf("%s: %d came, %d were dropped", name, all, dropped)
				}
				want := string(text)
				if dropped > 0 {
					want = fmt.Sprintf("%s\n[%d bytes left out]\n%s", first, dropped, text[int64(total)-half:])
				}
				if got, err := os.ReadFile(path); total > 0 && err != nil || string(got) != want {
					t.Errorf("%s: kept %q, %v, want %q", name, got, err, want)
				}
			}
		}
	}
}

// TestCollectorGoesOn: a second collector goes on where a first was left.
func TestCollectorGoesOn(t *testing.T) {
	o := workstation.Output{Path: filepath.Join(t.TempDir(), "1.txt"), Keep: 20}
	first, end, err := newCollector(workstation.Order{Output: o})
	if err != nil {
		t.Fatal(err)
	}
	end.file.Close()
	first.keep([]byte(strings.Repeat("x", 57)))
	second := resumeCollector(o, nil)
	second.keep([]byte("0123456789"))
	go second.run()
	if total, dropped := second.ended(); total != 67 || dropped != 47 {
		t.Errorf("%d came, %d were dropped, want 67 and 47", total, dropped)
	}
	want := strings.Repeat("x", 10) + "\n[47 bytes left out]\n0123456789"
	if got, err := os.ReadFile(o.Path); err != nil || string(got) != want {
		t.Errorf("kept %q, %v, want %q", got, err, want)
	}
	if files, _ := os.ReadDir(filepath.Dir(o.Path)); len(files) != 1 {
		t.Errorf("%d files stay behind", len(files))
	}
}

func TestCollectorWithoutRoom(t *testing.T) {
	if _, _, err := newCollector(workstation.Order{Output: workstation.Output{Path: "/nowhere/at/all/1.txt", Keep: 10}}); err == nil {
		t.Error("a collector in a folder that is not there")
	}
	// What a run of the same number has left is not taken for this one's.
	o := workstation.Output{Path: filepath.Join(t.TempDir(), "1.txt"), Keep: 10}
	if err := os.WriteFile(o.Path, []byte("old"), 0o600); err != nil {
		t.Fatal(err)
	}
	_, end, err := newCollector(workstation.Order{Output: o})
	if err != nil {
		t.Fatal(err)
	}
	end.file.Close()
	if text, err := ReadOutput(o.Path); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("before anything is printed: %q, %v", text, err)
	}
}

func TestInspect(t *testing.T) {
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
