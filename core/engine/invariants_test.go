package engine_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"timegate/core/calendar"
	. "timegate/core/engine"
)

// TestInvariants sends random events and checks what must hold whatever
// happens: a run starts once and ends once, a gate that is not to run beside
// itself does not, nothing starts by itself while paused, and no due is
// decided twice.
func TestInvariants(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 1))
		s := newScript(t)
		for i, busy := range []string{"skip", "queue", "replace", "beside"} {
			s.define(busy, fmt.Sprintf("opens = [\"every %dm\", \"at 10:%02d, then every 7m for 1h\", \"boot + 90s, then every 1m for 5m\"]\n[rules]\nbusy = %q\n[limits]\nlongest = \"25m\"\n", 5*(1+r.IntN(4)), i, busy))
		}
		begin := Event{At: s.instant("08:00"), Body: &Begin{Gates: s.pending}}
		check := newInvariants(t)
		now := begin.At
		events := []Event{begin, {At: now, Body: &Booted{}}}
		for _, ev := range events {
			check.take(ev, s.engine.Handle(ev))
		}
		for range 400 {
			ev := check.randomEvent(r, s.engine, &now)
			events = append(events, ev)
			check.take(ev, s.engine.Handle(ev))
			if t.Failed() {
				t.Fatalf("seed %d, event %+v", seed, ev)
			}
		}
		first, second := decide(New(), events), decide(New(), events)
		if first != second {
			t.Fatalf("seed %d: the same events gave different decisions", seed)
		}
	}
}

type invariants struct {
	t     *testing.T
	alive map[int64]string // run -> gate
	dues  map[string]bool
}

func newInvariants(t *testing.T) *invariants {
	return &invariants{t: t, alive: map[int64]string{}, dues: map[string]bool{}}
}

func (c *invariants) randomEvent(r *rand.Rand, e *Engine, now *calendar.Instant) Event {
	if at, ok := e.Wake(); ok && r.IntN(3) > 0 {
		*now = max(*now, at) + calendar.Instant(r.IntN(3)*int(r.Int32N(2000)))
		return Event{At: *now, Body: &Tick{}}
	}
	*now += calendar.Instant(r.IntN(200_000))
	runs := slices.Sorted(maps.Keys(c.alive))
	name := []string{"skip", "queue", "replace", "beside"}[r.IntN(4)]
	switch k := r.IntN(12); {
	case k < 6 && len(runs) > 0:
		return Event{At: *now, Body: &RunEnded{Run: runs[r.IntN(len(runs))], Exit: r.IntN(2)}}
	case k == 6:
		return Event{At: *now, Body: &OpenAsked{Gate: name}}
	case k == 7:
		return Event{At: *now, Body: &StopAsked{Gate: name}}
	case k == 8:
		return Event{At: *now, Body: &PauseAsked{Until: *now + calendar.Instant(r.IntN(2))*600_000}}
	case k == 9:
		return Event{At: *now, Body: &ResumeAsked{}}
	case k == 10:
		return Event{At: *now, Body: &Booted{}}
	}
	return Event{At: *now, Body: &Tick{}}
}

func (c *invariants) take(ev Event, decisions []Decision) {
	for _, d := range decisions {
		key := fmt.Sprintf("%s/%s@%d", d.Gate, d.Opening, d.Due)
		switch {
		case d.Starts():
			if _, twice := c.alive[d.Run]; twice || d.Run == 0 {
				c.t.Errorf("run %d starts twice", d.Run)
			}
			others := 0
			for _, g := range c.alive {
				if g == d.Gate {
					others++
				}
			}
			if others > 0 && d.Gate != "beside" {
				c.t.Errorf("%s starts beside itself", d.Gate)
			}
			c.alive[d.Run] = d.Gate
		case d.Kind == End:
			if _, ok := c.alive[d.Run]; !ok {
				c.t.Errorf("run %d ends that is not alive", d.Run)
			}
			delete(c.alive, d.Run)
			continue
		case d.Kind == StopRun:
			if _, ok := c.alive[d.Run]; !ok {
				c.t.Errorf("run %d is halted that is not alive", d.Run)
			}
			continue
		}
		switch d.Code {
		case CodeAfter, CodeOvertaken, CodeCancelled, CodeCameAgain, CodeWentDown:
			continue // the second word on one due
		}
		if d.Kind == Wait || d.Kind == Retry || d.Try > 0 || d.Opening == "" {
			continue
		}
		if c.dues[key] {
			c.t.Errorf("%s is decided twice: %s", key, d.Code)
		}
		c.dues[key] = true
		if d.Due > ev.At {
			c.t.Errorf("%s is decided before it is due", key)
		}
	}
}

// TestFileSetIsBounded: of what has changed only so many bytes are kept, each path once.
func TestFileSetIsBounded(t *testing.T) {
	long := strings.Repeat("n", 1<<20)
	var paths []string
	for i := range 100 {
		paths = append(paths, fmt.Sprintf("/%02d%s", i, long), "/short")
	}
	set, bytes := NewFileSet(paths), 0
	for _, p := range set.Paths() {
		bytes += len(p)
	}
	if n := len(set.Paths()); n != 64 || bytes > 64<<20 || set.Paths()[1] != "/short" {
		t.Errorf("%d paths of %d bytes are kept", n, bytes)
	}
}
