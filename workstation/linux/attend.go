//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"

	"timegate/core/engine"
	"timegate/workstation"
	"timegate/workstation/zones"
)

// attendEvery is how often it is looked for what a start waits for, where
// nothing tells of it.
const attendEvery = time.Second

// attention looks from time to time at desktops and pressure.
type attention struct {
	poll func(engine.Attention)

	mu   sync.Mutex // guards what follows
	on   engine.Attention
	stop chan struct{} // nil where nothing is looked at
}

// set says what is looked at, and looks at once at what is new.
func (a *attention) set(to engine.Attention) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if to == a.on {
		return
	}
	a.on = to
	if a.stop != nil {
		close(a.stop)
		a.stop = nil
	}
	if to != (engine.Attention{}) {
		a.stop = make(chan struct{})
		go a.run(to, a.stop)
	}
}

// run looks until it is stopped.
func (a *attention) run(to engine.Attention, stop <-chan struct{}) {
	tick := time.NewTicker(attendEvery)
	defer tick.Stop()
	for {
		a.poll(to)
		select {
		case <-stop:
			return
		case <-tick.C:
		}
	}
}

// Attend implements [workstation.Workstation].
func (m *Machine) Attend(a engine.Attention) { m.attention.set(a) }

// attend looks at what starts wait for.
func (m *Machine) attend(to engine.Attention) {
	if to.Desktops && m.scan.idle() {
		m.scanDesktops()
	}
	if to.Pressure {
		m.takePressure()
	}
}

// scanDesktops looks whose desktops are there. The environments of other
// people's processes are read for it, which may hang.
func (m *Machine) scanDesktops() <-chan struct{} {
	return m.scan.do(func() {
		list := desktops()
		m.board.Learn(func(f *engine.Facts) { f.Desktops = list })
	})
}

// takePressure reads the pressure; the kernel answers at once.
func (m *Machine) takePressure() {
	now := pressure()
	m.board.Learn(func(f *engine.Facts) { f.Pressure = now })
}

// loggedOn is called before a logon is told: its desktop may be there already,
// and many programs may be about to start.
func (m *Machine) loggedOn() {
	m.mu.Lock()
	wants := m.wants
	m.mu.Unlock()
	if wants.Pressure {
		m.takePressure()
	}
	if wants.Desktop {
		select {
		case <-m.scanDesktops():
		case <-time.After(patience):
		}
	}
}

// localtime is where the machine says which zone it is in (localtime(5)).
const localtime = "/etc/localtime"

// zoneWatch tells when the machine's zone is changed.
type zoneWatch struct{ machine *Machine }

// observe implements [observer].
func (z *zoneWatch) observe(ev fsnotify.Event) {
	if filepath.Clean(ev.Name) == localtime {
		z.machine.rereadZone()
	}
}

// due implements [observer].
func (z *zoneWatch) due(time.Time) time.Time { return time.Time{} }

// watchZone begins to watch the machine's zone, where TZ does not say it.
func (m *Machine) watchZone(files *Files) {
	if _, set := os.LookupEnv("TZ"); !set {
		files.do(func() { files.await(localtime, &zoneWatch{m}) })
	}
}

func (m *Machine) rereadZone() {
	now := zones.Read()
	m.mu.Lock()
	before := m.zone
	m.zone = now
	m.mu.Unlock()
	if before != now {
		m.board.Post(workstation.Notice{Zone: true}, nil)
	}
}
