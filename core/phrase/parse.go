package phrase

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"timegate/core/calendar"
)

// maxText bounds the length of a phrase in bytes.
const maxText = 4096

// Parse reads a phrase. Its error is an [*Error].
func Parse(text string) (*Phrase, error) {
	p, err := parse(text)
	if err != nil {
		err.offer()
		return nil, err
	}
	return p, nil
}

func parse(text string) (*Phrase, *Error) {
	p := &parser{text: text, out: &Phrase{text: text, marks: map[string]token{}}, aheadOf: -1}
	if err := p.phrase(); err != nil {
		return nil, err
	}
	return p.out, nil
}

// phrase reads the whole text.
func (p *parser) phrase() (failure *Error) {
	defer func() {
		if r := recover(); r != nil {
			e, ok := r.(*Error)
			if !ok {
				panic(r)
			}
			failure = e
		}
	}()
	if len(p.text) > maxText {
		p.text = p.text[:40]
		p.failAt(token{}, "the phrase is longer than %d bytes", maxText)
	}
	p.moment()
	p.tails()
	p.complete()
	return nil
}

type parser struct {
	text string
	pos  int    // end of the last token taken
	last string // what the last word was, for "after …"
	out  *Phrase

	ahead   token // the token after pos,
	aheadOf int   // where it was looked for; -1 for nowhere yet

	ended bool // the end of the text was come to
	named Name // what kind of name the text ends with
}

func (p *parser) peek() token {
	if p.aheadOf != p.pos {
		p.ahead, p.aheadOf = lex(p.text, p.pos), p.pos
		p.ended = p.ended || p.ahead.kind == eof
	}
	return p.ahead
}

func (p *parser) take() token {
	t := p.peek()
	p.pos, p.last = t.end, p.text[t.pos:t.end]
	return t
}

// accept takes the next token if it is one of the words.
func (p *parser) accept(words ...string) bool {
	if t := p.peek(); t.kind == word && slices.Contains(words, t.lower()) {
		p.take()
		return true
	}
	return false
}

func (p *parser) expect(what string, words ...string) token {
	t := p.peek()
	if !p.accept(words...) {
		p.wanted(t, what, words...)
	}
	return t
}

func (p *parser) failAt(t token, format string, args ...any) {
	panic(&Error{Text: p.text, Pos: t.pos, Len: t.end - t.pos, Problem: fmt.Sprintf(format, args...)})
}

// failWith fails with a remedy or a phrase to offer.
func (p *parser) failWith(t token, remedy, format string, args ...any) {
	panic(&Error{Text: p.text, Pos: t.pos, Len: t.end - t.pos, Problem: fmt.Sprintf(format, args...), Remedy: remedy})
}

// wanted fails because t stands where something else must stand; near are
// words that could.
func (p *parser) wanted(t token, what string, near ...string) {
	e := &Error{Text: p.text, Pos: t.pos, Len: t.end - t.pos}
	switch {
	case t.kind == eof && p.pos == 0:
		e.Problem = "the phrase is empty: expected " + what
	case t.kind == eof:
		e.Problem = fmt.Sprintf("the phrase ends after %q: expected %s", p.last, what)
	default:
		e.Problem = fmt.Sprintf("expected %s, not %q", what, p.text[t.pos:t.end])
		e.Offer = nearest(p.text, t, near)
	}
	panic(e)
}

var beginnings = []string{"at", "every", "first"}

func (p *parser) moment() {
	t := p.peek()
	switch {
	case p.accept("at"):
		p.out.Kind = Clock
		p.times()
		p.days(daysOnInStride)
	case p.accept("every"):
		p.interval()
	case t.kind == word && (t.lower() == "first" || slices.Contains(eventWords, t.lower())):
		p.out.Kind = Event
		p.event()
	default:
		p.wanted(t, `"at", "every" or an event such as "boot"`, append(beginnings, eventWords...)...)
	}
}

func (p *parser) times() {
	for {
		p.out.Times = append(p.out.Times, p.time())
		if next := lex(p.text, p.peek().end); p.peek().kind != comma || !looksLikeTime(next) {
			break
		}
		p.take()
	}
	slices.Sort(p.out.Times)
	p.out.Times = slices.Compact(p.out.Times)
}

func looksLikeTime(t token) bool {
	return t.kind == clock || t.kind == other && strings.Contains(t.text, ":")
}

