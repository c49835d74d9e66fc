package engine

import (
	"slices"
	"strconv"
	"strings"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
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
	Paths     []string         `json:"paths,omitempty"`      // those of the paths needed that exist, as [Wanted.Key] names them
	Pressure  int              `json:"pressure,omitempty"`   // how much of the time work waits, in percent
}

// Clone returns facts that share nothing with these.
func (f *Facts) Clone() Facts {
	c := *f
	c.People, c.Desktops, c.Paths = slices.Clone(f.People), slices.Clone(f.Desktops), slices.Clone(f.Paths)
	return c
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
	need  *Need            // nil where all hold
	key   string           // the key of the gate's file that asks for it
	mends calendar.Instant // when it will hold by the passing of time; 0 if that is not known
}

// Lacks returns the first need of a gate that does not hold, or nil.
func (f *Facts) Lacks(g *gate.Gate, now calendar.Instant) *Need { return f.unmet(g, now).need }

// unmet returns the first need of a gate that does not hold.
func (f *Facts) unmet(g *gate.Gate, now calendar.Instant) lack {
	n := &g.Needs
	if n.Power != "any" && f.OnBattery {
		least, known := leastCharge(n.Power)
		if !known || f.Charge < least {
			return lack{need: &Need{Kind: NeedPower, Least: least, Charge: f.Charge}, key: "needs.power"}
		}
	}
	if need := f.unmetPeople(n.People); need != nil {
		return lack{need: need, key: "needs.people"}
	}
	for _, path := range n.Paths {
		if !slices.Contains(f.Paths, keyFor(g.Account(), path)) {
			return lack{need: &Need{Kind: NeedPath, Path: path}, key: "needs.paths"}
		}
	}
	if n.Online && !f.Online {
		return lack{need: &Need{Kind: NeedOnline}, key: "needs.online"}
	}
	if n.Idle > 0 {
		need := &Need{Kind: NeedIdle, Span: Span(n.Idle)}
		if f.IdleSince == 0 {
			return lack{need: need, key: "needs.idle"}
		}
		if at := f.IdleSince.Add(n.Idle); at > now {
			return lack{need: need, key: "needs.idle", mends: at}
		}
	}
	if need := f.unmetDesktop(&g.As); need != nil {
		return lack{need: need, key: keyDesktop}
	}
	return lack{}
}

func (f *Facts) unmetPeople(who string) *Need {
	switch who {
	case "any":
		return nil
	case "someone":
		if len(f.People) == 0 {
			return &Need{Kind: NeedPeople}
		}
		return nil
	case "nobody":
		if len(f.People) > 0 {
			return &Need{Kind: NeedNobody, Account: f.People[0].Account}
		}
		return nil
	}
	if _, ok := person(f.People, who); !ok {
		return &Need{Kind: NeedPeople, Account: who}
	}
	return nil
}

// keyDesktop is the need that a program on a desktop has by itself.
const keyDesktop = "as.desktop"

// unmetDesktop returns what lacks for a program that runs on a desktop.
func (f *Facts) unmetDesktop(as *gate.As) *Need {
	switch {
	case !as.Desktop, as.Elevated && len(f.Desktops) > 0, !as.Elevated && slices.Contains(f.Desktops, as.User):
		return nil
	case as.Elevated:
		return &Need{Kind: NeedDesktop, Any: true}
	}
	return &Need{Kind: NeedDesktop, Account: as.User}
}

// leastCharge returns the charge that a need of power is content with, and
// whether it is with any.
func leastCharge(power string) (least int, ok bool) {
	if _, after, found := strings.Cut(power, " or "); found {
		least, err := strconv.Atoi(strings.TrimSuffix(after, "%"))
		return least, err == nil
	}
	return 0, false
}

// Unchanged says why an event of the machine changes nothing and is therefore not told, given
// what holds before it; "" where it is told. The account is of a logon, logoff, lock or
// unlock.
func (f *Facts) Unchanged(event phrase.EventKind, account string) string {
	_, there := person(f.People, account)
	switch {
	case event == phrase.Logon && there:
		return account + " is logged on already"
	case (event == phrase.Logoff || event == phrase.Lock || event == phrase.Unlock) && !there:
		return account + " is not logged on"
	case event == phrase.Mains && !f.OnBattery:
		return "the machine is on mains already"
	case event == phrase.Online && f.Online:
		return "the machine is online already"
	case event == phrase.Offline && !f.Online:
		return "the machine is offline already"
	}
	return ""
}
