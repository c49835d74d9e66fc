//go:build linux

package keeper

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"testing"
	"time"

	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/home"
	"timegate/workstation/linux"
)

// BenchmarkLateness measures how long after its due a program runs, beside the
// lateness of a bare timer: the time from the due until its exec has succeeded,
// journal included, to the millisecond; and until the keeper has heard of it from
// the agent, and has recorded it.
func BenchmarkLateness(b *testing.B) {
	const every = 50 * time.Millisecond
	floor := make([]time.Duration, 0, b.N)
	h := home.At(b.TempDir(), gate.User)
	if err := h.Prepare(); err != nil {
		b.Fatal(err)
	}
	m, err := linux.New()
	if err != nil {
		b.Fatal(err)
	}
	defer m.Close()
	late, started := make(chan time.Duration, 64), []time.Duration{}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	k := New(Options{Home: h, Workstation: m, Observe: func(ev engine.Event, _ []engine.Decision) {
		if ev.Kind() == engine.KindRunStarted {
			now, at := time.Now(), ev.Body.(*engine.RunStarted).StartedAt.Time()
			started = append(started, at.Sub(at.Truncate(every))) // dues are multiples of it
			late <- now.Sub(now.Truncate(every))
		}
	}})
	text := "run = [\"/bin/true\"]\nopens = [\"every 50ms from 00:00 to 23:59\"]\n[rules]\nbusy = \"beside\"\n"
	if err := os.WriteFile(h.GateFile("glue-warm"), []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- k.Run(ctx) }()
	var kept []time.Duration
	for range b.N {
		kept = append(kept, <-late)
		at := time.Now().Truncate(every).Add(every + every/2) // between two dues
		<-time.After(time.Until(at))
		floor = append(floor, time.Since(at))
	}
	cancel()
	if err := <-done; err != nil {
		b.Fatal(err)
	}
	report := func(name string, list []time.Duration) {
		slices.Sort(list)
		b.ReportMetric(float64(list[len(list)/2].Microseconds()), name+"-p50-µs")
		b.ReportMetric(float64(list[len(list)*99/100].Microseconds()), name+"-p99-µs")
	}
	report("timer", floor)
	report("start", started)
	report("heard", kept)
}

// BenchmarkManyStarts lets a thousand gates be due at one instant and reports
// the rate at which they start, journal included, as a share of the rate of a
// loop that forks and execs the same program.
func BenchmarkManyStarts(b *testing.B) {
	const gates = 1000
	var share []float64
	for range b.N {
		floor := perSecond(gates, func() {
			var children []*exec.Cmd
			for range gates {
				cmd := exec.Command("/bin/true")
				if err := cmd.Start(); err != nil {
					b.Fatal(err)
				}
				children = append(children, cmd)
			}
			b.StopTimer()
			for _, c := range children {
				c.Wait()
			}
			b.StartTimer()
		})
		share = append(share, startMany(b, gates)/floor)
	}
	slices.Sort(share)
	b.ReportMetric(share[len(share)/2], "of-bare-rate")
}

// perSecond returns how many of n things a function does in a second.
func perSecond(n int, do func()) float64 {
	began := time.Now()
	do()
	return float64(n) / time.Since(began).Seconds()
}

// startMany returns the rate at which a keeper starts so many gates that are
// due at once.
func startMany(b *testing.B, gates int) float64 {
	h := home.At(b.TempDir(), gate.User)
	if err := h.Prepare(); err != nil {
		b.Fatal(err)
	}
	due := time.Now().Add(3 * time.Second).Truncate(time.Second)
	for i := range gates {
		text := fmt.Sprintf("run = [\"/bin/true\"]\nopens = [\"at %s\"]\n", due.Format(time.TimeOnly))
		if err := os.WriteFile(h.GateFile(fmt.Sprintf("glue-warm-%d", i)), []byte(text), 0o600); err != nil {
			b.Fatal(err)
		}
	}
	m, err := linux.New()
	if err != nil {
		b.Fatal(err)
	}
	defer m.Close()
	all, left, last := make(chan time.Time, 1), gates, time.Time{}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	observe := func(ev engine.Event, _ []engine.Decision) {
		if ev.Kind() == engine.KindRunStarted {
			if at := ev.Body.(*engine.RunStarted).StartedAt.Time(); at.After(last) {
				last = at // as its agent saw it
			}
			if left--; left == 0 {
				all <- last
			}
		}
	}
	go func() { done <- New(Options{Home: h, Workstation: m, Observe: observe}).Run(ctx) }()
	took := (<-all).Sub(due)
	cancel()
	if err := <-done; err != nil {
		b.Fatal(err)
	}
	return float64(gates) / took.Seconds()
}
