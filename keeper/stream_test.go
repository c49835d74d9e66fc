//go:build linux

package keeper

import (
	"context"
	"errors"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"timegate/control"
	"timegate/core/engine"
	"timegate/workstation/wstest"
)

// TestFollow: a reader follows what is committed, from a number on and without
// a gap, over the end of a keeper too; one that takes nothing is cut off, and
// nobody waits for it.
func TestFollow(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "job-board", gateText(wstest.Script(t, "exit 3"), `"signal proofs"`))
	k, c := keep(t, h, newMachine(t)), control.NewClient(h)
	enough := errors.New("enough")
	// follow returns what is told after a number, until a run has ended.
	follow := func(after int64) (kinds string, last int64) {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), wait)
		defer cancel()
		last = after
		err := c.Follow(ctx, after, func(it control.Item) error {
			if it.Number != last+1 {
				t.Errorf("after number %d came %d", last, it.Number)
			}
			last = it.Number
			kinds += it.Event
			for _, d := range it.Decisions {
				kinds += " " + d.Decision + "=" + d.Code
			}
			kinds += "; "
			if it.Event == string(engine.KindRunEnded) {
				return enough
			}
			return nil
		})
		if !errors.Is(err, enough) {
			t.Fatalf("followed until %v; told was %s", err, kinds)
		}
		return kinds, last
	}
	if _, err := c.Send(t.Context(), "proofs"); err != nil {
		t.Fatal(err)
	}
	kinds, last := follow(0)
	if want := "begin; signal start=due; run-started; run-ended end=exit; "; kinds != want {
		t.Errorf("told %q, want %q", kinds, want)
	}
	silent, err := net.Dial("unix", h.Socket)
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	io.WriteString(silent, "GET /events?after=0 HTTP/1.1\r\nHost: keeper\r\n\r\n")
	for range 20 {
		if _, err := c.Send(t.Context(), "proofs"); err != nil {
			t.Fatal(err)
		}
		k.ended("job-board")
	}
	if kinds, _ = follow(last); strings.Count(kinds, "signal start=due") != 1 {
		t.Errorf("from number %d on: %s", last, kinds)
	}
	began := time.Now()
	if err := k.end(); err != nil || time.Since(began) > atOnce {
		t.Errorf("with readers, the keeper ended with %v after %v", err, time.Since(began))
	}
	s, err := control.NewClient(h).Status(t.Context())
	if !errors.Is(err, control.ErrNoKeeper) {
		t.Errorf("after its end: %+v, %v", s, err)
	}
	keep(t, h, newMachine(t))
	if s, err = c.Status(t.Context()); err != nil || s.Last < 60 {
		t.Errorf("the next keeper goes on at number %d, %v", s.Last, err)
	}
	if kinds, _ = follow(0); !strings.HasPrefix(kinds, "begin; signal start=due; ") {
		t.Errorf("what an earlier keeper has committed: %s", kinds)
	}
}
