package cli

import (
	"fmt"
	"slices"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/journal"
)

// undecided tells of the last moments of a gate's openings about which nothing was
// decided, and why: it was switched off then, was another one, was left out by its
// phrase, or nobody was there to decide.
func (a *app) undecided(j control.Records, g *gate.Gate, decided []journal.Moment) ([]whyMoment, error) {
	var out []whyMoment
	now := calendar.InstantOf(a.now())
	versions, err := j.Versions(g.Name)
	if err != nil || !g.RunsOn(a.host) {
		return nil, err
	}
	for i := range g.Opens {
		o := &g.Opens[i]
		if o.Plan.Rule == nil {
			continue
		}
		due, _, ok := o.Plan.Prev(now)
		if left, text := leftOut(o.Plan.Phrase, a.env(), now); left > due || left != 0 && !ok {
			out = append(out, a.nothing(o, left, text))
			continue
		}
		if !ok || slices.ContainsFunc(decided, func(m journal.Moment) bool { return m.Opening == o.Name && m.Due >= due }) {
			continue
		}
		text, err := a.whyNothing(j, g, o, versions, due)
		if err != nil {
			return nil, err
		}
		out = append(out, a.nothing(o, due, text))
	}
	return out, nil
}

// nothing is a moment at which nothing was decided.
func (a *app) nothing(o *gate.Opening, due calendar.Instant, text string) whyMoment {
	at := a.stamp(due)
	return whyMoment{Opening: o.Name, Phrase: o.When, Due: at, Steps: []whyStep{{At: at, Text: text}}}
}

// whyNothing says why nothing was decided about a due.
func (a *app) whyNothing(j control.Records, g *gate.Gate, o *gate.Opening, versions []journal.Version, due calendar.Instant) (string, error) {
	i := slices.IndexFunc(versions, func(v journal.Version) bool { return v.At <= due })
	switch {
	case i < 0 && len(versions) > 0:
		return "Nothing was started: the gate is known since " + a.local(versions[len(versions)-1].At.Time()) + " only.", nil
	case i >= 0 && versions[i].Text == "":
		return "Nothing was started: there was no such gate, from " + a.local(versions[i].At.Time()) + " on.", nil
	case i >= 0:
		if text := a.otherwise(g.Name, o, versions, i); text != "" {
			return text, nil
		}
	}
	kept, err := j.Kept(due)
	switch {
	case err != nil:
		return "", err
	case !kept:
		return "Nothing was started: no keeper ran then.", nil
	case !g.Enabled || !o.Enabled:
		return "Nothing was started: it is switched off.", nil
	}
	return "Nothing is recorded of it: the keeper may have ended without a word.", nil
}

// otherwise says how a gate's file was another one at the time, or is "". i is the
// version that was in force.
func (a *app) otherwise(name string, o *gate.Opening, versions []journal.Version, i int) string {
	since := a.local(versions[i].At.Time())
	then := gates.Parse(a.home, name, []byte(versions[i].Text), a.env()).Gate
	if then == nil {
		return ""
	}
	was, there := then.Opening(o.Name)
	changed := ""
	if i > 0 {
		changed = "; it was changed on " + a.local(versions[i-1].At.Time())
	}
	switch {
	case !then.RunsOn(a.host):
		return "Nothing was started: the gate was for other hosts then" + changed + "."
	case !then.Enabled:
		return "Nothing was started: the gate was switched off, from " + since + " on" + changed + "."
	case !there:
		return "Nothing was started: the gate had no opening " + o.Name + " then" + changed + "."
	case !was.Enabled:
		return "Nothing was started: the opening was switched off, from " + since + " on" + changed + "."
	case was.When != o.When:
		return fmt.Sprintf("Nothing was started: the opening was %q then%s.", was.When, changed)
	}
	return ""
}

// leftOut returns the last moment before an instant that a phrase would have without
// its exceptions, and says that it is left out; 0 where it has none.
func leftOut(q *phrase.Phrase, env phrase.Env, now calendar.Instant) (calendar.Instant, string) {
	if len(q.Except) == 0 && q.ExceptFile == "" {
		return 0, ""
	}
	whole := *q
	whole.Except, whole.ExceptFile = nil, ""
	plan, err := whole.Compile(env)
	if err != nil || plan.Rule == nil {
		return 0, ""
	}
	due, _, _ := plan.Prev(now)
	return due, "Nothing was started: the phrase leaves this day out (\"except\")."
}
