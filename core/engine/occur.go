package engine

import (
	"fmt"

	"timegate/core/phrase"
)

// listening is what an opening listens to: an event and the name that it
// gives, if any.
type listening struct {
	what phrase.What
	name string
}

type listener struct {
	gate    *gateState
	opening *opening
}

// listen finds who listens to what, gates by name.
func (e *Engine) listen() {
	e.listeners = map[listening][]listener{}
	for _, name := range e.names() {
		gs := e.gates[name]
		for _, o := range gs.opens {
			if q := o.Plan.Phrase; q.Kind == phrase.Event {
				l := listening{q.Event.What, q.Event.Name}
				e.listeners[l] = append(e.listeners[l], listener{gs, o})
			}
		}
	}
}

// occur lets an event bring the moments of the openings that wait for it.
func (e *Engine) occur(what phrase.What, name string) {
	if e.listeners == nil {
		e.listen()
	}
	for _, l := range e.listeners[listening{what, name}] {
		o, q := l.opening, l.opening.Plan.Phrase
		switch {
		case !e.on(l.gate.gate, o), !o.Plan.Occurs(e.now):
			continue
		case q.Event.First && o.came != 0 && o.Plan.SamePeriod(o.came, e.now):
			continue
		case q.Limit > 0 && o.count >= q.Limit:
			continue
		}
		at := e.now.Add(q.Delay)
		if !o.Plan.Allows(at) {
			continue
		}
		o.moment, o.came = at, e.now
		o.count++
		if q.Delay > 0 && what != phrase.Boot {
			// So that the next keeper knows of it; a boot it knows by itself.
			e.decide(Decision{Kind: Wait, Gate: l.gate.gate.Name, Opening: o.Name, Due: at, Until: at,
				Reason: fmt.Sprintf("%s after %s", phrase.FormatSpan(q.Delay), q.Event)})
		}
		e.arm(l.gate)
	}
}
