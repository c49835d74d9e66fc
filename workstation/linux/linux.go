// Package linux is the real machine: its wall clock through a timerfd, its
// boot by the kernel's boot id, and real processes.
package linux

import (
	"os"
	"strings"
	"time"

	"timegate/core/calendar"
	"timegate/workstation"
	"timegate/workstation/zones"
)

// Machine is this machine.
type Machine struct {
	Starter
	zone  *calendar.Zone
	alarm *alarm
}

var _ workstation.Workstation = (*Machine)(nil)

// New returns this machine.
func New() (*Machine, error) {
	a, err := newAlarm()
	if err != nil {
		return nil, err
	}
	return &Machine{zone: zones.Local(), alarm: a}, nil
}

// Now implements [workstation.Workstation].
func (m *Machine) Now() time.Time { return time.Now() }

// Zone implements [workstation.Workstation].
func (m *Machine) Zone() *calendar.Zone { return m.zone }

// Host implements [workstation.Workstation].
func (m *Machine) Host() string { return Host() }

// Host returns the machine's name, or "" where it has none.
func Host() string {
	name, err := os.Hostname()
	if err != nil {
		return ""
	}
	return name
}

// Staged implements [workstation.Workstation].
func (m *Machine) Staged() bool { return false }

// SetWake implements [workstation.Workstation].
func (m *Machine) SetWake(at time.Time) { m.alarm.set(at) }

// Wakes implements [workstation.Workstation].
func (m *Machine) Wakes() <-chan workstation.Wake { return m.alarm.wakes }

// Close implements [workstation.Workstation].
func (m *Machine) Close() error { return m.alarm.close() }

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
