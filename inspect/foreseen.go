package inspect

import (
	"fmt"
	"slices"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/rehearsal"
	"timegate/core/words"
)

// Rules finds openings of a gate that its other rules never let start the program.
func Rules(def engine.Definition, env engine.Environment) []gate.Finding {
	var out []gate.Finding
	for _, b := range rehearsal.Blocks(def, env) {
		f := gate.Finding{Gate: def.Name, Severity: gate.Warning, Code: "never-starts",
			Message: fmt.Sprintf("opening %s (%s) is skipped whenever it comes: %s", b.Opening.Name, b.Opening.When, words.Reason(b.Decision.Reason)),
			Remedy:  fmt.Sprintf("change %s, or remove the opening", b.Decision.Rule)}
		if b.Patience {
			f.Remedy = fmt.Sprintf("let it wait until that holds, with wait in [needs]; or change %s, or remove the opening", b.Decision.Rule)
		}
		out = append(out, f)
	}
	return out
}

// Repeats finds openings whose repeats their own next moment cuts off.
func Repeats(g *gate.Gate, now calendar.Instant) []gate.Finding {
	var out []gate.Finding
	for i := range g.Opens {
		o := &g.Opens[i]
		r := o.Plan.Phrase.Repeat
		if r == nil || o.Plan.Rule == nil || !o.Enabled {
			continue
		}
		closest := nearest(o.Plan.NextMoment, now, nil)
		switch {
		case closest == 0:
			continue
		case r.Every >= closest:
			out = append(out, gate.Finding{Gate: g.Name, Severity: gate.Warning, Code: "repeat-cut",
				Message: fmt.Sprintf("opening %s (%s): its moments are as near as %s, and each begins its repeats anew: none comes in between", o.Name, o.When, phrase.SpanWords(closest)),
				Remedy:  "put its moments further apart, or leave the repeats out"})
		case !r.Ever && r.For >= closest:
			out = append(out, gate.Finding{Gate: g.Name, Severity: gate.Note, Code: "repeat-cut",
				Message: fmt.Sprintf("opening %s (%s): its repeats would go on for %s, and the next moment, %s later, begins them anew", o.Name, o.When, phrase.SpanWords(r.For), phrase.SpanWords(closest)),
				Remedy:  "nothing is lost; say a shorter time to make it plain"})
		}
	}
	return out
}

// nearest returns how near the dues of the next days are at least, 0 where there are not
// two, and tells each of them.
func nearest(next func(calendar.Instant) (calendar.Instant, bool), now calendar.Instant, each func(due calendar.Instant)) (closest time.Duration) {
	until, last := now.Add(pileDays*24*time.Hour), calendar.Instant(0)
	const most = 3000
	for at, n := now, 0; n < most; n++ {
		due, ok := next(at)
		if !ok || due > until {
			break
		}
		if gap := due.Sub(last); last != 0 && (closest == 0 || gap < closest) {
			closest = gap
		}
		if each != nil {
			each(due)
		}
		at, last = due, due
	}
	return closest
}

// Past is what is known of a machine: when it was away, and what held on it besides.
type Past struct {
	Absence
	States []rehearsal.State // in order; none where that is not known
	// Own is how many moments in a row each opening of files had that came only of changes
	// made while its gate ran itself, by [engine.Key].
	Own map[string]int64
	// Unfound is the command that was not found in a gate's last run, which ended well all the
	// same, by gate.
	Unfound map[string]string
}

