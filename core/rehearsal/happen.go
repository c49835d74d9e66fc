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
	if w.off && e.Verb != "boot" || w.sleep != 0 && e.Verb != "resume" && e.Verb != "boot" {
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
		if w.sleep != 0 {
			w.awake()
		}
	case "logon", "logoff", "lock", "unlock":
		w.session(e.Verb, arg)
	case "mains", "battery":
		w.power(e.Verb, arg)
	case "online", "offline":
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
func (w *world) session(verb, name string) {
	if name == "" && len(w.facts.People) > 0 {
		name = w.facts.People[0].Account
	}
	if name == "" {
		name = w.setup.Environment.Account
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
func (w *world) power(verb, arg string) {
	if verb == "mains" {
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
				within := under(p.Path, arg)
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
			hit = string(o.Kind) == e.Verb && slices.Contains(o.Paths, arg)
		case "device":
			ok, err := path.Match(o.Glob, e.Args[0])
			hit = o.Kind == phrase.Device && ok && err == nil
		case "change":
			hit = o.Kind == phrase.Change && slices.ContainsFunc(o.Paths, func(p string) bool { return under(arg, p) }) && matches(o.Glob, arg)
		case "memory":
			hit = o.Kind == phrase.LowMemory && w.fell(want.Key(), o.Amount, e.Args[0])
		case "disk":
			hit = o.Kind == phrase.LowDisk && slices.Contains(o.Paths, arg) && w.fell(want.Key(), o.Amount, e.Args[1])
		}
		if hit {
			f := w.facts.Clone()
			w.handle(&engine.Occurred{Event: o.Kind, Name: want.Key(), Subject: arg, Count: 1, Files: []string{arg}, Facts: &f})
		}
	}
}

// under reports whether a path is a folder or lies in it.
func under(path, folder string) bool {
	return path == folder || strings.HasPrefix(path, strings.TrimSuffix(folder, "/")+"/")
}

func matches(glob, name string) bool {
	if glob == "" {
		return true
	}
	ok, err := path.Match(glob, path.Base(name))
	return ok && err == nil
}

// total is how much memory and disk the machine has: percentages are of it.
const total = 100 << 30

// fell reports whether what is free has just fallen below a limit.
func (w *world) fell(key string, limit phrase.Amount, free string) bool {
	bytes := func(a phrase.Amount) int64 {
		if a.Percent > 0 {
			return total / 100 * int64(a.Percent)
		}
		return a.Bytes
	}
	now, ok := phrase.ParseAmount(free)
	low := ok && bytes(now) < bytes(limit)
	was := w.levels[key]
	w.levels[key] = low
	return low && !was
}
