//go:build linux

// Package linux is the real machine, through the kernel's and the desktop's
// public interfaces: its wall clock through a timerfd, its boot by the
// kernel's boot id, sessions and sleep by the login manager, power by sysfs
// and uevents, files by inotify, and real processes.
package linux

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"sync"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/workstation"
	"timegate/workstation/zones"
)

// Machine is this machine.
type Machine struct {
	alarm     *alarm
	wake      wakeAlarm
	board     *workstation.Board
	attention attention
	// What may hang does so on a goroutine of its own.
	scan, watchingFiles, watchingIdle latest

	mu       sync.Mutex // guards what follows; nothing that may block is done under it
	zone     *calendar.Zone
	wants    workstation.Wants
	files    *Files
	login    *login
	uevents  *uevents
	routes   *routes
	mounts   *mounts
	levels   *levels
	idle     *idleness
	troubles map[string]error // by what cannot be told
	closed   bool
}

var _ workstation.Workstation = (*Machine)(nil)

// New returns this machine.
func New() (*Machine, error) {
	m := &Machine{zone: zones.Local(), board: workstation.NewBoard(), troubles: map[string]error{}}
	a, err := newAlarm(m.slept)
	if err != nil {
		m.board.Close()
		return nil, err
	}
	m.alarm = a
	m.attention.poll = m.attend
	return m, nil
}

// Clock implements [workstation.Workstation].
func (m *Machine) Clock() workstation.Clock { return readClocks().read() }

// Zone implements [workstation.Workstation].
func (m *Machine) Zone() *calendar.Zone {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.zone
}

// Host implements [workstation.Workstation].
func (m *Machine) Host() string { return workstation.HostName() }

// Staged implements [workstation.Workstation].
func (m *Machine) Staged() bool { return false }

// SetWake implements [workstation.Workstation].
func (m *Machine) SetWake(at time.Time) { m.alarm.set(at) }

// Wakes implements [workstation.Workstation].
func (m *Machine) Wakes() <-chan workstation.Wake { return m.alarm.wakes }

// SetAlarm implements [workstation.Workstation].
func (m *Machine) SetAlarm(at time.Time) error { return m.wake.set(at) }

// CanWake implements [workstation.Workstation].
func (m *Machine) CanWake() error { return MayWake(false) }

// Facts implements [workstation.Workstation].
func (m *Machine) Facts() engine.Facts { return m.board.Facts() }

// Notices implements [workstation.Workstation].
func (m *Machine) Notices() <-chan workstation.Notice { return m.board.Notices() }

// Reading implements [workstation.Workstation]: it is all as the kernel says.
func (m *Machine) Reading(string) (int64, bool) { return 0, false }

// There implements [workstation.Workstation]: it is all as the file systems say.
func (m *Machine) There(string) (there, told bool) { return false, false }

// BootID implements [workstation.Workstation]: the kernel's random boot_id.
func (m *Machine) BootID() string { return BootID() }

