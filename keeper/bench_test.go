package keeper

import (
	"context"
	"os"
	"slices"
	"testing"
	"time"

	"timegate/core/gate"
	"timegate/workstation"
	"timegate/workstation/linux"
)

// BenchmarkLateness measures how long after its due a program runs: the time
// from the due until its exec has succeeded, journal included, beside the
// lateness of a bare timer.
func BenchmarkLateness(b *testing.B) {
	const every = 50 * time.Millisecond
	floor := make([]time.Duration, 0, b.N)
	h := HomeAt(b.TempDir(), gate.User)
	if err := h.Prepare(); err != nil {
		b.Fatal(err)
	}
	m, err := linux.New()
	if err != nil {
		b.Fatal(err)
	}
	defer m.Close()
	t := &timed{Machine: m, late: make(chan time.Duration, 64)}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	k := New(Options{Home: h, Workstation: t})
	text := "run = [\"/bin/true\"]\nopens = [\"every 50ms from 00:00 to 23:59\"]\n[rules]\nbusy = \"beside\"\n"
	if err := os.WriteFile(h.GateFile("glue-warm"), []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- k.Run(ctx) }()
	var kept []time.Duration
	for range b.N {
		kept = append(kept, <-t.late)
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
	report("start", kept)
}

// timed notes how long after a due a program has been started.
type timed struct {
	*linux.Machine
	late chan time.Duration
}

func (t *timed) Start(o workstation.Order) (workstation.Process, error) {
	p, err := t.Machine.Start(o)
	now := time.Now()
	t.late <- now.Sub(now.Truncate(50 * time.Millisecond)) // dues are multiples of it
	return p, err
}
