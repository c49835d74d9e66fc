package rehearsal

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// Failure is an expectation that does not hold.
type Failure struct {
	Expected string `json:"expected"`
	Actual   string `json:"actual"`
}

// Check returns what was expected and is not so.
func (p *Played) Check(d *Day) []Failure {
	var out []Failure
	for i := range d.Expect {
		if actual := p.actual(&d.Expect[i], p.hits[i], d); actual != "" {
			out = append(out, Failure{d.Expect[i].Text, actual})
		}
	}
	return out
}

// actual is what is so instead of what was expected, or "", of all that its gate did of
// that kind.
func (p *Played) actual(x *Expectation, all []done, d *Day) string {
	if x.atOnce > 0 || x.verb == "" {
		if p.most > x.atOnce {
			return fmt.Sprintf("%d ran at once at %s", p.most, clockText(p.crowded, d))
		}
		return ""
	}
	var hits []done
	for _, it := range all {
		if x.fits(&it, d) && x.inState(p, it.at) {
			hits = append(hits, it)
		}
	}
	told := fmt.Sprintf("%s %s", x.subject(), past(x.verb, len(all))) + list(all, d, x.because != "")
	switch {
	case x.never && len(hits) > 0:
		return fmt.Sprintf("%s %s", x.subject(), past(x.verb, len(hits))) + list(hits, d, false) + p.stateAt(x, hits[0].at)
	case x.never:
		return ""
	case x.least >= 0 || x.most >= 0:
		if len(hits) < x.least || x.most >= 0 && len(hits) > x.most {
			return told
		}
		return ""
	case x.rel == "before" || x.rel == "after": // each of them
		var wrong []done
		for _, it := range all {
			if x.onDay(it.at, d) && x.inState(p, it.at) && !x.inTime(it.at, d) {
				wrong = append(wrong, it)
			}
		}
		if len(wrong) > 0 {
			return fmt.Sprintf("%s %s", x.subject(), past(x.verb, len(wrong))) + list(wrong, d, false)
		}
	case x.days != nil:
		if missing := x.missingDay(hits, d); missing != "" {
			return told + "; not on " + missing
		}
	}
	if len(hits) == 0 {
		return told
	}
	return ""
}

// missingDay is the first of the days on which it was expected and did not come, or "".
func (x *Expectation) missingDay(hits []done, d *Day) string {
	for at := d.From - 1; ; {
		next, _, ok := x.days.Next(at)
		if !ok || next >= d.To {
			return ""
		}
		day, _ := d.Zone.Local(next)
		if !slices.ContainsFunc(hits, func(h done) bool { on, _ := d.Zone.Local(h.at); return on == day }) {
			return day.Noon().Format("Mon 2 Jan")
		}
		at = next
	}
}

// subject is what an expectation is about, as rows have it.
func (x *Expectation) subject() string {
	if x.opening == "" {
		return x.gate
	}
	return x.gate + "/" + x.opening
}

// is reports whether a decision is of the kind that is expected.
func (x *Expectation) is(k *engine.Decision) bool {
	if x.opening != "" && k.Opening != x.opening {
		return false
	}
	switch x.verb {
	case "opens":
		return k.Starts()
	case "ends":
		return k.Kind == engine.End
	case "waits":
		return k.Kind == engine.Wait
	case "skipped":
		return k.Kind == engine.Skip && k.Result == engine.ResultSkipped
	case "missed":
		return k.Kind == engine.Skip && k.Result == engine.ResultMissed
	case "refused":
		return k.Kind == engine.Refuse
	case "fails":
		return k.Kind == engine.End && k.Result == engine.ResultFailed
	case "overruns":
		return k.Kind == engine.End && k.Result == engine.ResultOverran
	case "stopped":
		return k.Kind == engine.End && k.Result == engine.ResultStopped
	case "succeeds":
		return k.Kind == engine.End && k.Result == engine.ResultOK
	}
	return false
}

// fits reports whether something was at the expected time, for the expected reason.
func (x *Expectation) fits(it *done, d *Day) bool {
	return x.onDay(it.at, d) && x.inTime(it.at, d) && (x.because == "" || strings.Contains(strings.ToLower(it.text+" "+it.rule), x.because))
}

func (x *Expectation) onDay(at calendar.Instant, d *Day) bool {
	if x.days == nil {
		return true
	}
	day, _ := d.Zone.Local(at)
	start, ok := d.Zone.Start(day)
	if !ok {
		return false
	}
	due, _, ok := x.days.Next(start - 1)
	return ok && due == start
}

func (x *Expectation) inTime(at calendar.Instant, d *Day) bool {
	_, ms := d.Zone.Local(at)
	step := int64(60_000)
	if x.seconds {
		step = 1000
	}
	switch x.rel {
	case "at":
		return ms-ms%step == x.clock
	case "before":
		return ms < x.clock
	case "after":
		return ms >= x.clock
	}
	return true
}

// inState reports whether the machine was in the expected state at an instant.
func (x *Expectation) inState(p *Played, at calendar.Instant) bool {
	if x.state == "" {
		return true
	}
	s := p.StateAt(at)
	switch x.state {
	case "asleep":
		return s.Asleep
	case "off":
		return s.Off
	case "on battery":
		return s.OnBattery && !s.Off && !s.Asleep
	case "on mains":
		return !s.OnBattery && !s.Off && !s.Asleep
	case "nobody is logged on":
		return len(s.People) == 0
	case "somebody is logged on":
		return len(s.People) > 0
	}
	return slices.Contains(s.People, x.person)
}

// StateAt returns what held on the machine at an instant.
func (p *Played) StateAt(at calendar.Instant) State {
	i, found := slices.BinarySearchFunc(p.States, at, func(s State, at calendar.Instant) int { return cmp.Compare(s.From, at) })
	if !found {
		i--
	}
	if i < 0 {
		return State{}
	}
	return p.States[i]
}

func (p *Played) stateAt(x *Expectation, at calendar.Instant) string {
	if x.state == "" {
		return ""
	}
	s := p.StateAt(at)
	return ", when the machine was " + s.Text()
}

// past is a verb in the past, with how often.
func past(verb string, n int) string {
	word := map[string]string{"opens": "opened", "ends": "ended", "waits": "waited", "skipped": "was skipped", "missed": "was missed", "refused": "was refused",
		"fails": "failed", "overruns": "overran", "stopped": "was stopped", "succeeds": "succeeded"}[verb]
	if n == 0 {
		if was, rest, two := strings.Cut(word, " "); two {
			return was + " never " + rest
		}
		return "never " + word
	}
	switch n {
	case 1:
		return word + " once"
	}
	return fmt.Sprintf("%s %d times", word, n)
}

// list tells when something was done, the first ones.
func list(all []done, d *Day, why bool) string {
	const most = 6
	var out []string
	for i, it := range all {
		if i == most {
			out = append(out, "…")
			break
		}
		text := clockText(it.at, d)
		if why {
			text += " (" + it.text + ")"
		}
		out = append(out, text)
	}
	if len(out) == 0 {
		return ""
	}
	return ", at " + strings.Join(out, ", ")
}

// clockText is a time of day, with its date where the day file has several.
func clockText(at calendar.Instant, d *Day) string {
	layout := "15:04"
	if at%60_000 >= 1000 { // what takes milliseconds is told by the minute
		layout = "15:04:05"
	}
	if d.To.Sub(d.From).Hours() > 25 {
		layout = "Mon 2 Jan " + layout
	}
	return at.Time().In(d.Zone.Location()).Format(layout)
}
