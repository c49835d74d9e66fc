package staged

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/home"
	"timegate/workstation"
)

// stagedEvent is something that can happen to a staged machine.
type stagedEvent struct {
	word      string
	arguments string // as help shows them, "" for none
	help      string
	do        func(m *Machine, args []string) error
}

// stagedEvents are all that can be staged, in the order in which help lists them.
var stagedEvents = []stagedEvent{
	{"boot", "", "the machine has booted; nobody is logged on", (*Machine).boot},
	{"shutdown", "", "the machine is about to shut down", plain(phrase.Shutdown, nil)},
	{"logon", "[NAME]", "an account logs on, by default your own", (*Machine).logon},
	{"logoff", "NAME", "an account logs off", (*Machine).logoff},
	{"lock", "[NAME]", "the session is locked", (*Machine).lock},
	{"unlock", "[NAME]", "the session is unlocked", (*Machine).unlock},
	{"sleep", "", "the machine sleeps, until it resumes or an alarm wakes it", (*Machine).sleep},
	{"resume", "", "the machine wakes up", (*Machine).resume},
	{"mains", "", "the machine is plugged in", plain(phrase.Mains, func(f *engine.Facts) { f.OnBattery = false })},
	{"battery", "[N%]", "it runs on its battery, with this charge", (*Machine).battery},
	{"online", "", "there is a default route", plain(phrase.Online, func(f *engine.Facts) { f.Online = true })},
	{"offline", "", "there is none", plain(phrase.Offline, func(f *engine.Facts) { f.Online = false })},
	{"idle", "SPAN", "nobody has touched the machine for this long", (*Machine).setIdle},
	{"active", "", "somebody touches it", (*Machine).active},
	{"mount", "PATH", "something is mounted there", mounting(phrase.Mount)},
	{"unmount", "PATH", "something mounted there is taken away", mounting(phrase.Unmount)},
	{"device", "NAME", "a device turns up", (*Machine).device},
	{"memory", "AMOUNT", "so much memory is free", (*Machine).setMemory},
	{"disk", "PATH AMOUNT", "so much of the disk at the path is free", (*Machine).setDisk},
	{"clock", "+SPAN|-SPAN|TIME", "the clock is set forward or back, to the next such time of day, or to a date (2026-12-01 18:30); while the machine sleeps, the time passes", (*Machine).setClock},
}

// EventHelp returns what can be staged: each word, its arguments and what it does.
func EventHelp() [][3]string {
	var out [][3]string
	for _, c := range stagedEvents {
		out = append(out, [3]string{c.word, c.arguments, c.help})
	}
	return out
}

// StageError reports something that cannot be staged.
type StageError struct{ Problem, Remedy string }

func (e *StageError) Error() string { return e.Problem + "; " + e.Remedy }

// Stage lets something happen, given as words: "battery", "70%".
func (m *Machine) Stage(words []string) error {
	if len(words) == 0 {
		return &StageError{"nothing to stage was named", `write for instance "unlock"`}
	}
	const dated = 3 // words: a clock that is set to a date and a time
	if words[0] == "clock" && len(words) == dated {
		words = []string{"clock", words[1] + " " + words[2]}
	}
	i := slices.IndexFunc(stagedEvents, func(c stagedEvent) bool { return c.word == words[0] })
	if i < 0 {
		var known []string
		for _, c := range stagedEvents {
			known = append(known, c.word)
		}
		remedy := "one of " + strings.Join(known, ", ")
		if near, ok := phrase.Nearest(words[0], known); ok {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
		return &StageError{fmt.Sprintf("%q cannot be staged", words[0]), remedy}
	}
	c, args := stagedEvents[i], words[1:]
	if most := len(strings.Fields(c.arguments)); len(args) > most || len(args) < most && !strings.HasPrefix(c.arguments, "[") {
		return &StageError{fmt.Sprintf("%q takes %s", c.word, cmp.Or(c.arguments, "no argument")),
			"write " + strings.TrimSpace(c.word+" "+c.arguments)}
	}
	m.settle()
	return c.do(m, args)
}

// settle lets the clock keep real time for a moment.
func (m *Machine) settle() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.rebase()
	m.slow = time.Now().Add(settle)
	m.rearm()
}

