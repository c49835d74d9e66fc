package home

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"

	"timegate/core/gate"
)

func outputHome(t *testing.T) Home {
	t.Helper()
	h := At(t.TempDir(), gate.User)
	if err := os.Mkdir(h.Outputs(), 0o700); err != nil {
		t.Fatal(err)
	}
	return h
}

// TestOutput is given pieces of every size: what is kept is the first and the
// last half, whatever the pieces, and can be read meanwhile.
func TestOutput(t *testing.T) {
	t.Parallel()
	h := outputHome(t)
	for _, keep := range []int64{7, 100} {
		for _, total := range []int{0, 1, 3, 50, 51, 100, 101, 150, 151} {
			for _, piece := range []int{1, 3, 64, 5000} {
				name := fmt.Sprintf("keep %d of %d in pieces of %d", keep, total, piece)
				text := make([]byte, total)
				for i := range text {
					text[i] = 'a' + byte(i%26)
				}
				o := h.NewOutput(1, keep)
				for rest := text; len(rest) > 0; rest = rest[min(piece, len(rest)):] {
					o.Keep(rest[:min(piece, len(rest))])
				}
				meanwhile, err := h.ReadOutput(1)
				half := max(keep/2, 1)
				first := text[:min(int64(total), half)]
				if err != nil || !bytes.HasPrefix(meanwhile, first) || total > 0 && meanwhile[len(meanwhile)-1] != text[total-1] {
					t.Fatalf("%s: meanwhile %q, %v", name, meanwhile, err)
				}
				all, dropped := o.End()
				if all != int64(total) || dropped != max(0, int64(total)-2*half) {
					t.Errorf("%s: %d came, %d were dropped", name, all, dropped)
				}
				want := string(text)
				if dropped > 0 {
					want = fmt.Sprintf("%s\n[%d bytes left out]\n%s", first, dropped, text[int64(total)-half:])
				}
				if got, err := h.ReadOutput(1); err != nil || string(got) != want {
					t.Errorf("%s: kept %q, %v, want %q", name, got, err, want)
				}
			}
		}
	}
}

// TestOutputGoesOn: the next keeper goes on where the last was left, and
// passes over what it is told was left out.
func TestOutputGoesOn(t *testing.T) {
	t.Parallel()
	h := outputHome(t)
	first := h.NewOutput(1, 20)
	first.Keep([]byte(strings.Repeat("x", 57)))
	first.Leave()
	first.Keep([]byte("lost on the way"))
	second := h.ResumeOutput(1, 20)
	if got := second.Received(); got != 57 {
		t.Errorf("goes on after %d bytes, want 57", got)
	}
	second.Skip(1000)
	second.Keep([]byte("0123456789"))
	if total, dropped := second.End(); total != 1067 || dropped != 1047 {
		t.Errorf("%d came, %d were dropped, want 1067 and 1047", total, dropped)
	}
	want := strings.Repeat("x", 10) + "\n[1047 bytes left out]\n0123456789"
	if got, err := h.ReadOutput(1); err != nil || string(got) != want {
		t.Errorf("kept %q, %v, want %q", got, err, want)
	}
	if files, _ := os.ReadDir(h.Outputs()); len(files) != 1 {
		t.Errorf("%d files stay behind", len(files))
	}
	// What a run of the same number has left is not taken for this one's.
	h.NewOutput(1, 20)
	if got, err := h.ReadOutput(1); err != nil || len(got) != 0 {
		t.Errorf("before anything is printed: %q, %v", got, err)
	}
}
