// Package staged is the stand-in for a machine: a clock that runs as a
// rehearsed day wants it, and power, sessions, sleep, network and idleness as
// they are set. What accounts do is real: programs are really started, and files
// are really watched. It is for demos and tests, and whatever uses it says so.
package staged

import (
	"os"
	"slices"
	"sync"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/workstation"
	"timegate/workstation/accounts"
	"timegate/workstation/here"
)

// Options say how a staged machine begins.
type Options struct {
	At     time.Time      // its time at the beginning
	Zone   *calendar.Zone // its time zone
	BootID string
	Host   string
	// Rate is how many times faster than real its clock runs while no program
	// does; while one runs, the clock keeps real time, so that what is shown
	// of the program is true. 0 stands for 1.
	Rate float64
}

// Machine is a staged machine.
type Machine struct {
	zone  *calendar.Zone
	host  string
	idle  float64
	wakes chan workstation.Wake
	board *workstation.Board

	mu      sync.Mutex // guards what follows
	bootID  string
	booted  time.Time     // as the clock was then
	set     time.Duration // by how much it was set since
	base    time.Time     // staged time at the real time since
	since   time.Time
	running int
	slow    time.Time // the real time until which the clock keeps real time too
	wake    time.Time // the wake asked for; zero for none
	rung    bool      // the keeper was told that it has come
	asked   bool      // a wake was asked for: until then the clock stands
	asleep  bool
	slept   time.Time // since when it sleeps
	script  []scene   // what is still to come, in order
	timer   *time.Timer
	closed  bool
	wants   workstation.Wants
	memory  int64            // bytes free, -1 where the machine's own hold
	disks   map[string]int64 // bytes free by path
	levels  map[string]*phrase.Level
	mounts  map[string]bool // points that were staged, and whether something is mounted there
	alarm   time.Time
}

// uptime is for how long a staged machine has been up when it begins.
const uptime = time.Minute

// scene is something that happens at a time of the staged day.
type scene struct {
	at time.Time
	do func()
}

var _ workstation.Workstation = (*Machine)(nil)

// New returns a staged machine. Its clock begins to run when a keeper first
// asks for a wake.
func New(o Options) (*Machine, error) {
	rate := o.Rate
	if rate == 0 {
		rate = 1
	}
	m := &Machine{zone: o.Zone, bootID: o.BootID, booted: o.At.Add(-uptime), host: o.Host, idle: rate, base: o.At, since: time.Now(),
		wakes: make(chan workstation.Wake, 1), board: workstation.NewBoard(), memory: -1, disks: map[string]int64{},
		levels: map[string]*phrase.Level{}, mounts: map[string]bool{}}
	return m, nil
}

// Clock implements [workstation.Workstation].
func (m *Machine) Clock() workstation.Clock {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := m.now()
	return workstation.Clock{Now: now, Uptime: now.Sub(m.booted) - m.set}
}

// Now returns the staged time.
func (m *Machine) Now() time.Time { return m.Clock().Now }

// now never runs ahead of what is to happen: a fast clock stands still there
// until the keeper has answered.
func (m *Machine) now() time.Time {
	t := m.base.Add(time.Duration(float64(time.Since(m.since)) * m.rate()))
	if !m.asked {
		return m.base
	}
	if m.rate() != 1 {
		for _, stop := range []time.Time{m.ringAt(), m.sceneAt()} {
			if !stop.IsZero() && t.After(stop) && !m.base.After(stop) {
				t = stop
			}
		}
	}
	return t
}

// ringAt is when the keeper is to be woken; a machine that is asleep wakes
// nobody, unless by its alarm.
func (m *Machine) ringAt() time.Time {
	if m.asleep {
		return m.alarm
	}
	return m.wake
}

func (m *Machine) sceneAt() time.Time {
	if len(m.script) == 0 {
		return time.Time{}
	}
	return m.script[0].at
}

func (m *Machine) rate() float64 {
	if m.running > 0 || time.Now().Before(m.slow) {
		return 1
	}
	return m.idle
}

// Zone implements [workstation.Workstation].
func (m *Machine) Zone() *calendar.Zone { return m.zone }

// BootID implements [workstation.Workstation].
func (m *Machine) BootID() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.bootID
}

// Host implements [workstation.Workstation].
func (m *Machine) Host() string { return m.host }

// Staged implements [workstation.Workstation].
func (m *Machine) Staged() bool { return true }

// Wakes implements [workstation.Workstation].
func (m *Machine) Wakes() <-chan workstation.Wake { return m.wakes }

// SetWake implements [workstation.Workstation].
func (m *Machine) SetWake(at time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.rebase()
	m.wake, m.rung, m.asked = at, false, true
	m.rearm()
}

// SetAlarm implements [workstation.Workstation]: a staged machine can always
// be woken.
func (m *Machine) SetAlarm(at time.Time) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.alarm = at
	return nil
}

// CanWake implements [workstation.Workstation].
func (m *Machine) CanWake() error { return nil }

// rebase lets the clock run on from now, at the rate that then holds.
func (m *Machine) rebase() { m.base, m.since = m.now(), time.Now() }

// Jump sets the clock forward or back, as a person does. While the machine is
// asleep, the time passes instead; where an alarm comes first, it passes up to that.
func (m *Machine) Jump(by time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := m.now()
	to := now.Add(by)
	if m.asleep && m.alarm.After(now) && m.alarm.Before(to) {
		to = m.alarm
	}
	m.base, m.since, m.rung = to, time.Now(), false
	if !m.asleep {
		m.set += by
		m.send(workstation.Wake{})
	}
	m.rearm()
}

// At lets something happen at a time of the staged day. Times are given in
// order.
func (m *Machine) At(at time.Time, do func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.script = append(m.script, scene{at, do})
}

