package gate

import "timegate/core/phrase"

// unwise tells of what is right and will hardly do what is meant.
func (r *reader) unwise(g *Gate, doc *document) {
	at := func(s Severity, name, code, message, remedy string) {
		for _, f := range doc.fields {
			if f.key() == name {
				r.add(s, f.start, f.end, code, message, remedy)
				return
			}
		}
		r.add(s, 0, 0, code, message, remedy)
	}
	n := &g.Needs
	needs := n.Power != "any" || n.People != "any" || len(n.Paths) > 0 || n.Online || n.Idle > 0 || g.As.Desktop
	if n.Wait > 0 && !needs {
		at(Warning, "needs.wait", "no-effect", "there is nothing to wait for: the gate needs nothing", `say what it needs, as in power = "mains"`)
	}
	if n.IfLost != LostCarryOn && !needs {
		at(Warning, "needs.if_lost", "no-effect", "nothing can be lost: the gate needs nothing", `say what it needs, as in power = "mains"`)
	}
	if g.As.Window == WindowMinimised && !g.As.Desktop {
		at(Warning, "as.window", "no-effect", "the program has no desktop, so that no window of it appears", `add desktop = true to [as], or take it out`)
	}
	timed, changes := false, false
	for _, o := range g.Opens {
		timed = timed || o.Plan.Rule != nil
		changes = changes || o.Plan.Phrase.Kind == phrase.Event && o.Plan.Phrase.Event.Kind == phrase.Change
	}
	if g.Rules.Wake > 0 && !timed {
		at(Warning, "rules.wake", "no-effect", "the machine is never woken: no opening of the gate is due at a time", "take it out, or add an opening with a time")
	}
	if changes && g.Rules.Busy == BusySkip {
		at(Note, "opens", "changes-while-busy", "files that change while the program runs are passed on with the next change only",
			`set busy = "queue" in [rules], and it starts again for them`)
	}
}
