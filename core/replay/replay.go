// Package replay plays events through the engine once more: recorded ones, as
// they were or through other gates.
package replay

import (
	"fmt"

	"timegate/core/engine"
	"timegate/core/gate"
)

// Open returns the gate that a definition stands for, read in an environment.
type Open func(def engine.Definition, env engine.Environment) (*gate.Gate, error)

// Take is handed each event with what was decided about it.
type Take func(ev engine.Event, decisions []engine.Decision)

// Play hands events to an engine with a state, and what it decides to take.
// With the state before the events, and the gates as they were, the decisions
// are those that were recorded, byte for byte. A state of version 0 is that of
// an engine which has not begun.
func Play(state engine.State, events []engine.Event, open Open, take Take) (*engine.Engine, error) {
	p := player{open: open, env: state.Machine.Environment, engine: engine.New(), known: map[string]*gate.Gate{}}
	if state.Version != 0 {
		var defs []engine.Definition
		for name, g := range state.Gates {
			defs = append(defs, engine.Definition{Name: name, Version: g.Version, Days: g.Days})
		}
		defs, err := p.openAll(defs)
		if err != nil {
			return nil, err
		}
		if p.engine, err = engine.Restore(state, defs); err != nil {
			return nil, err
		}
	}
	for _, ev := range events {
		ev, err := p.complete(ev)
		if err != nil {
			return nil, err
		}
		take(ev, p.engine.Handle(ev))
	}
	return p.engine, nil
}

type player struct {
	open   Open
	env    engine.Environment
	engine *engine.Engine
	known  map[string]*gate.Gate // by name, versions and zone
}

// complete gives an event the gates that it brings, of which only the versions
// are recorded. The event itself is not changed.
func (p *player) complete(ev engine.Event) (engine.Event, error) {
	var err error
	switch b := ev.Body.(type) {
	case *engine.Begin:
		c := *b
		p.env = c.Environment
		if c.Gates, err = p.openAll(b.Gates); err == nil {
			c.Gone, err = p.openAll(b.Gone)
		}
		ev.Body = &c
	case *engine.GatesChanged:
		c := *b
		if c.Zone != "" {
			p.env.Zone = c.Zone
		}
		c.Set, err = p.openAll(b.Set)
		ev.Body = &c
	}
	return ev, err
}

func (p *player) openAll(defs []engine.Definition) ([]engine.Definition, error) {
	out := make([]engine.Definition, len(defs))
	for i, d := range defs {
		out[i] = d
		if d.Gate != nil {
			continue
		}
		key := fmt.Sprint(d.Name, d.Version, d.Days, p.env)
		if p.known[key] == nil {
			g, err := p.open(d, p.env)
			if err != nil {
				return nil, fmt.Errorf("gate %s: %w", d.Name, err)
			}
			p.known[key] = g
		}
		out[i].Gate = p.known[key]
	}
	return out, nil
}
