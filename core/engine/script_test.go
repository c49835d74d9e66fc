package engine_test

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"timegate/core/calendar"
	. "timegate/core/engine"
	"timegate/core/phrase"
)

// body reads an event's verb and arguments.
func (s *script) body(verb string, args []string) Body {
	s.t.Helper()
	switch verb {
	case "tick":
		return &Tick{}
	case "boot":
		s.boot += "+"
		return &Booted{BootID: s.boot, Facts: *s.present(nil)}
	case "happened", "holds":
		return s.occurrence(verb, args)
	case "present":
		return &FactsChanged{Facts: *s.present(args)}
	case "paced": // AT-ONCE ROOM CALM LONGEST
		fmt.Sscanf(args[0]+" "+args[2], "%d %d", &s.pace.AtOnce, &s.pace.Calm)
		s.pace.Room, s.pace.Longest = s.span(args[1]), s.span(args[3])
		return &PaceSet{Pace: s.pace}
	case "clock-set":
		if len(args) == 0 {
			args = []string{"0s"}
		}
		return &ClockSet{By: calendar.Instant(s.span(args[0]).Milliseconds())}
	case "open":
		return &OpenAsked{Gate: args[0]}
	case "stop":
		return &StopAsked{Gate: args[0]}
	case "signal":
		return &SignalSent{Name: args[0]}
	case "pause":
		p := &PauseAsked{}
		if len(args) == 1 {
			p.Until = s.instant(args[0])
		}
		return p
	case "resume":
		return &ResumeAsked{}
	}
	run, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil {
		s.t.Fatalf("%s %v: %v", verb, args, err)
	}
	return s.runBody(verb, run, args[1:])
}

func (s *script) runBody(verb string, run int64, args []string) Body {
	if verb != "started" {
		delete(s.ends, run)
	}
	detail := strings.Join(args, " ")
	switch verb {
	case "started":
		return &RunStarted{Run: run, PID: 77}
	case "failed":
		return &StartFailed{Run: run, Detail: detail}
	case "unsafe":
		return &StartUnsafe{Run: run, Hazard: Hazard{Code: "path-hazard", Message: detail}}
	case "lost":
		return &RunLost{Run: run, Why: LossCode(detail)}
	}
	b := &RunEnded{Run: run}
	if len(args) > 0 {
		var err error
		if b.Exit, err = strconv.Atoi(args[0]); err != nil {
			b.Signal = args[0]
		}
	}
	return b
}

func (s *script) occurrence(verb string, args []string) Body {
	event := args[0]
	var missed calendar.Instant
	if i := slices.Index(args, "missed"); i > 0 { // the latest of its changes was made then
		missed, args = s.instant(args[i+1]), args[:i]
	}
	if i := slices.Index(args, "in"); i > 0 {
		event, args = "change in", args[i:]
	}
	b := &Occurred{Missed: missed, Event: phrase.EventKind(event), Holds: verb == "holds"}
	args = args[1:]
	for i, arg := range args {
		if strings.Contains(arg, "=") {
			b.Facts, args = s.present(args[i:]), args[:i]
			break
		}
	}
	b.Name = strings.Join(args, " ")
	if b.Event == phrase.Change {
		b.Name, b.Count = "change in "+b.Name, 1
	}
	return b
}

// present reads what holds from then on: "power=30" (battery at 30%) or
// "power=mains", "online=yes", "people=maren,tobias", "idle=09:00",
// "path=/media/vault" or "path=-/media/vault", "pressure=40", "desktop=maren".
func (s *script) present(args []string) *Facts {
	f := &s.facts
	for _, arg := range args {
		name, value, _ := strings.Cut(arg, "=")
		switch name {
		case "power":
			f.OnBattery = value != "mains"
			f.Charge, _ = strconv.Atoi(value)
		case "online":
			f.Online = value == "yes"
		case "people":
			f.People = nil
			for _, p := range strings.FieldsFunc(value, func(r rune) bool { return r == ',' }) {
				f.People = append(f.People, Person{Account: p})
			}
		case "idle":
			if f.IdleSince = 0; value != "no" {
				f.IdleSince = s.instant(value)
			}
		case "path":
			if gone, ok := strings.CutPrefix(value, "-"); ok {
				f.Paths = slices.DeleteFunc(f.Paths, func(p string) bool { return p == gone })
			} else {
				f.Paths = append(f.Paths, value)
			}
		case "desktop":
			f.Desktops = strings.FieldsFunc(value, func(r rune) bool { return r == ',' })
			if i := slices.Index(f.Desktops, "own"); i >= 0 {
				f.Desktops[i] = ""
			}
		case "pressure":
			f.Pressure, _ = strconv.Atoi(value)
		default:
			s.t.Fatalf("unknown fact %q", arg)
		}
	}
	now := f.Clone()
	return &now
}
