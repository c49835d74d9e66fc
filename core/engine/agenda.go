package engine

import (
	"container/heap"

	"timegate/core/calendar"
)

// agenda is a heap of gates by the instant at which they want attention.
type agenda []*gateState

func (a agenda) Len() int { return len(a) }
func (a agenda) Less(i, j int) bool {
	if a[i].wake != a[j].wake {
		return a[i].wake < a[j].wake
	}
	return a[i].gate.Name < a[j].gate.Name
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

// arm puts a gate into the agenda at the next instant that matters to it.
func (e *Engine) arm(gs *gateState) {
	at := calendar.Instant(never)
	if !e.paused {
		for _, o := range gs.opens {
			at = min(at, o.moment, o.repeat, o.ripe)
		}
		if gs.retry != nil {
			at = min(at, gs.retryAt)
		}
		if gs.waiting != nil {
			at = min(at, gs.waitUntil, gs.waitMends)
		}
	}
	for _, r := range gs.runs {
		at = min(at, r.killAt, gs.deadline(r))
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

// deadline is when a run has taken as long as it may.
func (gs *gateState) deadline(r *run) calendar.Instant {
	if gs.gate.Limits.Longest == 0 || r.stopping != "" || r.began == 0 {
		return never
	}
	return r.began.Add(gs.gate.Limits.Longest)
}