func (p *parser) time() Time {
	t := p.peek()
	if t.kind != clock {
		p.wanted(t, "a time such as 08:15")
	}
	parts := strings.Split(t.text, ":")
	if len(parts[0]) != 2 {
		panic(&Error{Text: p.text, Pos: t.pos, Len: t.end - t.pos,
			Problem: fmt.Sprintf("%q has an hour of one digit", t.text), Offer: replace(p.text, t, "0"+t.text)})
	}
	limits := []int{23, 59, 59}
	total := 0
	for i := range limits {
		n := 0
		if i < len(parts) {
			n, _ = strconv.Atoi(parts[i])
		}
		if n > limits[i] {
			e := &Error{Text: p.text, Pos: t.pos, Len: t.end - t.pos,
				Problem: fmt.Sprintf("%q is not a time of day: 00:00 to 23:59:59", t.text)}
			if strings.HasPrefix(t.text, "24:00") {
				e.Offer = replace(p.text, t, "00:00")
			}
			panic(e)
		}
		total = total*60 + n
	}
	p.take()
	return Time(total)
}

func (p *parser) span(what string) time.Duration {
	t := p.peek()
	if t.kind != span {
		p.wanted(t, what)
	}
	d, err := ParseSpan(t.text)
	if err != nil {
		p.failAt(t, "%v", err)
	}
	p.take()
	if next := p.peek(); next.kind == span {
		panic(&Error{Text: p.text, Pos: next.pos, Len: next.end - next.pos,
			Problem: "a duration is written without blanks", Offer: p.text[:t.end] + p.text[next.pos:]})
	}
	if d <= 0 {
		p.failAt(t, "%q is no time at all", t.text)
	}
	return d
}

func (p *parser) date() calendar.Day {
	t := p.peek()
	if t.kind != date {
		p.wanted(t, "a date such as 2026-11-27")
	}
	d, err := calendar.ParseDay(t.text)
	if err != nil {
		p.failAt(t, "%q is not a day of the calendar", t.text)
	}
	p.take()
	return d
}

// dateTime reads a date with an optional time.
func (p *parser) dateTime() DateTime {
	d := DateTime{Day: p.date()}
	if looksLikeTime(p.peek()) {
		d.Time, d.HasTime = p.time(), true
	}
	return d
}

func (p *parser) number(what string, most int) int {
	t := p.peek()
	n, err := strconv.Atoi(t.text)
	if t.kind != number {
		p.wanted(t, what)
	}
	if err != nil || n < 1 || n > most {
		p.failAt(t, "%s is out of range: 1 to %d", t.text, most)
	}
	p.take()
	return n
}

func (p *parser) interval() {
	q := p.out
	q.Kind = Interval
	t := p.peek()
	q.Every = p.span("a duration such as 20m")
	p.mark("every", t)
	switch {
	case p.accept("since"):
		q.Kind = Since
		q.Since = p.dateTime()
	case p.accept("after"):
		p.expect(`"success"`, "success")
		q.Kind = AfterSuccess
	default:
		p.days(daysOnInStride | daysWindow)
		if q.Window == nil && day%q.Every != 0 {
			p.failUneven(t)
		}
	}
}

// failUneven explains why an interval without a window must divide the day.
func (p *parser) failUneven(t token) {
	since := p.text[:t.end] + " since 2026-01-01 00:00"
	if p.out.Every > day && p.out.Every%day == 0 {
		p.failWith(t, fmt.Sprintf(`write "at TIME every %d days from DATE", or count from an instant: %q`, p.out.Every/day, since),
			"%s is longer than a day, so there is no hour for it to begin with", FormatSpan(p.out.Every))
	}
	p.failWith(t, fmt.Sprintf(`take one that does, give a window ("from 09:00 to 17:00"), or count from an instant: %q`, since),
		"%s does not divide the day, so the last step before midnight would be shorter", FormatSpan(p.out.Every))
}

type daysAllowed int

const (
	daysOnIn       daysAllowed = 0
	daysWindow     daysAllowed = 1 << iota
	daysStride                 //
	daysOnInStride = daysStride
)

// days reads the window, "on", "in" and the stride, in any order, each once.
func (p *parser) days(allowed daysAllowed) {
	for {
		t := p.peek()
		if t.kind != word {
			return
		}
		what := t.lower()
		switch {
		case what == "from" && allowed&daysWindow != 0:
		case what == "every" && allowed&daysStride != 0:
		case what == "on", what == "in":
		default:
			return
		}
		if _, twice := p.out.marks[what]; twice && what != "every" || what == "every" && p.out.Stride.Unit != 0 {
			p.failAt(t, "%q is given twice", what)
		}
		p.take()
		p.mark(what, t)
		switch what {
		case "from":
			p.window(t)
		case "every":
			p.stride(t)
		case "on":
			p.out.On = p.dayList()
		case "in":
			p.out.In = p.months()
		}
	}
}

func (p *parser) mark(part string, t token) { p.out.marks[part] = t }

func (p *parser) window(from token) {
	w := &Window{}
	w.From = p.time()
	p.expect(`"to"`, "to")
	w.To = p.time()
	if w.From == w.To {
		p.failWith(token{pos: from.pos, end: p.pos}, `for the whole day leave "from … to …" out`, "the window has no length")
	}
	p.out.Window = w
}

