package rehearsal

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"timegate/core/phrase"
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
//
// GATE/OPENING stands for one opening of a gate. Of moments that one row stands for,
// each counts.
type Expectation struct {
	Text string

	gate    string
	never   bool
	verb    string
	least   int // how often at least, and at most; -1 for any number
	most    int
	rel     string // at, before or after; "" for any time
	opening string // of the gate; "" for any
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
	x.gate, x.opening, _ = strings.Cut(p.word(), "/")
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
	case len(p.words) > 1 && p.words[0] == "on" && (p.words[1] == "battery" || p.words[1] == "mains"):
		return &ExpectError{"a state of the machine is told with while", "write while on " + p.words[1]}
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
