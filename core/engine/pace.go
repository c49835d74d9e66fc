package engine

import (
	"fmt"
	"slices"
	"time"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// Pace says how many programs start at once when the machine has booted or
// somebody logs on, so that it stays usable.
type Pace struct {
	AtOnce  int           `json:"at_once"` // so many, then there is Room; 0 for no limit
	Room    time.Duration `json:"room"`
	Calm    int           `json:"calm"`    // and the pressure must be below this percentage; 0 for any
	Longest time.Duration `json:"longest"` // but no start is held back for longer
}

// held is a start of a boot or logon whose turn has not come.
type held struct {
	gate  *gateState
	req   request
	since calendar.Instant
}

// paced reports whether an event is one at which many programs start.
func paced(what phrase.What) bool { return what == phrase.Boot || what == phrase.Logon }

// turn starts a program, if its turn has come.
func (e *Engine) turn(gs *gateState, req request) {
	if req.cause == nil || !paced(req.cause.Event) || req.kind == Repeat || e.pace.AtOnce == 0 {
		e.place(gs, req)
		return
	}
	if len(e.held) == 0 && e.mayStart(e.now) {
		e.began(e.now)
		e.place(gs, req)
		return
	}
	e.held = append(e.held, held{gs, req, e.now})
	e.wait(gs, req, ForPace, e.now.Add(e.pace.Longest), "pace", e.holdReason())
}

func (e *Engine) holdReason() string {
	if e.pace.Calm > 0 && e.facts.Pressure >= e.pace.Calm {
		return fmt.Sprintf("the machine is busy (work waits %d%% of the time)", e.facts.Pressure)
	}
	return fmt.Sprintf("%d programs start at once, and its turn comes after them", e.pace.AtOnce)
}

// mayStart reports whether one more program may start that was asked for at
// an instant.
func (e *Engine) mayStart(since calendar.Instant) bool {
	switch {
	case e.pace.AtOnce == 0:
		return true
	case e.now >= since.Add(e.pace.Longest) && e.now > since:
		return true
	case e.batch > 0 && e.batch < e.pace.AtOnce && e.now < e.batchAt.Add(e.pace.Room):
		return true
	case e.batch > 0 && e.now < e.batchAt.Add(e.pace.Room):
		return false
	}
	return e.pace.Calm == 0 || e.facts.Pressure < e.pace.Calm
}

// began counts a start.
func (e *Engine) began(at calendar.Instant) {
	if e.batch == 0 || at >= e.batchAt.Add(e.pace.Room) {
		e.batch, e.batchAt = 0, at
	}
	e.batch++
}

// release starts what was held back and may start now.
func (e *Engine) release() {
	for len(e.held) > 0 && !e.paused && e.mayStart(e.held[0].since) {
		h := e.held[0]
		e.held = e.held[1:]
		e.began(e.now)
		if h.gate.gone {
			continue
		}
		h.req.reason += fmt.Sprintf("; held back %s with others", spanText(e.now.Sub(h.since)))
		e.place(h.gate, h.req)
		e.arm(h.gate)
	}
}

// releaseAt is when a start that is held back may come at the latest, or for
// want of room. Calm comes with new facts.
func (e *Engine) releaseAt() calendar.Instant {
	if len(e.held) == 0 || e.paused {
		return never
	}
	at := e.held[0].since.Add(e.pace.Longest)
	if room := e.batchAt.Add(e.pace.Room); e.batch > 0 && room > e.now {
		at = min(at, room)
	}
	return max(at, e.now)
}

// drop gives up the starts of a gate that were held back.
func (e *Engine) drop(gs *gateState, why string) {
	e.held = slices.DeleteFunc(e.held, func(h held) bool {
		if h.gate == gs {
			e.skip(gs, h.req, "", why)
		}
		return h.gate == gs
	})
}

// Held returns how many starts wait for their turn. While there are some, the
// engine wants to be told of the pressure.
func (e *Engine) Held() int { return len(e.held) }