var strideUnits = []string{"day", "week", "month", "year"}

func (p *parser) stride(every token) {
	s := &p.out.Stride
	s.Every = p.number("a number", 9999)
	t := p.peek()
	for i, u := range strideUnits {
		if p.accept(u, u+"s") {
			s.Unit = calendar.Unit(i + 1)
		}
	}
	if s.Unit == calendar.NoStride {
		p.wanted(t, "days, weeks, months or years", "days", "weeks", "months", "years")
	}
	if !p.accept("from") {
		p.failWith(token{pos: every.pos, end: p.pos}, `say from when it counts: "from 2026-11-02"`, "the stride has no start")
	}
	s.From = p.date()
}

// months reads the list after "in".
func (p *parser) months() calendar.Months {
	var set calendar.Months
	for {
		from := p.month()
		to := from
		if p.peek().kind == minus {
			p.take()
			to = p.month()
		}
		for m := from; ; m = (m + 1) % 12 {
			set |= 1 << m
			if m == to {
				break
			}
		}
		next := lex(p.text, p.peek().end)
		if p.peek().kind != comma || nameIndex(monthNames, next) < 0 {
			return set
		}
		p.take()
	}
}

func (p *parser) month() int {
	t := p.peek()
	i := nameIndex(monthNames, t)
	if i < 0 {
		p.wanted(t, "a month such as mar", slices.Concat(short(monthNames), monthNames)...)
	}
	p.take()
	return i
}

// tails reads what follows the moment, in any order, each once.
func (p *parser) tails() {
	for {
		t := p.peek()
		switch t.kind {
		case eof:
			return
		case comma:
			p.take()
			p.tail()
		default:
			p.wanted(t, "a comma or the end", p.couldFollow()...)
		}
	}
}

func (p *parser) couldFollow() []string {
	if p.out.Kind == Event {
		return []string{"from", "on", "in", "of"}
	}
	return []string{"from", "on", "in", "every", "since", "after"}
}

var tailWords = []string{"then", "starting", "ending", "zone", "utc", "except"}

func (p *parser) tail() {
	t := p.peek()
	part := t.lower()
	switch {
	case part == "utc":
		part = "zone"
	case t.kind == number:
		part = "times"
	}
	if _, twice := p.out.marks[part]; twice {
		p.failAt(t, "%q is given twice", part)
	}
	q := p.out
	switch {
	case p.accept("then"):
		p.repeat()
	case t.kind == number:
		q.Limit = int64(p.number("a number", 1_000_000))
		p.expect(`"times"`, "times", "time")
	case p.accept("starting"):
		d := p.dateTime()
		q.Starting = &d
	case p.accept("ending"):
		d := p.dateTime()
		q.Ending = &d
	case p.accept("utc"):
		q.Zone = "UTC"
	case p.accept("zone"):
		q.Zone = p.bare(ZoneName, "the name of a time zone such as Europe/London")
	case p.accept("except"):
		p.except()
	default:
		p.wanted(t, `"then every …", "starting …", "ending …", "N times", "zone …" or "except …"`, tailWords...)
	}
	p.mark(part, token{t.kind, p.text[t.pos:p.pos], t.pos, p.pos})
}

func (p *parser) repeat() {
	p.expect(`"every"`, "every")
	r := &Repeat{Every: p.span("a duration such as 20s")}
	p.expect(`"for" and a duration, or "ever"`, "for")
	if t := p.peek(); p.accept("ever") {
		r.Ever = true
	} else if r.For = p.span(`a duration such as 3m, or "ever"`); r.For < r.Every {
		p.failAt(t, "a repeat every %s never comes within %s", FormatSpan(r.Every), FormatSpan(r.For))
	}
	p.out.Repeat = r
}

func (p *parser) except() {
	t := p.peek()
	if p.accept("days") {
		p.expect(`"in"`, "in")
		p.out.ExceptFile = p.path()
		return
	}
	if p.out.Kind == AfterSuccess {
		p.failAt(t, `"after success" has no days to except`)
	}
	p.out.Except = p.dayList()
}

// bare reads a name, a path or a glob: a quoted string, or a run without
// blank, comma or quote.
func (p *parser) bare(kind Name, what string) string {
	t := p.peek()
	if t.kind != quoted {
		t = lexBare(p.text, p.pos)
	}
	if t.text == "" {
		p.wanted(p.peek(), what)
	}
	if t.end == len(p.text) {
		p.named = kind
	}
	p.pos, p.last = t.end, p.text[t.pos:t.end]
	return t.text
}

// path reads a path that begins with / or ~.
func (p *parser) path() string {
	start := p.peek()
	path := p.bare(PathName, "a path")
	if path[0] != '/' && path[0] != '~' {
		p.failWith(token{pos: start.pos, end: p.pos}, "write the path from the root: /… or ~/…", "%q is not a whole path", path)
	}
	return path
}
