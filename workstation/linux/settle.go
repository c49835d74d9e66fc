//go:build linux

package linux

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"timegate/workstation"
)

// When a machine is calm: for calmFor together, some work had to wait for less than
// calmShare of the time. It is looked at so often, and so long at most.
const (
	calmFor    = 5 * time.Second
	calmShare  = 0.1
	calmLook   = time.Second
	calmLonger = 5 * time.Minute
)

// Settle waits until the machine is calm. What work had to wait is counted from boot
// where that is what it settles after, else from now. It is an error where the kernel
// does not tell (Pressure Stall Information; Documentation/accounting/psi.rst).
func Settle(ctx context.Context, boot bool) (workstation.Strain, error) {
	return settle(ctx, boot, "/proc/pressure")
}

// stalled is for how long some work has waited since boot.
type stalled struct{ processor, memory, disk time.Duration }

func readStalled(folder string) (s stalled, err error) {
	for _, one := range []struct {
		file string
		to   *time.Duration
	}{{"cpu", &s.processor}, {"memory", &s.memory}, {"io", &s.disk}} {
		data, err := os.ReadFile(filepath.Join(folder, one.file))
		if err != nil {
			return s, err
		}
		var a, b, c float64
		var total int64 // microseconds
		if _, err := fmt.Sscanf(string(data), "some avg10=%g avg60=%g avg300=%g total=%d", &a, &b, &c, &total); err != nil {
			return s, fmt.Errorf("%s: %w", one.file, err)
		}
		*one.to = time.Duration(total) * time.Microsecond
	}
	return s, nil
}

// since returns what has come on top of an earlier reading.
func (s stalled) since(o stalled) stalled {
	return stalled{s.processor - o.processor, s.memory - o.memory, s.disk - o.disk}
}

func settle(ctx context.Context, boot bool, folder string) (workstation.Strain, error) {
	began := time.Now()
	first, err := readStalled(folder)
	if err != nil {
		return workstation.Strain{}, err
	}
	if boot {
		first = stalled{}
	}
	type look struct {
		at time.Time
		stalled
	}
	window := []look{{began, first}}
	if window[0].stalled, err = readStalled(folder); err != nil {
		return workstation.Strain{}, err
	}
	ticker := time.NewTicker(calmLook)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return workstation.Strain{}, ctx.Err()
		case <-ticker.C:
		}
		s, err := readStalled(folder)
		if err != nil {
			return workstation.Strain{}, err
		}
		now := time.Now()
		window = append(window, look{now, s})
		for len(window) > 1 && now.Sub(window[1].at) >= calmFor {
			window = window[1:]
		}
		oldest := window[0]
		span := now.Sub(oldest.at)
		waited := s.since(oldest.stalled)
		calm := span >= calmFor && float64(max(waited.processor, waited.memory, waited.disk)) < calmShare*float64(span)
		if !calm && now.Sub(began) < calmLonger {
			continue
		}
		at := now
		if calm {
			at, s = oldest.at, oldest.stalled // it has been so since then
		}
		all := s.since(first)
		return workstation.Strain{Calm: calm, For: at.Sub(began), Processor: all.processor, Disk: all.disk, Memory: all.memory}, nil
	}
}
