package engine_test

import (
	"fmt"
	"testing"
	"time"

	"timegate/core/calendar"
	. "timegate/core/engine"
)

// TestClockSets sets the clock forward and back again, or back and forward
// again, by a second up to a year, in the middle of a morning: no due is
// started twice, and every due that the clock came to, or was set past, was
// started or is recorded as missed.
func TestClockSets(t *testing.T) {
	const every = 10 * time.Minute
	for _, by := range []time.Duration{time.Second, 45 * time.Second, time.Hour, 24 * time.Hour, 366 * 24 * time.Hour} {
		for _, sign := range []time.Duration{1, -1} {
			t.Run(fmt.Sprint(sign*by), func(t *testing.T) {
				s := newScript(t)
				s.define("humidity-log", "opens = [\"every 10m\"]\n[rules]\nbusy = \"beside\"")
				c := &clockRun{t: t, engine: s.engine, now: s.instant("08:55"), started: map[calendar.Instant]int{}}
				c.send(&Begin{Gates: s.pending})
				first := c.now
				c.run(34*time.Minute + 50*time.Second) // to 09:29:50
				c.set(sign * by)
				c.run(30 * time.Minute)
				c.set(-sign * by)
				c.run(time.Hour)
				for due, n := range c.started {
					if n > 1 && by <= 25*time.Hour {
						t.Errorf("%v was started %d times", due.Time(), n)
					}
				}
				// From the beginning to the end, as the clock now shows them.
				for due := first.Add(5 * time.Minute); due <= c.now; due = due.Add(every) {
					if c.started[due] == 0 && !c.covered(due) {
						t.Errorf("%v was neither started nor missed", due.Time())
					}
				}
			})
		}
	}
}

// clockRun plays an engine against a clock that is set.
type clockRun struct {
	t       *testing.T
	engine  *Engine
	now     calendar.Instant
	started map[calendar.Instant]int
	spans   [][2]calendar.Instant // of dues that were missed together
}

func (c *clockRun) send(body Body) {
	for _, d := range c.engine.Handle(Event{At: c.now, Body: body}) {
		switch {
		case d.Starts():
			c.started[d.Due]++
			if late := c.now.Sub(d.Due); late > Tolerance || late < 0 {
				c.t.Errorf("%v was started at %v", d.Due.Time(), c.now.Time())
			}
			c.engine.Handle(Event{At: c.now, Body: &RunEnded{Run: d.Run}})
		case d.Kind == Skip:
			c.spans = append(c.spans, [2]calendar.Instant{d.First(), d.Due})
		}
	}
}

func (c *clockRun) covered(due calendar.Instant) bool {
	for _, s := range c.spans {
		if due >= s[0] && due <= s[1] {
			return true
		}
	}
	return false
}

// run lets time pass.
func (c *clockRun) run(d time.Duration) {
	end := c.now.Add(d)
	for {
		at, ok := c.engine.Wake()
		if !ok || at > end {
			break
		}
		c.now = max(c.now, at)
		c.send(&Tick{})
	}
	c.now = end
}

func (c *clockRun) set(by time.Duration) {
	c.now = c.now.Add(by)
	c.send(&ClockSet{By: calendar.Instant(by.Milliseconds())})
}
