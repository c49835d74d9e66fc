package rehearsal

import (
	"cmp"
	"path"
	"slices"
	"strconv"
	"strings"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// happen lets something happen. What cannot, such as a sleep of a machine that is off,
// changes nothing.
func (w *world) happen(e *Event) {
	defer func() { w.mark(w.now) }()
	switch {
	case w.off && e.Verb != "boot":
		w.void("the machine is off")
		return
	case w.sleep != 0 && e.Verb != "resume" && e.Verb != "boot":
		w.void("the machine is asleep")
		return
	case w.sleep == 0 && e.Verb == "resume":
		w.void("the machine is awake")
		return
	}
	arg := ""
	if len(e.Args) > 0 {
		arg = e.Args[0]
	}
	switch e.Verb {
	case "boot":
		w.boot()
	case "shutdown", "sleep":
		w.down = e.Verb
		w.handle(&engine.Occurred{Event: phrase.EventKind(e.Verb), Holds: true})
	case "resume":
		w.awake()
	case "logon", "logoff", "lock", "unlock":
		w.session(e, arg)
	case "mains", "battery":
		w.power(e, arg)
	case "online", "offline":
		if w.unchanged(e, "") {
			return
		}
		w.tell(phrase.EventKind(e.Verb), "", "", func(f *engine.Facts) { f.Online = e.Verb == "online" })
	case "idle":
		d, _ := phrase.ParseSpan(cmp.Or(arg, "1m"))
		w.learn(func(f *engine.Facts) { f.IdleSince = w.now.Add(-d) })
	case "active":
		w.learn(func(f *engine.Facts) { f.IdleSince = 0 })
	case "signal":
		w.handle(&engine.SignalSent{Name: arg})
	case "open":
		w.handle(&engine.OpenAsked{Gate: arg})
	case "stop":
		w.handle(&engine.StopAsked{Gate: arg})
	case "pause":
		w.handle(&engine.PauseAsked{})
	case "continue":
		w.handle(&engine.ResumeAsked{})
	default:
		w.watched(e)
	}
}

// learn changes what holds.
func (w *world) learn(change func(*engine.Facts)) {
	change(&w.facts)
	w.handle(&engine.FactsChanged{Facts: w.facts.Clone()})
}

// tell tells of an event, and what holds from then on.
func (w *world) tell(what phrase.EventKind, name, subject string, change func(*engine.Facts)) {
	if change != nil {
		change(&w.facts)
	}
	f := w.facts.Clone()
	w.handle(&engine.Occurred{Event: what, Name: name, Subject: subject, Count: 1, Facts: &f})
}

// boot boots the machine. A keeper begins with it.
func (w *world) boot() {
	var lost []int64
	for _, r := range w.engine.AliveRuns() {
		lost = append(lost, r.ID)
	}
	if !w.off { // without a word: it was reset
		w.handle(&engine.Ended{})
	}
	w.ends, w.off, w.sleep = nil, false, 0
	w.boots++
	w.facts.People, w.facts.Desktops, w.facts.IdleSince = nil, nil, 0
	w.handle(&engine.Begin{Environment: w.environment(), BootID: w.bootID(), Uptime: 1, Pace: w.setup.Pace, Gates: w.setup.Gates, Facts: w.facts.Clone(), Lost: lost})
}

// released lets the machine do what it has waited for.
func (w *world) released() {
	switch w.down {
	case "sleep":
		w.sleep = w.now
	case "shutdown":
		w.off = true
		w.facts.People, w.facts.Desktops = nil, nil
		w.engine.Handle(engine.Event{At: w.now, Body: &engine.Ended{}})
		w.book.cut(w.now)
		w.ends = nil
	}
	w.down = ""
	w.mark(w.now)
}

// awake lets the machine return from its sleep, in which programs stood still.
func (w *world) awake() {
	slept := w.now - w.sleep
	w.sleep = 0
	for i := range w.ends {
		w.ends[i].at += slept
	}
	w.mark(w.now)
	w.tell(phrase.Resume, "", "", nil)
	w.handle(&engine.Slept{For: slept})
	w.handle(&engine.Tick{})
}

// session lets somebody log on or off, lock or unlock: by default the first who is logged
// on.
func (w *world) session(e *Event, name string) {
	verb := e.Verb
	if name == "" && len(w.facts.People) > 0 {
		name = w.facts.People[0].Account
	}
	if name == "" {
		name = w.setup.Environment.Account
	}
	if w.unchanged(e, name) {
		return
	}
	w.tell(phrase.EventKind(verb), name, "", func(f *engine.Facts) {
		switch verb {
		case "logon":
			logsOn(f, name, w.setup.Environment, w.now)
		case "logoff":
			logsOff(f, name, w.setup.Environment)
		}
	})
}

// void notes that what happens now changes nothing.
func (w *world) void(why string) {
	if w.book.out.Void == nil {
		w.book.out.Void = map[int]string{}
	}
	w.book.out.Void[w.index] = why
}

// unchanged reports whether an event changes nothing, which is then noted.
func (w *world) unchanged(e *Event, account string) bool {
	why := w.facts.Unchanged(phrase.EventKind(e.Verb), account)
	if why != "" {
		w.void(why)
	}
	return why != ""
}

// logsOn changes facts as the logon of an account to a desktop does.
func logsOn(f *engine.Facts, account string, env engine.Environment, now calendar.Instant) {
	logsOff(f, account, env)
	f.People = append(f.People, engine.Person{Account: account, Since: now})
	slices.SortFunc(f.People, func(a, b engine.Person) int { return strings.Compare(a.Account, b.Account) })
	f.Desktops, f.IdleSince = append(f.Desktops, desktopOf(account, env)), 0
}

// logsOff changes facts as the logoff of an account does.
func logsOff(f *engine.Facts, account string, env engine.Environment) {
	f.People = slices.DeleteFunc(f.People, func(p engine.Person) bool { return p.Account == account })
	f.Desktops = slices.DeleteFunc(f.Desktops, func(d string) bool { return d == desktopOf(account, env) })
}

// desktopOf is how the facts name an account's desktop: "" is the keeper's own.
func desktopOf(account string, env engine.Environment) string {
	if env.Scope == gate.User && account == env.Account {
		return ""
	}
	return account
}

// power plugs the machine in or out, or lets its battery have another charge.
func (w *world) power(e *Event, arg string) {
	if e.Verb == "mains" {
		if w.unchanged(e, "") {
			return
		}
		w.tell(phrase.Mains, "", "", func(f *engine.Facts) { f.OnBattery = false })
		return
	}
	charge := cmp.Or(w.facts.Charge, 100)
	if arg != "" {
		charge, _ = strconv.Atoi(strings.TrimSuffix(arg, "%"))
	}
	set := func(f *engine.Facts) { f.OnBattery, f.Charge = true, charge }
	if w.facts.OnBattery {
		w.learn(set)
		return
	}
	w.tell(phrase.Battery, "", "", set)
}

// watched tells of what gates watch for: mounts, devices, files, and what runs low.
func (w *world) watched(e *Event) {
	arg := path.Clean(e.Args[0])
	if e.Verb == "mount" || e.Verb == "unmount" {
		w.learn(func(f *engine.Facts) {
			for _, p := range w.wants.Paths {
				within := phrase.Within(p.Path, arg)
				f.Paths = slices.DeleteFunc(f.Paths, func(k string) bool { return within && k == p.Key() })
				if within && e.Verb == "mount" {
					f.Paths = append(f.Paths, p.Key())
				}
			}
		})
	}
	for _, want := range w.wants.Watch {
		o := want.Event
		hit := false
		switch e.Verb {
		case "mount", "unmount":
			hit = string(o.Kind) == e.Verb && o.MountedAt(arg)
		case "device":
			hit = o.Kind == phrase.Device && o.Attaches(e.Args[0])
		case "change":
			hit = o.Kind == phrase.Change && o.ChangedBelow(arg, o.Paths...)
		case "memory":
			hit = o.Kind == phrase.LowMemory && w.fell(want.Key(), o.Amount, e.Args[0])
		case "disk":
			hit = o.Kind == phrase.LowDisk && o.MountedAt(arg) && w.fell(want.Key(), o.Amount, e.Args[1])
		}
		if hit {
			f := w.facts.Clone()
			w.handle(&engine.Occurred{Event: o.Kind, Name: want.Key(), Subject: arg, Count: 1, Files: []string{arg}, Facts: &f})
		}
	}
}

// total is how much memory and disk the machine has: percentages are of it.
const total = 100 << 30

// fell reports whether what is free has just fallen below a limit.
func (w *world) fell(key string, limit phrase.Amount, free string) bool {
	now, ok := phrase.ParseAmount(free)
	if w.levels[key] == nil {
		w.levels[key] = &phrase.Level{}
	}
	return ok && w.levels[key].Fell(limit, now.Of(total), total)
}
