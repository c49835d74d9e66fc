//go:build linux

package keeper

import (
	"context"
	"os"
	"runtime"
	"sync"
	"testing"
	"time"

	"timegate/control"
)

// TestReaders: a thousand readers that come, follow and go leave nothing behind: no
// descriptors, no goroutines.
func TestReaders(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "job-board", "run = [\"/bin/true\"]\nopens = [\"signal proofs\"]")
	k := keep(t, h, newMachine(t))
	open := func() int {
		entries, err := os.ReadDir("/proc/self/fd")
		if err != nil {
			t.Fatal(err)
		}
		return len(entries)
	}
	read := func(how int) {
		ctx, leave := context.WithCancel(t.Context())
		defer leave()
		c := control.NewClient(h)
		switch how % 3 {
		case 0: // follows what was, and leaves at the first
			c.Follow(ctx, 0, func(control.Item) error { return context.Canceled })
		case 1: // follows what comes, and leaves before anything does
			time.AfterFunc(time.Millisecond, leave)
			c.Follow(ctx, -1, func(control.Item) error { return nil })
		default:
			if _, err := c.Status(ctx); err != nil {
				t.Error(err)
			}
		}
	}
	read(2)
	files, routines := open(), runtime.NumGoroutine()
	const all, together = 1000, 8
	var readers sync.WaitGroup
	for first := range together {
		readers.Go(func() {
			for i := first; i < all; i += together {
				read(i)
			}
		})
	}
	readers.Wait()
	// SQLite keeps the files of readers that were there at once, to use them again: it may not
	// close one while another of the process holds a lock (howtocorrupt.html, section 2.2).
	const more = 3 * together
	for end := time.Now().Add(wait); open() > files+more || runtime.NumGoroutine() > routines+more; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%d descriptors and %d goroutines are left of %d readers; before there were %d and %d", open(), runtime.NumGoroutine(), all, files, routines)
		}
	}
	if err := k.end(); err != nil {
		t.Error(err)
	}
}