// Habits finds openings at whose moments the machine is usually away, or lacks what the
// gate needs, and gates that wake a machine which is awake anyway.
func Habits(g *gate.Gate, p *Past) []gate.Finding {
	out := CheckAbsence(g, &p.Absence)
	if command := p.Unfound[g.Name]; command != "" {
		out = append(out, gate.Finding{Severity: gate.Warning, Code: "went-on", Message: fmt.Sprintf("the last run ended well, although its script did not find the command %q and went on", command),
			Remedy: "put set -e at the head of the script, and it ends there; or mend the name"})
	}
	for i := range g.Opens {
		o := &g.Opens[i]
		if times := p.Own[engine.Key(g.Name, o.Name)]; times >= engine.OwnFree && o.Enabled {
			out = append(out, ownChanges(g, o, times))
		}
		if o.Plan.Rule == nil || !o.Enabled {
			continue
		}
		lacks, awake, known := p.ahead(g, o)
		switch {
		case lacks.times*2 >= known && lacks.times > 0:
			f := gate.Finding{Severity: gate.Warning, Code: "usually-unmet",
				Message: fmt.Sprintf("opening %s (%s): at %d of its next %d moments the machine is usually without what the gate needs (%s on %s)", o.Name, o.When, lacks.times, known, lacks.what, lacks.odds.Text()),
				Remedy:  "choose another time, or let the start wait for it, with wait in [needs]"}
			if g.Needs.Wait > 0 {
				f.Severity, f.Remedy = gate.Note, "it waits for that, for "+phrase.SpanWords(g.Needs.Wait)
			}
			out = append(out, f)
		case g.Rules.Wake > 0 && known > 0 && awake == known:
			out = append(out, gate.Finding{Severity: gate.Note, Code: "needless-wake",
				Message: fmt.Sprintf("opening %s (%s): the machine has been awake at these times anyway, as far as is known", o.Name, o.When),
				Remedy:  "leave wake out of [rules], and nothing wakes a machine that was put to sleep on purpose"})
		}
	}
	return out
}

// ownChanges tells of an opening whose gate seems to open itself.
func ownChanges(g *gate.Gate, o *gate.Opening, times int64) gate.Finding {
	then := "it comes later and later, until something else changes"
	if g.Rules.OwnChanges == gate.OwnOpen {
		then = "it starts each time, since own_changes = \"open\""
	}
	return gate.Finding{Severity: gate.Warning, Code: "own-changes",
		Message: fmt.Sprintf("opening %s (%s): the last %d times it came only of files that changed while the program ran: it may open itself; %s", o.Name, o.When, times, then),
		Remedy:  "let the program write elsewhere, or name what is meant: matching *.pdf"}
}

// lacking is how often something is usually lacking, and what.
type lacking struct {
	times int
	what  string
	odds  Odds // of the first time
}

// ahead looks at the next moments of an opening as they were before: how many are known,
// at how many of them a need usually does not hold, and at how many the machine was never
// asleep or off.
func (p *Past) ahead(g *gate.Gate, o *gate.Opening) (lacks lacking, awake, known int) {
	until := p.Until.Add(daysAhead * 24 * time.Hour)
	starts := 0
	for at, _, ok := o.Plan.Next(p.Until); ok && at <= until && starts < mostStarts; at, _, ok = o.Plan.Next(at) {
		starts++
		away := p.Odds(at, o.Plan.Zone, false)
		if away.Known < leastKnown {
			continue
		}
		known++
		if away.Away == 0 {
			awake++
		}
		what := ""
		unmet := p.odds(at, o.Plan.Zone, func(then calendar.Instant) bool {
			s, there := p.stateAt(then)
			if !there || s.Off || s.Asleep {
				return false
			}
			need := s.Lacks(g, then)
			if need != nil {
				what = words.Reason(engine.Reason{Code: engine.CodeUnmet, Args: engine.Args{Need: need}})
			}
			return need != nil
		})
		if unmet.Usual() {
			if lacks.times++; lacks.times == 1 {
				lacks.what, lacks.odds = what, unmet
			}
		}
	}
	return lacks, awake, known
}

// stateAt returns what held at an instant.
func (p *Past) stateAt(at calendar.Instant) (rehearsal.State, bool) {
	i, found := slices.BinarySearchFunc(p.States, at, func(s rehearsal.State, at calendar.Instant) int { return int(s.From - at) })
	if !found {
		i--
	}
	if i < 0 || at >= p.States[i].To {
		return rehearsal.State{}, false
	}
	return p.States[i], true
}
