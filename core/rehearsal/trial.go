package rehearsal

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// Block is an opening that never starts its program, because another rule of its gate
// stands in its way whenever it comes.
type Block struct {
	Opening  *gate.Opening
	Decision engine.Decision // what is decided instead
	Patience bool            // it would start, if it waited for its needs
}

// Blocks finds the openings of a gate that never start its program. Each is let come on a
// machine where all else is as the gate needs it, as far as it can be then: somebody who
// has just logged off is not there.
func Blocks(def engine.Definition, env engine.Environment) []Block {
	const patience = time.Hour
	var out []Block
	for i := range def.Gate.Opens {
		o := &def.Gate.Opens[i]
		if !def.Gate.Active(o, env.Host) {
			continue
		}
		d := tryOpening(def, *o, env)
		if d == nil {
			continue
		}
		patient := *def.Gate
		patient.Needs.Wait = patience
		with := def
		with.Gate = &patient
		out = append(out, Block{o, *d, def.Gate.Needs.Wait == 0 && tryOpening(with, *o, env) == nil})
	}
	return out
}

// tryOpening lets an opening come, and returns what is decided where that is not a start;
// nil also where that is not known.
func tryOpening(def engine.Definition, o gate.Opening, env engine.Environment) *engine.Decision {
	const start, step = calendar.Instant(1_800_000_000_000), calendar.Instant(60_000)
	g := *def.Gate
	spec, happens := o.Plan.Phrase.Event, o.Plan.Phrase.Kind == phrase.Event
	if !happens || !changesFacts(spec.Kind) {
		const name = "trial" // any moment will do, and this one comes when it is asked for
		q, err := phrase.Parse("signal " + name)
		if err != nil {
			return nil
		}
		if o.Plan, err = q.Compile(phrase.Env{Zone: o.Plan.Zone}); err != nil {
			return nil
		}
		spec = phrase.EventSpec{Kind: phrase.Signal, Name: name}
	}
	g.Opens, g.Was = []gate.Opening{o}, nil
	def.Gate = &g
	best := bestFacts(&g, env.Account, start)
	then := best.Clone()
	who := cmp.Or(o.Plan.Account, spec.Account, env.Account, "somebody")
	occur(&then, &spec, who, env, start)

	e := engine.New()
	var decisions []engine.Decision
	at := start
	handle := func(b engine.Body) {
		decisions = e.Append(decisions, engine.Event{At: at, Body: b})
		at += step
	}
	handle(&engine.Begin{Environment: env, BootID: "1", Facts: best.Clone()})
	handle(&engine.GatesChanged{Set: []engine.Definition{def}})
	decisions = nil
	switch spec.Kind {
	case phrase.Boot:
		handle(&engine.Booted{BootID: "2", Facts: then.Clone()})
	case phrase.Signal:
		handle(&engine.SignalSent{Name: spec.Name})
	case phrase.Idle, phrase.Active:
		handle(&engine.FactsChanged{Facts: then.Clone()})
	default:
		handle(&engine.Occurred{Event: spec.Kind, Name: cmp.Or((engine.WantedEvent{Account: g.Account(), Event: spec}).Key(), who), Facts: &then})
	}
	if len(decisions) == 0 || decisions[len(decisions)-1].Kind == engine.Wait { // then all may be well by now
		handle(&engine.FactsChanged{Facts: best.Clone()})
	}
	for range 3 {
		due, ok := e.Wake()
		if !ok || slices.ContainsFunc(decisions, func(d engine.Decision) bool { return d.Starts() || d.Kind == engine.Skip }) {
			break
		}
		at = max(at, due)
		handle(&engine.Tick{})
	}
	for i := range decisions {
		if d := &decisions[i]; d.Starts() || d.Kind == engine.Skip && d.Result == engine.ResultMissed {
			return nil
		}
	}
	i := slices.IndexFunc(decisions, func(d engine.Decision) bool { return d.Kind == engine.Skip })
	if i < 0 {
		return nil
	}
	return &decisions[i]
}

// changesFacts reports whether an event changes what a gate may need.
func changesFacts(kind phrase.EventKind) bool {
	switch kind {
	case phrase.Boot, phrase.Logon, phrase.Logoff, phrase.Lock, phrase.Unlock, phrase.Mains, phrase.Battery, phrase.Online, phrase.Offline, phrase.Idle, phrase.Active, phrase.Mount, phrase.Unmount:
		return true
	}
	return false
}

// bestFacts is a machine on which a gate's needs hold, as far as they can hold together.
func bestFacts(g *gate.Gate, account string, now calendar.Instant) engine.Facts {
	const long = 30 * 24 * time.Hour
	f := engine.Facts{Charge: 100, Online: true, IdleSince: now.Add(-max(g.Needs.Idle, long))}
	for _, p := range g.Needs.Paths {
		f.Paths = append(f.Paths, engine.WantedPath{Account: g.Account(), Path: p}.Key())
	}
	if g.Needs.People == "nobody" {
		return f
	}
	var names []string
	switch g.Needs.People {
	case "any":
	case "someone":
		names = append(names, cmp.Or(account, "somebody"))
	default:
		names = append(names, g.Needs.People)
	}
	if g.As.Desktop {
		names = append(names, cmp.Or(g.As.User, account, "somebody"))
		f.Desktops = []string{g.As.User}
	}
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		f.People = append(f.People, engine.Person{Account: name, Since: now})
	}
	return f
}

// occur changes facts as an event does that happens to somebody.
func occur(f *engine.Facts, e *phrase.EventSpec, who string, env engine.Environment, now calendar.Instant) {
	switch e.Kind {
	case phrase.Boot:
		f.People, f.Desktops = nil, nil
	case phrase.Logon, phrase.Lock, phrase.Unlock:
		logsOn(f, who, env, now+1)
	case phrase.Logoff:
		logsOff(f, who, env)
	case phrase.Mains, phrase.Battery:
		f.OnBattery = e.Kind == phrase.Battery
	case phrase.Online, phrase.Offline:
		f.Online = e.Kind == phrase.Online
	case phrase.Idle:
		f.IdleSince = now.Add(-e.Idle)
	case phrase.Active:
		f.IdleSince = 0
	case phrase.Unmount:
		f.Paths = slices.DeleteFunc(f.Paths, func(key string) bool {
			return slices.ContainsFunc(e.Paths, func(folder string) bool { return phrase.Within(key[strings.LastIndex(key, ": ")+1:], folder) })
		})
	}
}
