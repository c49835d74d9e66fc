package staged

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/event"
	"timegate/core/phrase"
	"timegate/home"
	"timegate/workstation"
)

// happens is what each event does to a staged machine.
var happens = map[string]func(m *Machine, args []string) error{
	"boot": (*Machine).boot, "shutdown": plain(phrase.Shutdown, nil),
	"logon": (*Machine).logon, "logoff": (*Machine).logoff, "lock": (*Machine).lock, "unlock": (*Machine).unlock,
	"sleep": (*Machine).sleep, "resume": (*Machine).resume,
	"mains": plain(phrase.Mains, func(f *engine.Facts) { f.OnBattery = false }), "battery": (*Machine).battery,
	"online": plain(phrase.Online, func(f *engine.Facts) { f.Online = true }), "offline": plain(phrase.Offline, func(f *engine.Facts) { f.Online = false }),
	"idle": (*Machine).setIdle, "active": (*Machine).active,
	"mount": mounting(phrase.Mount), "unmount": mounting(phrase.Unmount), "device": (*Machine).device,
	"memory": (*Machine).setMemory, "disk": (*Machine).setDisk, "clock": (*Machine).setClock,
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
	v, problem, remedy := event.Find(event.Staged(), words)
	if problem != "" {
		return &StageError{problem, remedy}
	}
	m.settle()
	return happens[v.Word](m, words[1:])
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
		charge, _ = event.Charge(args[0])
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
		return err
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
	a, _ := phrase.ParseAmount(args[0])
	m.mu.Lock()
	defer m.mu.Unlock()
	m.memory = a.Of(stagedTotal)
	m.crossed(phrase.LowMemory, "", m.memory)
	return nil
}

func (m *Machine) setDisk(args []string) error {
	a, _ := phrase.ParseAmount(args[1])
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
