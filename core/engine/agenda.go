package engine

import (
	"container/heap"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// agenda is a heap of gates by the instant at which they want attention.
type agenda []*gateState

func (a agenda) Len() int { return len(a) }
func (a agenda) Less(i, j int) bool {
	if a[i].wake != a[j].wake {
		return a[i].wake < a[j].wake
	}
	return a[i].name < a[j].name
}
func (a agenda) Swap(i, j int) {
	a[i], a[j] = a[j], a[i]
	a[i].index, a[j].index = i, j
}
func (a *agenda) Push(x any) {
	gs := x.(*gateState)
	gs.index = len(*a)
	*a = append(*a, gs)
}
func (a *agenda) Pop() any {
	old := *a
	gs := old[len(old)-1]
	old[len(old)-1] = nil
	*a = old[:len(old)-1]
	gs.index = -1
	return gs
}

// arm schedules a gate whose state has changed.
func (e *Engine) arm(gs *gateState) {
	e.touch(gs)
	if gs.gate != nil {
		for _, o := range gs.opens {
			if o.Moment == never && o.phrase().Kind == phrase.AfterSuccess {
				e.findMoment(gs, o, e.now) // nothing may be in its way any more
			}
		}
	}
	e.schedule(gs)
}

// schedule puts a gate into the agenda at the next instant that matters to it.
func (e *Engine) schedule(gs *gateState) {
	at := calendar.Instant(never)
	if gs.gate != nil {
		at = e.nextAttention(gs)
	}
	if gs.index >= 0 && gs.wake == at {
		return
	}
	gs.wake = at
	switch {
	case at == never && gs.index >= 0:
		heap.Remove(&e.agenda, gs.index)
	case at == never:
	case gs.index >= 0:
		heap.Fix(&e.agenda, gs.index)
	default:
		heap.Push(&e.agenda, gs)
	}
}

func (e *Engine) nextAttention(gs *gateState) calendar.Instant {
	at := calendar.Instant(never)
	if !e.paused() {
		for _, o := range gs.opens {
			at = min(at, o.Moment, o.Repeat, o.Settles)
		}
		if gs.Retry != nil {
			at = min(at, gs.Retry.At)
		}
		if r := gs.Needing; r != nil {
			if at = min(at, r.At); r.Mends != 0 {
				at = min(at, r.Mends)
			}
		}
	}
	for _, r := range gs.runs {
		at = min(at, r.KillAt, gs.deadline(r))
	}
	return at
}

// deadline is when a run has taken as long as it may.
func (gs *gateState) deadline(r *run) calendar.Instant {
	if gs.gate.Limits.Longest == 0 || r.Stopping != "" || r.Began == 0 {
		return never
	}
	return r.Began.Add(gs.gate.Limits.Longest)
}
