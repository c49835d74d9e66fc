package rehearsal

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/core/words"
)

// Expectation is what a day file expects, in a sentence of a small language:
//
//	GATE opens at 13:15 [on mon-fri]      GATE opens 3 times, once, at least 2 times, at most 1 times
//	GATE opens before 09:00               every start of it, and there is one
//	GATE ends before 18:00                likewise
//	GATE skipped at 10:00 because power   also missed, refused, waits
//	GATE fails, overruns, is stopped      ends in that way
//	GATE never opens [while asleep]       no start of it (in that state of the machine)
//	never more than 2 at once             programs that run together
type Expectation struct {
	Text string

	gate    string
	never   bool
	verb    string
	least   int // how often at least, and at most; -1 for any number
	most    int
	rel     string // at, before or after; "" for any time
	clock   int64  // milliseconds since midnight
	seconds bool   // the clock says them
	days    *phrase.Plan
	because string
	state   string // while
	person  string // of the state
	atOnce  int
}

// ExpectError says what is wrong with an expectation.
type ExpectError struct{ Problem, Remedy string }

func (e *ExpectError) Error() string { return e.Problem + "; " + e.Remedy }

// verbsExpected are what a gate may do, as they are written and as other words for it.
var verbsExpected = map[string]string{
	"opens": "opens", "open": "opens", "starts": "opens", "start": "opens", "runs": "opens",
	"skipped": "skipped", "skips": "skipped", "missed": "missed", "refused": "refused", "waits": "waits", "wait": "waits",
	"ends": "ends", "end": "ends", "fails": "fails", "fail": "fails", "failed": "fails", "overruns": "overruns", "overran": "overruns", "stopped": "stopped", "succeeds": "succeeds",
}

