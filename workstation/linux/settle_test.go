//go:build linux

package linux

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"timegate/workstation"
)

// TestSettle: a machine whose work waits for a while, and then does not, was calm from
// there on; one that is never calm is given up.
func TestSettle(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		name string
		boot bool
		busy int // seconds in which work waits half of the time
		want workstation.Strain
	}{
		{"calm at once", false, 0, workstation.Strain{Calm: true}},
		{"busy for a while", false, 12, workstation.Strain{Calm: true, For: 12 * time.Second, Processor: 6 * time.Second, Disk: 3 * time.Second}},
		{"since boot", true, 12, workstation.Strain{Calm: true, For: 12 * time.Second, Processor: 7 * time.Second, Disk: 4 * time.Second, Memory: time.Second}},
		{"never", false, 1000, workstation.Strain{For: 5 * time.Minute, Processor: 150 * time.Second, Disk: 75 * time.Second}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			folder := t.TempDir()
			write := func(second int) {
				busy := min(second, tt.busy)
				for file, us := range map[string]int{"cpu": 1_000_000 + busy*500_000, "io": 1_000_000 + busy*250_000, "memory": 1_000_000} {
					text := fmt.Sprintf("some avg10=0.00 avg60=1.50 avg300=0.00 total=%d\nfull avg10=0.00 avg60=0.00 avg300=0.00 total=0\n", us)
					if err := os.WriteFile(filepath.Join(folder, file), []byte(text), 0o600); err != nil {
						t.Error(err)
					}
				}
			}
			write(0)
			synctest.Test(t, func(t *testing.T) {
				ctx, stop := context.WithCancel(t.Context())
				go func() {
					time.Sleep(500 * time.Millisecond) // between two looks
					for second := 1; ctx.Err() == nil; second++ {
						time.Sleep(time.Second)
						write(second)
					}
				}()
				got, err := settle(ctx, tt.boot, folder)
				stop()
				time.Sleep(2 * time.Second) // until nothing is written any more
				near := func(a, b time.Duration) bool { return (a - b).Abs() <= 1500*time.Millisecond }
				if err != nil || got.Calm != tt.want.Calm || !near(got.For, tt.want.For) || !near(got.Processor, tt.want.Processor) || !near(got.Disk, tt.want.Disk) || got.Memory != tt.want.Memory {
					t.Errorf("%+v, %v\nwant %+v", got, err, tt.want)
				}
			})
		})
	}
	if _, err := settle(t.Context(), false, "/nowhere"); err == nil {
		t.Error("a kernel that does not tell is no error")
	}
}
