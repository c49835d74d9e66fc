package inspect

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// How far is looked ahead for moments that pile up, and how many within a minute are many.
const (
	pileDays = 7
	pileMost = 12
)

// Together finds what only shows when gates are seen together, and with what their runs
// take: two that start the same, many at one moment, runs that outlast the time to their
// next moment, repeats that a new moment cuts off. takes is how long runs usually take, 0
// where that is not known.
func Together(gates []*gate.Gate, host string, takes func(name string) time.Duration, now calendar.Instant) []gate.Finding {
	var out []gate.Finding
	add := func(name string, s gate.Severity, code, message, remedy string) {
		out = append(out, gate.Finding{Gate: name, Severity: s, Code: code, Message: message, Remedy: remedy})
	}
	first := map[string]string{}
	minutes := map[calendar.Instant][]string{}
	for _, g := range gates {
		if !g.Enabled || !g.RunsOn(host) {
			continue
		}
		key := fmt.Sprintf("%q %s", g.Run, g.Account())
		if other := first[key]; other != "" {
			add(g.Name, gate.Note, "same-command", "it starts the same command as "+other, "one gate can have both moments: each with a name of its own in opens")
		} else {
			first[key] = g.Name
		}
		for i := range g.Opens {
			o := &g.Opens[i]
			if o.Plan.Rule == nil || !o.Enabled {
				continue
			}
			next := func(at calendar.Instant) (calendar.Instant, bool) { due, _, ok := o.Plan.Next(at); return due, ok }
			closest := nearest(next, now, func(due calendar.Instant) {
				if minute := due - due%60_000; !slices.Contains(minutes[minute], g.Name) {
					minutes[minute] = append(minutes[minute], g.Name)
				}
			})
			if took := takes(g.Name); closest > 0 && took > closest && g.Rules.Busy != gate.BusyBeside {
				add(g.Name, gate.Warning, "outlasts", fmt.Sprintf("opening %s: a run usually takes %s, and its moments are as near as %s: with busy = %s not every moment has a run", o.Name, phrase.SpanWords(round(took)), phrase.SpanWords(closest), g.Rules.Busy),
					"put its moments further apart")
			}
		}
	}
	out = append(out, piles(minutes)...)
	return out
}

// round leaves out what nobody wants to read of a long time.
func round(d time.Duration) time.Duration {
	if d > time.Minute {
		return d.Round(time.Second)
	}
	return max(d.Round(time.Millisecond), time.Millisecond)
}

// piles finds the fullest minute, where too many gates are due in it.
func piles(minutes map[calendar.Instant][]string) []gate.Finding {
	var worst calendar.Instant
	for at, names := range minutes {
		if n, m := len(names), len(minutes[worst]); n > m || n == m && at < worst {
			worst = at
		}
	}
	names := minutes[worst]
	if len(names) <= pileMost {
		return nil
	}
	slices.Sort(names)
	const told = 5
	return []gate.Finding{{Gate: names[0], Severity: gate.Warning, Code: "pile",
		Message: fmt.Sprintf("%d gates are due within one minute (%s): %s, …", len(names), worst.Time().Format("Mon 15:04 UTC"), strings.Join(names[:told], ", ")),
		Remedy:  "give some of them a spread in [rules], or other times"}}
}