// plain is an event without arguments.
func plain(what phrase.EventKind, change func(*engine.Facts)) func(*Machine, []string) error {
	return func(m *Machine, _ []string) error {
		if err := m.unchanged(what, ""); err != nil {
			return err
		}
		m.board.Post(workstation.Notice{Event: what}, change)
		return nil
	}
}

// unchanged refuses an event that changes nothing: the machine itself would not tell of it.
func (m *Machine) unchanged(what phrase.EventKind, account string) error {
	f := m.board.Facts()
	why := f.Unchanged(what, account)
	if why == "" {
		return nil
	}
	first := map[phrase.EventKind]string{phrase.Logon: "logoff " + account, phrase.Logoff: "logon " + account, phrase.Lock: "logon " + account, phrase.Unlock: "logon " + account,
		phrase.Mains: "battery", phrase.Online: "offline", phrase.Offline: "online"}
	return &StageError{why, first[what] + " comes first"}
}

func (m *Machine) boot([]string) error {
	m.mu.Lock()
	m.bootID += "+"
	m.asleep = false
	m.mu.Unlock()
	m.board.Post(workstation.Notice{Event: phrase.Boot}, func(f *engine.Facts) {
		withPeople(nil)(f)
		f.IdleSince = 0
	})
	return nil
}

func (m *Machine) logon(args []string) error {
	if len(args) == 0 {
		args = []string{home.Account()}
	}
	if err := m.unchanged(phrase.Logon, args[0]); err != nil {
		return err
	}
	since := calendar.InstantOf(m.Now())
	m.board.Post(workstation.Notice{Event: phrase.Logon, Name: args[0]}, func(f *engine.Facts) {
		list := append(people(f.People, args[0]), engine.Person{Account: args[0], Since: since})
		slices.SortFunc(list, func(a, b engine.Person) int { return cmp.Compare(a.Account, b.Account) })
		withPeople(list)(f)
	})
	return nil
}

func (m *Machine) logoff(args []string) error {
	if err := m.unchanged(phrase.Logoff, args[0]); err != nil {
		return err
	}
	m.board.Post(workstation.Notice{Event: phrase.Logoff, Name: args[0]}, func(f *engine.Facts) { withPeople(people(f.People, args[0]))(f) })
	return nil
}

func (m *Machine) lock(args []string) error   { return m.session(phrase.Lock, args) }
func (m *Machine) unlock(args []string) error { return m.session(phrase.Unlock, args) }

// session locks or unlocks the session of an account, by default of the first
// who is logged on, or one's own.
func (m *Machine) session(what phrase.EventKind, args []string) error {
	name := home.Account()
	if list := m.board.Facts().People; len(args) > 0 {
		name = args[0]
	} else if len(list) > 0 {
		name = list[0].Account
	}
	if err := m.unchanged(what, name); err != nil {
		return err
	}
	m.board.Post(workstation.Notice{Event: what, Name: name}, nil)
	return nil
}

func (m *Machine) sleep([]string) error {
	m.board.Post(workstation.Notice{Event: phrase.Sleep, Release: func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.rebase()
		m.asleep, m.slept = true, m.now()
		m.rearm()
	}}, nil)
	return nil
}

func (m *Machine) resume([]string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.rebase()
	m.awake()
	// That it is awake again is told before what it slept through.
	m.rung = true
	time.AfterFunc(settle/10, func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.rung = false
		m.rearm()
	})
	return nil
}

func (m *Machine) battery(args []string) error {
	charge := m.board.Facts().Charge
	if len(args) > 0 {
		n, err := strconv.Atoi(strings.TrimSuffix(args[0], "%"))
		if err != nil || n < 1 || n > 100 {
			return &StageError{fmt.Sprintf("%q is no charge", args[0]), "write for instance 70%"}
		}
		charge = n
	}
	set := func(f *engine.Facts) { f.OnBattery, f.Charge = true, charge }
	if m.board.Facts().OnBattery {
		m.board.Learn(set)
		return nil
	}
	m.board.Post(workstation.Notice{Event: phrase.Battery}, set)
	return nil
}

