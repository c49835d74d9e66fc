//go:build !linux

package here

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"time"

	"timegate/workstation"
)

// Starter starts nothing here.
type Starter struct{}

// Start implements [workstation.Starter].
func (Starter) Start(o workstation.Order) (workstation.Process, error) {
	return nil, &workstation.StartError{Program: o.Argv[0], Err: ErrNotServed}
}

// Ready implements [workstation.Starter].
func (Starter) Ready(o workstation.Order) (workstation.Ready, error) {
	return nil, &workstation.StartError{Program: o.Argv[0], Err: ErrNotServed}
}

// Adopt implements [workstation.Starter].
func (Starter) Adopt(workstation.Order, int, int64) workstation.Process { return nil }

// FirstPerson is the lowest number of a person's account.
const FirstPerson = 0

// New says that no keeper works here.
func New() (workstation.Workstation, error) { return nil, ErrNotServed }

// Sessions finds none.
func Sessions(int) []workstation.Session { return nil }

// SessionVars finds none.
func SessionVars([]string, int) []string { return nil }

// HasX finds none.
func HasX([]string, int) bool { return false }

// Settle says that nothing is told of it here.
func Settle(context.Context, bool) (workstation.Strain, error) {
	return workstation.Strain{}, ErrNotServed
}

// Reading says that nothing is measured here.
func Reading(string) (int64, error) { return 0, ErrNotServed }

// Program returns what an order would start, as it is written.
func Program(o workstation.Order) string {
	if name := o.Argv[0]; !strings.ContainsAny(name, `/\`) || filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(o.Folder, o.Argv[0])
}

// Terminal finds none.
func Terminal(string) ([]string, error) { return nil, ErrNotServed }

// Limits finds none.
func Limits(string, string, []string) []workstation.Limit { return nil }

// DesktopLogons knows of none.
func DesktopLogons() (last map[string]time.Time, since time.Time, ok bool) {
	return nil, time.Time{}, false
}

// Booted is not known here.
func Booted(string) (at time.Time, known bool) { return time.Time{}, false }

// MayWake says that nothing is woken here.
func MayWake(bool) error { return ErrNotServed }

// SetUmask does nothing.
func SetUmask(int) {}

// Help is never asked for here.
func Help([]string) (status int, ok bool) { return 0, false }

// SelfOrder says how this program is started once more.
type SelfOrder struct {
	Args   []string
	Env    []string
	As     *workstation.Account
	Limits []workstation.Limit
	Group  string
	Files  []*os.File
}

// StartSelf starts nothing here.
func StartSelf(SelfOrder) (*os.Process, error) { return nil, ErrNotServed }

// LimitSelf sets none.
func LimitSelf([]workstation.Limit) (note string) { return "" }

// Seclude does nothing.
func Seclude() {}

// SocketIn returns the address of a socket in a folder.
func SocketIn(folder *os.File, name string) string { return filepath.Join(folder.Name(), name) }

// Activity is not known here.
func Activity(int) (workstation.Activity, bool) { return workstation.Activity{}, false }

// Load is not known here.
func Load() (float64, error) { return 0, ErrNotServed }

// Health looks at what a keeper depends on of this machine.
func Health(context.Context) []workstation.Health { return nil }
