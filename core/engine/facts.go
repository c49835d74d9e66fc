package engine

import (
	"fmt"
	"slices"
	"strings"

	"timegate/core/calendar"
	"timegate/core/gate"
)

// Facts is what holds on the machine at present. Its zero value is a machine
// on mains power, offline, at which nobody is logged on.
type Facts struct {
	OnBattery bool             `json:"on_battery,omitempty"`
	Charge    int              `json:"charge,omitempty"` // of the battery in percent; 0 where that is not known
	Online    bool             `json:"online,omitempty"`
	People    []Person         `json:"people,omitempty"`     // who is logged on, by account
	IdleSince calendar.Instant `json:"idle_since,omitempty"` // when keyboard and mouse were last touched; 0 while they are
	Desktops  []string         `json:"desktops,omitempty"`   // accounts that are logged on to a desktop; "" is the keeper's own
	Paths     []string         `json:"paths,omitempty"`      // those of the paths needed that exist
	Pressure  int              `json:"pressure,omitempty"`   // how much of the time work waits, in percent
}

// Person is an account that is logged on.
type Person struct {
	Account string           `json:"account"`
	Since   calendar.Instant `json:"since"`
}

// person returns who is logged on as an account.
func person(people []Person, account string) (Person, bool) {
	i := slices.IndexFunc(people, func(p Person) bool { return p.Account == account })
	if i < 0 {
		return Person{}, false
	}
	return people[i], true
}

// lack is a need of a gate that does not hold.
type lack struct {
	what  string           // in words; "" where all hold
	key   string           // which need it is
	mends calendar.Instant // when it will hold by the passing of time; never if that is not known
}

// unmet returns the first need of a gate that does not hold.
func (f *Facts) unmet(g *gate.Gate, now calendar.Instant) lack {
	n := &g.Needs
	switch {
	case n.Power != "any" && f.OnBattery && !f.charged(n.Power):
		if _, least, ok := strings.Cut(n.Power, " or "); ok {
			return lack{fmt.Sprintf("mains power or a charge of %s (it is at %s)", least, f.chargeText()), "needs.power", never}
		}
		return lack{"mains power", "needs.power", never}
	case n.People == "someone" && len(f.People) == 0:
		return lack{"somebody logged on", "needs.people", never}
	case n.People == "nobody" && len(f.People) > 0:
		return lack{"nobody logged on (" + f.People[0].Account + " is)", "needs.people", never}
	}
	if _, ok := person(f.People, n.People); !ok && n.People != "any" && n.People != "someone" && n.People != "nobody" {
		return lack{n.People + " logged on", "needs.people", never}
	}
	for _, path := range n.Paths {
		if !slices.Contains(f.Paths, path) {
			return lack{path, "needs.paths", never}
		}
	}
	if n.Online && !f.Online {
		return lack{"a network", "needs.online", never}
	}
	if n.Idle > 0 {
		if f.IdleSince == 0 {
			return lack{spanText(n.Idle) + " of idleness", "needs.idle", never}
		}
		if at := f.IdleSince.Add(n.Idle); at > now {
			return lack{spanText(n.Idle) + " of idleness", "needs.idle", at}
		}
	}
	return f.desktop(&g.As)
}

// keyDesktop is the need that a program on a desktop has by itself.
const keyDesktop = "as.desktop"

// desktop returns what lacks for a program that runs on a desktop.
func (f *Facts) desktop(as *gate.As) lack {
	switch {
	case !as.Desktop, as.Elevated && len(f.Desktops) > 0, !as.Elevated && slices.Contains(f.Desktops, as.User):
		return lack{mends: never}
	case as.Elevated:
		return lack{"somebody's desktop", keyDesktop, never}
	case as.User == "":
		return lack{"a desktop", keyDesktop, never}
	}
	return lack{as.User + "'s desktop", keyDesktop, never}
}

// charged reports whether the battery holds what a need of power asks for.
func (f *Facts) charged(power string) bool {
	var least int
	if n, _ := fmt.Sscanf(power, "mains or %d%%", &least); n != 1 {
		return false
	}
	return f.Charge >= least
}

func (f *Facts) chargeText() string {
	if f.Charge == 0 {
		return "an unknown one"
	}
	return fmt.Sprintf("%d%%", f.Charge)
}
