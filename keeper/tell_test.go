//go:build linux

package keeper

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"timegate/control"
	"timegate/home"
	"timegate/tell"
)

// ears is a channel that passes on what it is told.
type ears chan string

func (ears) Name() string { return "ears" }

func (e ears) Tell(_ context.Context, m tell.Message) error {
	for i := range m.Notices {
		e <- m.Notices[i].Line()
	}
	return nil
}

// TestTold: what fails for good and what is broken is told once, over a restart too, and
// again when it is well; settings and gates say of what.
func TestTold(t *testing.T) {
	t.Parallel()
	mark := filepath.Join(t.TempDir(), "fail")
	if err := os.WriteFile(mark, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	const often = "opens = [\"signal proofs\"]\n"
	h := homeWith(t, "vault-copy", "run = [\"/bin/sh\", \"-c\", \"! [ -e "+mark+" ]\"]\n"+often, "glue-warm", "run = [\"/bin/false\"]\n"+often+"[tell]\nof = []\n", "label-sheet", "run = [\"/bin/true\"]\n")
	heard := make(ears, 20)
	begin := func() *kept {
		return keepWith(t, h, newMachine(t), func(k *Keeper) {
			k.telling = &Telling{Gather: 10 * time.Millisecond, Pause: 10 * time.Millisecond, Channels: func(home.Tell) []tell.Channel { return []tell.Channel{heard} }}
		})
	}
	expect := func(want string) {
		t.Helper()
		select {
		case got := <-heard:
			if !strings.HasPrefix(got, want) {
				t.Errorf("%q is told, want %q", got, want)
			}
		case <-time.After(wait):
			t.Errorf("%q is never told", want)
		}
	}
	k := begin()
	send := func() {
		t.Helper()
		if _, err := control.NewClient(h).Send(t.Context(), "proofs"); err != nil {
			t.Fatal(err)
		}
		k.ended("vault-copy")
	}
	send()
	expect("vault-copy failed: exit status 1")
	send()
	put(t, h, "label-sheet", "run = 5\n")
	expect("label-sheet is broken: ")
	if err := k.end(); err != nil {
		t.Error(err)
	}
	k = begin()
	send()
	if err := os.Remove(mark); err != nil {
		t.Fatal(err)
	}
	send()
	expect("vault-copy is well again")
	put(t, h, "label-sheet", "run = [\"/bin/true\"]\n")
	expect("label-sheet is well again")
	if err := k.end(); err != nil {
		t.Error(err)
	}
	select {
	case more := <-heard:
		t.Errorf("and %q is told", more)
	default:
	}
}
