//go:build linux

package keeper

import (
	"context"
	"testing"
	"time"

	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/journal"
	"timegate/workstation"
)

// TestSettled: how the machine fared after a logon is recorded, from the logon on, and
// nothing follows from it. A second logon meanwhile is not counted again.
func TestSettled(t *testing.T) {
	h := homeWith(t, "job-board", "run = [\"/bin/true\"]\nopens = [\"logon of maren\"]")
	ws := fast(t)
	calm := make(chan struct{})
	asked := make(chan bool, 8)
	k := keepWith(t, h, ws, func(k *Keeper) {
		k.settle = func(_ context.Context, boot bool) (workstation.Strain, error) {
			asked <- boot
			<-calm
			return workstation.Strain{Calm: true, For: 42 * time.Second, Processor: 7 * time.Second}, nil
		}
	})
	for range 2 {
		if err := ws.Stage([]string{"logon", "maren"}); err != nil {
			t.Fatal(err)
		}
	}
	k.ended("job-board")
	if boot := <-asked; boot {
		t.Error("a logon is taken for a boot")
	}
	close(calm)
	deadline := time.Now().Add(wait)
	var list []engine.Settled
	for len(list) == 0 && time.Now().Before(deadline) {
		j, err := journal.OpenReader(h.Journal())
		if err != nil {
			t.Fatal(err)
		}
		if list, err = j.Settled(10); err != nil {
			t.Fatal(err)
		}
		j.Close()
		time.Sleep(5 * time.Millisecond)
	}
	if len(list) != 1 || list[0].After != phrase.Logon || list[0].Name != "maren" || !list[0].Calm || list[0].For < 42_000 || list[0].Processor != 7000 || len(asked) != 0 {
		t.Errorf("recorded: %+v, asked %d times more", list, len(asked))
	}
	if err := k.end(); err != nil {
		t.Error(err)
	}
}
