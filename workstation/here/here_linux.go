package here

import (
	"syscall"

	"timegate/workstation"
	"timegate/workstation/linux"
	"timegate/workstation/window"
)

// Starter starts programs of this machine.
type Starter = linux.Starter

// FirstPerson is the lowest number of a person's account.
const FirstPerson = linux.FirstPerson

// What this machine tells and does; see workstation/linux.
var (
	Sessions      = linux.Sessions
	SessionVars   = linux.SessionVars
	HasX          = linux.HasX
	Reading       = linux.Reading
	Program       = linux.Program
	Terminal      = linux.Terminal
	Limits        = linux.Limits
	DesktopLogons = linux.DesktopLogons
	StartSelf     = linux.StartSelf
	Seclude       = linux.Seclude
	LimitSelf     = linux.LimitSelf
	SocketIn      = linux.SocketIn
	Activity      = linux.Activity
	Load          = linux.Load
	Settle        = linux.Settle
	Health        = linux.Health
	MayWake       = linux.MayWake
	Booted        = linux.Booted
)

// SelfOrder says how this program is started once more.
type SelfOrder = linux.SelfOrder

// New returns this machine.
func New() (workstation.Workstation, error) { return linux.New() }

// SetUmask sets the file mode mask of this process, and of what it starts.
func SetUmask(mask int) { syscall.Umask(mask) }

// Help runs this process as one of the helpers that a keeper starts, where the
// first argument says so.
func Help(args []string) (status int, ok bool) {
	if len(args) > 0 && args[0] == window.Helper {
		return window.Main(args[1:]), true
	}
	return 0, false
}
