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

// unmet says which need of a gate does not hold, or "". Where time alone will
// mend that, it says when.
func (f *Facts) unmet(n *gate.Needs, now calendar.Instant) (why string, mends calendar.Instant) {
	switch {
	case n.Power != "any" && f.OnBattery && !f.charged(n.Power):
		if _, least, ok := strings.Cut(n.Power, " or "); ok {
			return fmt.Sprintf("mains power or a charge of %s; it is at %s", least, f.chargeText()), never
		}
		return "mains power", never
	case n.People == "someone" && len(f.People) == 0:
		return "somebody logged on", never
	case n.People == "nobody" && len(f.People) > 0:
		return "nobody logged on; " + f.People[0].Account + " is", never
	}
	if _, ok := person(f.People, n.People); !ok && n.People != "any" && n.People != "someone" && n.People != "nobody" {
		return n.People + " logged on", never
	}
	for _, path := range n.Paths {
		if !slices.Contains(f.Paths, path) {
			return path, never
		}
	}
	if n.Online && !f.Online {
		return "a network", never
	}
	if n.Idle > 0 {
		if f.IdleSince == 0 {
			return spanText(n.Idle) + " of idleness", never
		}
		if at := f.IdleSince.Add(n.Idle); at > now {
			return spanText(n.Idle) + " of idleness", at
		}
	}
	return "", never
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
