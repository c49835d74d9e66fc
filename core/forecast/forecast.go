// Package forecast tells when gates will open, as far as their phrases say it:
// the next dues, and a week of them. What an engine finds next for a gate that
// nothing stands in the way of is what is told here.
package forecast

import (
	"fmt"
	"slices"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// Due is an instant at which a gate opens.
type Due struct {
	Gate    string
	Opening string
	Phrase  string // canonical form
	At      calendar.Instant
	Zone    *calendar.Zone // in which the phrase is read
	Notes   []string       // what is special about it, such as a clock change
}

// Span is what is looked at: from an instant to another, both included, and no
// more dues of a gate than Count, where that is not 0.
type Span struct {
	From, To calendar.Instant
	Count    int
}

// foretold reports whether an opening is switched on, on a host, and not
// brought by events alone.
func foretold(g *gate.Gate, o *gate.Opening, host string) bool {
	return g.Active(o, host) && o.Plan.Rule != nil
}

// Dues lists what a gate's openings yield, in order. Two that are due at one
// instant are one start.
func Dues(g *gate.Gate, host string, s Span) []Due {
	var out []Due
	for i := range g.Opens {
		if o := &g.Opens[i]; foretold(g, o, host) {
			out = append(out, openingDues(g.Name, o, s)...)
		}
	}
	Sort(out)
	out = slices.CompactFunc(out, func(x, y Due) bool { return x.At == y.At })
	if s.Count > 0 && len(out) > s.Count {
		out = out[:s.Count]
	}
	return out
}

// Sort orders dues by time.
func Sort(dues []Due) {
	slices.SortStableFunc(dues, func(a, b Due) int {
		switch {
		case a.At < b.At:
			return -1
		case a.At > b.At:
			return 1
		}
		return 0
	})
}

func openingDues(name string, o *gate.Opening, s Span) []Due {
	var out []Due
	at := s.From - 1
	for s.Count == 0 || len(out) < s.Count {
		next, repeat, ok := o.Plan.Next(at)
		if !ok || next > s.To {
			break
		}
		d := Due{Gate: name, Opening: o.Name, Phrase: o.When, At: next, Zone: o.Plan.Zone}
		for _, day := range o.Plan.Rule.Dropped(at, next) {
			d.Notes = append(d.Notes, fmt.Sprintf("dropped: %s does not exist here, so it has no start", day))
		}
		if note := o.Plan.Explain(next); repeat {
			d.Notes = append(d.Notes, "repeat")
		} else if note != "" {
			d.Notes = append(d.Notes, note)
		}
		out = append(out, d)
		at = next
	}
	return out
}

// AfterSuccess lists when a gate's openings "after success" are due: when the
// last good run is old enough, or now where good is 0 and there was none.
func AfterSuccess(g *gate.Gate, host string, good, now calendar.Instant, s Span) []Due {
	var out []Due
	for i := range g.Opens {
		o := &g.Opens[i]
		if o.Plan.Phrase.Kind != phrase.AfterSuccess || !g.Active(o, host) {
			continue
		}
		if at, ok := o.Plan.SinceSuccess(good, good != 0, now); ok && at >= s.From && at <= s.To {
			out = append(out, Due{Gate: g.Name, Opening: o.Name, Phrase: o.When, At: at, Zone: o.Plan.Zone})
		}
	}
	return out
}

// Next returns a gate's next due after an instant, by its phrases and the end
// of its last good run (0 where there was none); false where there is none.
func Next(g *gate.Gate, host string, good, now calendar.Instant) (calendar.Instant, bool) {
	s := Span{From: now + 1, To: calendar.MaxInstant, Count: 1}
	list := Dues(g, host, s)
	s.From = calendar.MinInstant
	list = append(list, AfterSuccess(g, host, good, now, s)...)
	Sort(list)
	if len(list) == 0 {
		return 0, false
	}
	return list[0].At, true
}