// BootID returns the kernel's id of this boot.
func BootID() string {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

// Booted returns when the kernel has booted, by its clocks (CLOCK_BOOTTIME). With the id of
// another machine, which is not of the kernel's form, it is not known; an earlier boot of
// this one is over.
func Booted(id string) (at time.Time, known bool) {
	if id != "" && !bootID.MatchString(id) {
		return time.Time{}, false
	}
	return time.Unix(0, int64(readClocks().ahead)), true
}

// bootID is the form of the kernel's ids of boots: random(4) names a UUID.
var bootID = regexp.MustCompile(`^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)

// Watch implements [workstation.Workstation]. What is not wanted is not
// listened to, so that it does not wake the keeper.
func (m *Machine) Watch(w workstation.Wants) <-chan struct{} {
	m.mu.Lock()
	defer m.mu.Unlock()
	before := m.wants
	m.wants = w
	m.watchPower(w)
	m.watchRoutes(w)
	m.watchMounts(w)
	known := []<-chan struct{}{m.watchFiles(w), m.watchLogin(w)}
	if w.Idle != before.Idle {
		known = append(known, m.watchIdle(w))
	}
	low := append(w.Of(phrase.LowMemory), w.Of(phrase.LowDisk)...)
	if m.levels == nil && len(low) > 0 {
		m.levels = newLevels(m.board)
	}
	if m.levels != nil {
		m.levels.want(low)
	}
	if w.Desktop {
		known = append(known, m.scanDesktops())
	}
	if w.Pressure {
		m.takePressure()
	}
	return all(known)
}

// all returns a channel that is closed when all of some are; nil ones count as
// closed.
func all(list []<-chan struct{}) <-chan struct{} {
	out := make(chan struct{})
	go func() {
		defer close(out)
		for _, c := range list {
			if c != nil {
				<-c
			}
		}
	}()
	return out
}

// trouble notes that something cannot be told, or that it can.
func (m *Machine) trouble(what string, err error) {
	if delete(m.troubles, what); err != nil {
		m.troubles[what] = err
	}
}

func (m *Machine) watchPower(w workstation.Wants) {
	devices := len(w.Of(phrase.Device)) > 0
	if !w.Power && !devices && m.uevents != nil {
		m.uevents.close()
		m.uevents = nil
	}
	if m.uevents != nil || !w.Power && !devices {
		return
	}
	var err error
	again := func() { postPower(m.board, readPower(supplies), false) }
	m.uevents, err = listenUevents(func(ev uevent) {
		switch {
		case ev["SUBSYSTEM"] == "power_supply":
			again()
		case ev["ACTION"] == "add":
			m.attached(deviceNames(ev, "/sys"))
		}
	}, again)
	m.trouble("power and devices", err)
	postPower(m.board, readPower(supplies), true)
}

// attached tells of a new device by the names it has.
func (m *Machine) attached(names []string) {
	m.mu.Lock()
	w := m.wants
	m.mu.Unlock()
	for _, watch := range w.Attached(names...) {
		m.board.Post(workstation.Notice{Event: phrase.Device, Name: watch.Key, Subject: names[0]}, nil)
	}
}

func (m *Machine) watchRoutes(w workstation.Wants) {
	if !w.Online && m.routes != nil {
		m.routes.close()
		m.routes = nil
	}
	if !w.Online || m.routes != nil {
		return
	}
	var err error
	m.routes, err = listenRoutes(func() { postOnline(m.board, online(), false) })
	m.trouble("the network", err)
	postOnline(m.board, online(), true)
}

// watchFiles also serves the login manager, which must know when the message
// bus comes.
func (m *Machine) watchFiles(w workstation.Wants) <-chan struct{} {
	if m.files == nil {
		files, err := NewFiles(m.board)
		if m.trouble("files", err); err != nil {
			return nil
		}
		m.files = files
		go m.watchZone(files)
	}
	files := m.files
	return m.watchingFiles.do(func() { files.Watch(w) })
}

func (m *Machine) watchMounts(w workstation.Wants) {
	wanted := len(w.Of(phrase.Mount))+len(w.Of(phrase.Unmount))+len(w.Places) > 0
	if !wanted || m.mounts != nil {
		return
	}
	var err error
	m.mounts, err = watchMounts(m.mounted)
	m.trouble("mounts", err)
}

// mounted tells of mount points that came and went.
func (m *Machine) mounted(came, went []string) {
	m.mu.Lock()
	w, files := m.wants, m.files
	m.mu.Unlock()
	if files != nil {
		files.checkPlaces()
	}
	for what, points := range map[phrase.EventKind][]string{phrase.Mount: came, phrase.Unmount: went} {
		for _, point := range points {
			for _, watch := range w.Mounted(what, point) {
				m.board.Post(workstation.Notice{Event: what, Name: watch.Key, Subject: point}, nil)
			}
		}
	}
}

// needsLogin reports whether the login manager can tell something that is
// wanted.
func needsLogin(w workstation.Wants) bool {
	return w.People || w.Sleep || w.Before.Sleep || w.Before.Shutdown || w.Idle > 0 && !hasX()
}

func (m *Machine) watchLogin(w workstation.Wants) <-chan struct{} {
	if m.login == nil && needsLogin(w) && m.files != nil {
		m.login = newLogin(m.board, m.files, w, m.refresh, m.loggedOn)
	}
	if m.login == nil {
		return nil
	}
	m.login.want(w)
	return m.login.first
}

func (m *Machine) watchIdle(w workstation.Wants) <-chan struct{} {
	if m.idle != nil {
		m.idle.close()
		m.idle = nil
	}
	if w.Idle == 0 || !hasX() {
		return nil
	}
	m.trouble("idleness", errNoAnswer) // until it does
	return m.watchingIdle.do(func() {
		x, err := listenIdle(m.board, w.Idle)
		m.mu.Lock()
		defer m.mu.Unlock()
		switch {
		case m.wants.Idle == w.Idle && !m.closed:
			m.idle = x
			m.trouble("idleness", err)
		case x != nil:
			x.close()
		}
	})
}

// errNoAnswer is the trouble of what has been asked and has not answered yet.
var errNoAnswer = errors.New("it does not answer")

// refresh looks again at what may have changed while the machine was asleep
// and nobody told.
func (m *Machine) refresh() {
	m.mu.Lock()
	power, network, files := m.uevents != nil, m.routes != nil, m.files
	m.mu.Unlock()
	if power {
		postPower(m.board, readPower(supplies), false)
	}
	if network {
		postOnline(m.board, online(), false)
	}
	if files != nil {
		files.checkPlaces()
	}
}

// slept tells of a sleep that only the clocks have noticed.
func (m *Machine) slept() {
	m.mu.Lock()
	login, wanted := m.login, m.wants.Sleep
	m.mu.Unlock()
	m.refresh()
	if login != nil {
		if answers, _ := login.state(); answers {
			return // it tells of this itself
		}
	}
	if wanted {
		m.board.Post(workstation.Notice{Event: phrase.Resume}, nil)
	}
}

// Troubles implements [workstation.Workstation].
func (m *Machine) Troubles() []workstation.Trouble {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []workstation.Trouble
	for what, err := range m.troubles {
		out = append(out, workstation.Trouble{What: what, Why: err.Error()})
	}
	if m.login != nil && needsLogin(m.wants) {
		if _, err := m.login.state(); err != nil {
			out = append(out, workstation.Trouble{What: m.wantsOfLogin(), Why: err.Error()})
		}
	}
	if m.files != nil {
		out = append(out, m.files.Troubles()...)
	}
	return out
}

// wantsOfLogin names what the login manager is asked for.
func (m *Machine) wantsOfLogin() string {
	var out []string
	for _, x := range []struct {
		name   string
		wanted bool
	}{
		{"logons and locks", m.wants.People}, {"sleep", m.wants.Sleep}, {"shutdown", m.wants.Before.Shutdown},
		{"idleness", m.wants.Idle > 0 && !hasX()},
	} {
		if x.wanted {
			out = append(out, x.name)
		}
	}
	return strings.Join(out, ", ")
}

// Close implements [workstation.Workstation].
func (m *Machine) Close() error {
	m.mu.Lock()
	login, files, mounts := m.login, m.files, m.mounts
	m.closed = true
	if m.uevents != nil {
		m.uevents.close()
	}
	if m.routes != nil {
		m.routes.close()
	}
	if m.levels != nil {
		m.levels.close()
	}
	if m.idle != nil {
		m.idle.close()
	}
	m.mu.Unlock()
	m.attention.set(engine.Attention{})
	// These may be about to ask for the lock.
	if login != nil {
		login.close()
	}
	if mounts != nil {
		mounts.close()
	}
	if files != nil {
		files.Close()
	}
	m.board.Close()
	m.wake.close()
	if err := m.alarm.close(); err != nil {
		return fmt.Errorf("the clock: %w", err)
	}
	return nil
}