func (m *Machine) setIdle(args []string) error {
	d, err := phrase.ParseSpan(args[0])
	if err != nil {
		return &StageError{err.Error(), "write for instance 10m"}
	}
	since := calendar.InstantOf(m.Now().Add(-d))
	m.board.Learn(func(f *engine.Facts) { f.IdleSince = since })
	return nil
}

func (m *Machine) active([]string) error {
	m.board.Learn(func(f *engine.Facts) { f.IdleSince = 0 })
	return nil
}

func mounting(what phrase.EventKind) func(*Machine, []string) error {
	return func(m *Machine, args []string) error {
		point := filepath.Clean(args[0])
		m.mu.Lock()
		m.mounts[point] = what == phrase.Mount
		found := m.wants.Mounted(what, point)
		m.mu.Unlock()
		m.board.Post(workstation.Notice{}, nil) // what is there has changed
		for _, w := range found {
			m.board.Post(workstation.Notice{Event: what, Name: w.Key, Subject: point}, nil)
		}
		return nil
	}
}

func (m *Machine) device(args []string) error {
	m.mu.Lock()
	found := m.wants.Attached(args[0])
	m.mu.Unlock()
	for _, w := range found {
		m.board.Post(workstation.Notice{Event: phrase.Device, Name: w.Key, Subject: args[0]}, nil)
	}
	return nil
}

func (m *Machine) setMemory(args []string) error {
	a, ok := phrase.ParseAmount(args[0])
	if !ok {
		return &StageError{fmt.Sprintf("%q is no amount", args[0]), "write for instance 300MiB"}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.memory = a.Of(stagedTotal)
	m.crossed(phrase.LowMemory, "", m.memory)
	return nil
}

func (m *Machine) setDisk(args []string) error {
	a, ok := phrase.ParseAmount(args[1])
	if !ok {
		return &StageError{fmt.Sprintf("%q is no amount", args[1]), "write for instance 2GiB"}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	path := filepath.Clean(args[0])
	m.disks[path] = a.Of(stagedTotal)
	m.crossed(phrase.LowDisk, path, m.disks[path])
	return nil
}

// stagedTotal is how much memory and disk a staged machine has: percentages
// are of it.
const stagedTotal = 100 << 30

// crossed posts the limits below which what is free has fallen.
func (m *Machine) crossed(what phrase.EventKind, path string, free int64) {
	for _, w := range m.wants.Of(what) {
		if path != "" && w.Event.Paths[0] != path {
			continue
		}
		if m.levels[w.Key] == nil {
			m.levels[w.Key] = &phrase.Level{}
		}
		if m.levels[w.Key].Fell(w.Event.Amount, free, stagedTotal) {
			m.board.Post(workstation.Notice{Event: what, Name: w.Key, Subject: path}, nil)
		}
	}
}

func trimDisk(name string) string { return strings.TrimPrefix(name, "disk:") }

func (m *Machine) setClock(args []string) error {
	for _, layout := range []string{"15:04", "15:04:05"} {
		if at, err := time.Parse(layout, args[0]); err == nil {
			m.Jump(m.until(at))
			return nil
		}
	}
	text := strings.Replace(strings.Join(args, " "), "T", " ", 1)
	for _, layout := range []string{"2006-01-02 15:04", "2006-01-02 15:04:05", time.DateOnly} {
		if at, err := time.ParseInLocation(layout, text, m.zone.Location()); err == nil {
			m.Jump(at.Sub(m.Now()))
			return nil
		}
	}
	sign := time.Duration(1)
	span, ok := strings.CutPrefix(args[0], "+")
	if !ok {
		if span, ok = strings.CutPrefix(args[0], "-"); ok {
			sign = -1
		}
	}
	d, err := phrase.ParseSpan(span)
	if err != nil || !ok {
		return errors.Join(err, &StageError{fmt.Sprintf("%q does not say by how much, nor to when", strings.Join(args, " ")), "write +2h, -30m, 18:30 or 2026-12-01 18:30"})
	}
	m.Jump(sign * d)
	return nil
}

// until is how long it is until the next such time of day.
func (m *Machine) until(at time.Time) time.Duration {
	now := m.Now().In(m.zone.Location())
	next := time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), at.Second(), 0, now.Location())
	if !next.After(now) {
		next = next.AddDate(0, 0, 1)
	}
	return next.Sub(now)
}
