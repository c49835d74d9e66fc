// Package staged is the stand-in for a machine: a clock that runs as a
// rehearsed day wants it, with programs that are really started. It is for
// demos and tests, and whatever uses it says so.
package staged

import (
	"sync"
	"time"

	"timegate/core/calendar"
	"timegate/workstation"
	"timegate/workstation/linux"
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
	starter linux.Starter
	zone    *calendar.Zone
	bootID  string
	host    string
	idle    float64
	wakes   chan workstation.Wake

	mu      sync.Mutex // guards what follows
	base    time.Time  // staged time at the real time since
	since   time.Time
	running int
	wake    time.Time // the wake asked for; zero for none
	rung    bool      // the keeper was told that it has come
	asked   bool      // a wake was asked for: until then the clock stands
	timer   *time.Timer
	closed  bool
}

var _ workstation.Workstation = (*Machine)(nil)

// New returns a staged machine. Its clock begins to run when a keeper first
// asks for a wake.
func New(o Options) *Machine {
	rate := o.Rate
	if rate == 0 {
		rate = 1
	}
	return &Machine{zone: o.Zone, bootID: o.BootID, host: o.Host, idle: rate, base: o.At, since: time.Now(), wakes: make(chan workstation.Wake, 1)}
}

// Now implements [workstation.Workstation].
func (m *Machine) Now() time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.now()
}

// now never runs ahead of a wake that is asked for: a fast clock stands still
// there until the keeper has answered.
func (m *Machine) now() time.Time {
	t := m.base.Add(time.Duration(float64(time.Since(m.since)) * m.rate()))
	if !m.asked {
		return m.base
	}
	if m.rate() != 1 && !m.wake.IsZero() && t.After(m.wake) && !m.base.After(m.wake) {
		return m.wake
	}
	return t
}

func (m *Machine) rate() float64 {
	if m.running > 0 {
		return 1
	}
	return m.idle
}

// Zone implements [workstation.Workstation].
func (m *Machine) Zone() *calendar.Zone { return m.zone }

// BootID implements [workstation.Workstation].
func (m *Machine) BootID() string { return m.bootID }

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
	m.base, m.since = m.now(), time.Now()
	m.wake, m.rung, m.asked = at, false, true
	m.rearm()
}

// Jump sets the clock forward or back, as a person does.
func (m *Machine) Jump(by time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.base, m.since, m.rung = m.now().Add(by), time.Now(), false
	m.send(workstation.Wake{ClockSet: true})
	m.rearm()
}

// count notes that programs began or ended and lets the clock run at the rate
// that then holds.
func (m *Machine) count(by int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.base, m.since = m.now(), time.Now()
	m.running += by
	m.rearm()
}

// rearm sets the real timer for the staged time that was asked for.
func (m *Machine) rearm() {
	if m.timer != nil {
		m.timer.Stop()
	}
	if m.wake.IsZero() || m.rung || m.closed {
		return
	}
	wait := time.Duration(float64(m.wake.Sub(m.now()))/m.rate()) + time.Microsecond
	m.timer = time.AfterFunc(wait, m.ring)
}

func (m *Machine) ring() {
	m.mu.Lock()
	defer m.mu.Unlock()
	switch {
	case m.wake.IsZero() || m.rung || m.closed:
	case m.now().Before(m.wake):
		m.rearm() // the rate has changed
	default:
		m.rung = true
		m.send(workstation.Wake{})
	}
}

// send leaves one wake for the keeper; that the clock was set is not lost.
func (m *Machine) send(w workstation.Wake) {
	select {
	case old := <-m.wakes:
		w.ClockSet = w.ClockSet || old.ClockSet
	default:
	}
	m.wakes <- w
}

// Start implements [workstation.Workstation]: the program is really started.
func (m *Machine) Start(o workstation.Order) (workstation.Process, error) {
	m.count(1)
	p, err := m.starter.Start(m.watched(o))
	if err != nil {
		m.count(-1)
	}
	return p, err
}

// Adopt implements [workstation.Workstation].
func (m *Machine) Adopt(o workstation.Order, pid int) workstation.Process {
	m.count(1)
	p := m.starter.Adopt(m.watched(o), pid)
	if p == nil {
		m.count(-1)
	}
	return p
}

func (m *Machine) watched(o workstation.Order) workstation.Order {
	done := o.Done
	o.Done = func(e workstation.Exit) {
		done(e) // before the clock runs fast again, so that the end has its true time
		m.count(-1)
	}
	return o
}

// Close implements [workstation.Workstation].
func (m *Machine) Close() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.closed = true
	if m.timer != nil {
		m.timer.Stop()
	}
	return nil
}