// count notes that programs began or ended and lets the clock run at the rate
// that then holds.
func (m *Machine) count(by int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.rebase()
	m.running += by
	m.rearm()
}

// Hold lets the clock keep real time until the function it returns is called.
func (m *Machine) Hold() (let func()) {
	m.count(1)
	return sync.OnceFunc(func() { m.count(-1) })
}

// rearm sets the real timer for the staged time of what comes next.
func (m *Machine) rearm() {
	if m.timer != nil {
		m.timer.Stop()
	}
	next := m.sceneAt()
	if at := m.ringAt(); !at.IsZero() && !m.rung && (next.IsZero() || at.Before(next)) {
		next = at
	}
	if next.IsZero() || m.closed || !m.asked {
		return
	}
	wait := time.Duration(float64(next.Sub(m.now()))/m.rate()) + time.Microsecond
	if slow := time.Until(m.slow); slow > 0 {
		wait = min(wait, slow+time.Microsecond) // then the rate changes
	}
	m.timer = time.AfterFunc(wait, m.ring)
}

func (m *Machine) ring() {
	m.mu.Lock()
	if m.closed {
		m.mu.Unlock()
		return
	}
	now := m.now()
	var do func()
	switch at := m.ringAt(); {
	case !at.IsZero() && !m.rung && !now.Before(at) && (len(m.script) == 0 || !m.sceneAt().Before(at)):
		m.rung = true
		if m.asleep {
			m.awake()
		}
		m.send(workstation.Wake{})
	case len(m.script) > 0 && !now.Before(m.sceneAt()):
		m.base, m.since = now, time.Now()
		do, m.script = m.script[0].do, m.script[1:]
		m.slow = time.Now().Add(settle)
		m.rearm()
	default:
		m.rebase()
		m.rearm() // the rate has changed
	}
	m.mu.Unlock()
	if do != nil {
		do()
	}
}

// settle is how long the clock keeps real time after something happened, so
// that what follows from it has its true time.
const settle = 250 * time.Millisecond

// Asleep reports whether the machine sleeps: it does so once those who were
// told of it have let it.
func (m *Machine) Asleep() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.asleep
}

// awake ends the machine's sleep.
func (m *Machine) awake() {
	if m.asleep {
		m.asleep = false
		m.send(workstation.Wake{Asleep: m.now().Sub(m.slept)})
	}
	m.board.Post(workstation.Notice{Event: phrase.Resume}, nil)
}

// send leaves one wake for the keeper; that the clock was set is not lost.
func (m *Machine) send(w workstation.Wake) {
	select {
	case old := <-m.wakes:
		w = w.After(old)
	default:
	}
	m.wakes <- w
}

// Watch implements [workstation.Workstation].
func (m *Machine) Watch(w workstation.Wants) <-chan struct{} {
	m.mu.Lock()
	m.wants = w
	m.mu.Unlock()
	known := make(chan struct{})
	close(known)
	return known
}

// Attend implements [workstation.Workstation]: all that a start may wait for is
// told here.
func (m *Machine) Attend(engine.Attention) {}

// withPeople is a change of who is logged on. Whoever is has a desktop, and so
// has the keeper's own account as soon as there is one.
func withPeople(list []engine.Person) func(*engine.Facts) {
	return func(f *engine.Facts) {
		f.People, f.Desktops = list, nil
		for _, p := range list {
			f.Desktops = append(f.Desktops, p.Account)
		}
		if len(list) > 0 {
			f.Desktops = append([]string{""}, f.Desktops...)
		}
	}
}

// Sessions implements [workstation.Workstation]. A session of an account that
// is logged on has the display of this process, where it has one.
func (m *Machine) Sessions(uid int) (list []workstation.Session, told bool) {
	own := workstation.Session{UID: os.Getuid(), Vars: here.SessionVars(os.Environ(), os.Getuid())}
	own.HasX = here.HasX(own.Vars, own.UID)
	var out []workstation.Session
	for _, p := range m.board.Facts().People {
		if a, err := accounts.ByName(p.Account); err == nil && (uid < 0 || uid == a.UID) {
			s := own
			s.UID = a.UID
			out = append(out, s)
		}
	}
	if len(out) == 0 && uid == own.UID && len(m.board.Facts().Desktops) > 0 {
		out = append(out, own)
	}
	return out, true
}

// Facts implements [workstation.Workstation].
func (m *Machine) Facts() engine.Facts { return m.board.Facts() }

// Notices implements [workstation.Workstation].
func (m *Machine) Notices() <-chan workstation.Notice { return m.board.Notices() }

// Troubles implements [workstation.Workstation].
func (m *Machine) Troubles() []workstation.Trouble { return nil }

// Reading implements [workstation.Workstation]: what was staged.
func (m *Machine) Reading(name string) (bytes int64, told bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if name == "memory" && m.memory >= 0 {
		return m.memory, true
	}
	bytes, told = m.disks[trimDisk(name)]
	return bytes, told
}

// There implements [workstation.Workstation]: what lies below a point that was staged is
// there while that is mounted.
func (m *Machine) There(path string) (there, told bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	nearest := ""
	for point, mounted := range m.mounts {
		if phrase.Within(path, point) && len(point) > len(nearest) {
			nearest, there, told = point, mounted, true
		}
	}
	return there, told
}

// Close implements [workstation.Workstation].
func (m *Machine) Close() error {
	m.mu.Lock()
	m.closed = true
	if m.timer != nil {
		m.timer.Stop()
	}
	m.mu.Unlock()
	m.board.Close()
	return nil
}

// people returns who is logged on but for an account.
func people(list []engine.Person, but string) []engine.Person {
	return slices.DeleteFunc(slices.Clone(list), func(p engine.Person) bool { return p.Account == but })
}