// ParseExpectation reads a sentence.
func ParseExpectation(text string, d *Day, gates []string) (Expectation, error) {
	x := Expectation{Text: text, least: -1, most: -1}
	p := &expecting{words: strings.Fields(text), day: d}
	if p.take("never", "more", "than") {
		n, ok := p.number()
		if !ok || !p.take("at", "once") || len(p.words) > 0 {
			return x, &ExpectError{fmt.Sprintf("%q does not say how many at once", text), `write for instance "never more than 2 at once"`}
		}
		x.atOnce, x.never = n, true
		return x, nil
	}
	x.gate = p.word()
	if !slices.Contains(gates, x.gate) {
		remedy := "a sentence begins with the name of a gate, or with \"never more than\""
		if near, ok := phrase.Nearest(x.gate, gates); ok {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
		return x, &ExpectError{fmt.Sprintf("there is no gate %q", x.gate), remedy}
	}
	x.never = p.take("never")
	if !p.take("is") {
		p.take("was")
	}
	word := strings.ToLower(p.word())
	verb, known := verbsExpected[word]
	if !known {
		var list []string
		for w := range verbsExpected {
			list = append(list, w)
		}
		slices.Sort(list)
		remedy := "write opens, ends, fails, overruns, succeeds, waits, skipped, missed, refused or stopped"
		if near, ok := phrase.Nearest(word, list); ok {
			remedy = fmt.Sprintf("did you mean %q?", verbsExpected[near])
		}
		return x, &ExpectError{fmt.Sprintf("%q is nothing that a gate does", word), remedy}
	}
	x.verb = verb
	for len(p.words) > 0 {
		if err := p.part(&x); err != nil {
			return x, err
		}
	}
	if x.never && (x.least >= 0 || x.most >= 0) {
		return x, &ExpectError{fmt.Sprintf("%q says never, and how often", text), "leave one of them out"}
	}
	return x, nil
}

// expecting is a sentence that is read.
type expecting struct {
	words []string
	day   *Day
}

func (p *expecting) word() string {
	if len(p.words) == 0 {
		return ""
	}
	w := p.words[0]
	p.words = p.words[1:]
	return w
}

// take takes words, if they come next.
func (p *expecting) take(list ...string) bool {
	if len(p.words) < len(list) {
		return false
	}
	for i, w := range list {
		if strings.ToLower(p.words[i]) != w {
			return false
		}
	}
	p.words = p.words[len(list):]
	return true
}

func (p *expecting) number() (int, bool) {
	if len(p.words) == 0 {
		return 0, false
	}
	n, err := strconv.Atoi(p.words[0])
	if err != nil || n < 0 {
		return 0, false
	}
	p.words = p.words[1:]
	return n, true
}

// part reads how often, when, why or while what.
func (p *expecting) part(x *Expectation) error {
	switch {
	case p.take("once"):
		x.least, x.most = 1, 1
	case p.take("twice"):
		x.least, x.most = 2, 2
	case p.take("at", "least"):
		return p.times(func(n int) { x.least = n })
	case p.take("at", "most"):
		return p.times(func(n int) { x.most = n })
	case p.take("because", "of"), p.take("because"):
		if x.because = strings.ToLower(strings.Join(p.words, " ")); x.because == "" {
			return &ExpectError{"\"because\" says no reason", "write a word of it, such as: because power"}
		}
		p.words = nil
	case p.take("while"):
		return p.while(x)
	case p.take("on"):
		return p.on(x)
	case p.take("at"):
		return p.when(x, "at")
	case p.take("before"):
		return p.when(x, "before")
	case p.take("after"):
		return p.when(x, "after")
	default:
		if _, err := strconv.Atoi(p.words[0]); err == nil {
			return p.times(func(n int) { x.least, x.most = n, n })
		}
		return &ExpectError{fmt.Sprintf("%q does not belong here", p.words[0]), "after what the gate does comes how often (3 times, once), when (at 13:15, before 18:00, on mon), because …, or while …"}
	}
	return nil
}

func (p *expecting) times(set func(int)) error {
	n, ok := p.number()
	if !ok || !p.take("times") && !p.take("time") {
		return &ExpectError{"it does not say how often", "write for instance: 3 times"}
	}
	set(n)
	return nil
}

func (p *expecting) when(x *Expectation, rel string) error {
	w := p.word()
	ms, ok := clockOf(w)
	if !ok {
		return &ExpectError{fmt.Sprintf("%q is no time of day", w), "write for instance 13:15 or 13:15:30"}
	}
	x.rel, x.clock, x.seconds = rel, ms, strings.Count(w, ":") == 2
	return nil
}

// on reads days, as a phrase has them, up to the next part.
func (p *expecting) on(x *Expectation) error {
	var days []string
	for len(p.words) > 0 && !slices.Contains([]string{"because", "while", "at", "before", "after", "once", "twice"}, p.words[0]) {
		days = append(days, p.word())
	}
	q, err := phrase.Parse("at 00:00 on " + strings.Join(days, " "))
	if err == nil {
		x.days, err = q.Compile(phrase.Env{Zone: p.day.Zone})
	}
	if err != nil {
		return &ExpectError{fmt.Sprintf("%q are no days", strings.Join(days, " ")), "write for instance: on mon-fri"}
	}
	return nil
}

// while reads a state of the machine.
func (p *expecting) while(x *Expectation) error {
	for _, s := range [][]string{{"asleep"}, {"off"}, {"on", "battery"}, {"on", "mains"}, {"nobody", "is", "logged", "on"}, {"somebody", "is", "logged", "on"}} {
		if p.take(s...) {
			x.state = strings.Join(s, " ")
			return nil
		}
	}
	if len(p.words) >= 4 && strings.Join(p.words[1:4], " ") == "is logged on" {
		x.state, x.person = "logged on", p.words[0]
		p.words = p.words[4:]
		return nil
	}
	return &ExpectError{fmt.Sprintf("%q is no state of the machine", strings.Join(p.words, " ")), "write asleep, off, on battery, on mains, nobody is logged on, somebody is logged on, or NAME is logged on"}
}

// Failure is an expectation that does not hold.
type Failure struct {
	Expected string `json:"expected"`
	Actual   string `json:"actual"`
}

// done is something that a gate did.
type done struct {
	at   calendar.Instant
	text string // why
	rule string
}

// Check returns what was expected and is not so.
func (p *Played) Check(d *Day) []Failure {
	var out []Failure
	for i := range d.Expect {
		if actual := p.actual(&d.Expect[i], d); actual != "" {
			out = append(out, Failure{d.Expect[i].Text, actual})
		}
	}
	return out
}

// actual is what is so instead of what was expected, or "".
func (p *Played) actual(x *Expectation, d *Day) string {
	if x.atOnce > 0 || x.verb == "" {
		if most, at := p.together(); most > x.atOnce {
			return fmt.Sprintf("%d ran at once at %s", most, clockText(at, d))
		}
		return ""
	}
	all := p.doings(x)
	var hits []done
	for _, it := range all {
		if x.fits(&it, d) && x.inState(p, it.at) {
			hits = append(hits, it)
		}
	}
	told := fmt.Sprintf("%s %s", x.gate, past(x.verb, len(all))) + list(all, d, x.because != "")
	switch {
	case x.never && len(hits) > 0:
		return fmt.Sprintf("%s %s", x.gate, past(x.verb, len(hits))) + list(hits, d, false) + p.stateAt(x, hits[0].at)
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
			return fmt.Sprintf("%s %s", x.gate, past(x.verb, len(wrong))) + list(wrong, d, false)
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

// doings is everything of the kind that a gate did.
func (p *Played) doings(x *Expectation) []done {
	var out []done
	for i := range p.Decisions {
		k := &p.Decisions[i]
		if k.Gate != x.gate || !x.is(k) {
			continue
		}
		at := k.At
		if k.Kind == engine.Skip && k.Due != 0 {
			at = k.Due
		}
		out = append(out, done{at, words.Reason(k.Reason), k.Rule})
	}
	return out
}

// is reports whether a decision is of the kind that is expected.
func (x *Expectation) is(k *engine.Decision) bool {
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

// together returns how many programs ran at once at most, and when first.
func (p *Played) together() (most int, at calendar.Instant) {
	type edge struct {
		at calendar.Instant
		by int
	}
	var edges []edge
	for _, r := range p.Runs {
		edges = append(edges, edge{r.Started, 1})
		if r.End != 0 {
			edges = append(edges, edge{r.End, -1})
		}
	}
	slices.SortStableFunc(edges, func(a, b edge) int { return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.by, b.by)) })
	n := 0
	for _, e := range edges {
		if n += e.by; n > most {
			most, at = n, e.at
		}
	}
	return most, at
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
	if at%60_000 != 0 {
		layout = "15:04:05"
	}
	if d.To.Sub(d.From).Hours() > 25 {
		layout = "Mon 2 Jan " + layout
	}
	return at.Time().In(d.Zone.Location()).Format(layout)
}
