// Package spoken reads sayings such as "every other friday at half past six" and
// says them as phrases. It is tolerant where the grammar of phrases is strict,
// and never changes what that accepts: what it makes of a saying is an offer.
//
// It knows the vocabulary of moments, takes a saying apart into what it knows,
// and puts a phrase together from that. Each word of a saying is used, or means
// nothing by itself (fillers), or there is no offer and the word is named: an offer
// that means something else than was said is worse than none. Words that are
// mistyped are mended first, and that is said. Where two readings are sensible
// there are two; two moments that were said at once are two phrases.
package spoken

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"timegate/core/calendar"
)

// Heard is what was made of a saying.
type Heard struct {
	Readings []Reading // the likeliest first
	Several  []string  // or several moments that were said at once, a phrase each
	Mended   []Mended  // words that were mistyped
	Unknown  []string  // or words that were not understood
	Why      string    // nothing of the kind can be said; "" where that is not known
}

// A Reading is a phrase that a saying may mean.
type Reading struct {
	Phrase  string
	Guessed string // what the saying left open and the reading has filled in, such as "09:00"
}

// Mended is a word that was mistyped, and what it was read as.
type Mended struct{ Typed, Read string }

// Today is what a saying such as "tomorrow" is about. Its zero value is not known,
// and such sayings then have no reading.
type Today struct {
	Day    calendar.Day
	Minute int // of the day
}

// Read returns what a saying may mean. There is a reading only where each word was
// understood.
func Read(saying string, today Today) Heard {
	tokens := scan(saying)
	h := hear(tokens, today)
	if len(h.Readings) > 0 {
		return h
	}
	first := h
	var mended []Mended
	const rounds = 3 // what is mended lets other words be looked at that were taken for a part of it
	for range rounds {
		next, some := mend(tokens, h.Unknown)
		if len(some) == 0 {
			break
		}
		tokens, mended = next, append(mended, some...)
		if h = hear(tokens, today); len(h.Readings) > 0 {
			h.Mended = mended
			return h
		}
	}
	if parts := several(tokens, today); len(parts) > 0 {
		return Heard{Several: parts, Mended: mended}
	}
	first.Why = why(tokens)
	return first
}

// hear reads a saying once.
func hear(tokens []token, today Today) Heard {
	r := &reader{tokens: tokens, today: today, offset: -1}
	r.read()
	return Heard{Readings: r.compose(), Unknown: r.unknown}
}

// reader is what was understood so far.
type reader struct {
	tokens []token
	at     int
	today  Today

	event    string // canonical event, with its argument
	delay    string
	first    string // "day" or "week" with "first …"
	every    int    // of unit; 0 for none
	unit     string // s m h d w month quarter year
	offset   int    // minutes after the hour; -1 for none
	atEnd    bool   // of the quarter
	times    []clock
	relative *clock // the time of "in 3 days", if no other is said
	from, to *clock
	since    *clock // a beginning without an end
	office   bool   // the hours are those of work
	part     string // of the day: "morning", "afternoon", "evening" or "night"
	days     []string
	months   []string
	dates    []calendar.Day
	yearless []monthDay
	yearly   bool
	except   []string
	zone     string
	starting calendar.Day
	ending   calendar.Day
	count    int
	repeat   string // "then every …"
	lasting  string // how long an interval goes on after an event
	perDay   int    // so often a day
	perWeek  int
	success  string // the span after the last success
	guessed  string // what an event had filled in
	filled   string // the beginning of a window that was not said
	once     bool   // it is to happen one time
	now      bool   // it begins now
	slashes  bool   // a date was said that may be another one

	shape     string   // what was said, in its order: T for times, D for days
	variants  []func() // each changes the reading into another sensible one
	unknown   []string
	windowing bool // the ends of a window are being read
	stuck     bool // it is about something that cannot be said
}

// read goes through the saying from left to right.
func (r *reader) read() {
	for r.at < len(r.tokens) {
		times, days := len(r.times), len(r.days)+len(r.dates)+len(r.yearless)
		begin, unit := r.at, r.unit
		if !r.one() {
			w := r.tokens[r.at]
			r.stuck = r.stuck || turns(w.lower)
			r.unknown = append(r.unknown, w.text)
			r.at++
		}
		r.stuck = r.stuck || r.unit != unit && r.event != "" && r.joined(begin)
		if len(r.times) > times && !strings.HasSuffix(r.shape, "T") {
			r.shape += "T"
		}
		if len(r.days)+len(r.dates)+len(r.yearless) > days && !strings.HasSuffix(r.shape, "D") {
			r.shape += "D"
		}
	}
	// "at 9 on mon and at 10 on tue" is two moments.
	r.stuck = r.stuck || strings.Contains(r.shape, "TDT") || strings.Contains(r.shape, "DTDT")
	if r.event != "" && r.subDay() && r.repeat == "" {
		r.repeat = fmt.Sprintf("then every %d%s for %s", r.every, r.unit, cmp.Or(r.lasting, "ever"))
		r.unit, r.every = "", 0
	} else if r.lasting != "" {
		r.stuck = true // from when on?
	}
	r.stuck = r.stuck || r.event != "" && r.clocked()
}

// turns reports whether a word may turn the meaning of what stands beside it.
func turns(w string) bool {
	return units[w] != "" || dayOf(w) != "" || monthOf(w) != "" || slices.Contains([]string{"before", "after", "except", "but", "not", "unless", "or", "until", "till", "from", "between", "half", "quarter", "first", "last", "next", "other",
		"alternate", "every", "bar", "apart", "each", "never", "no", "none", "without", "everyone", "everybody", "nobody", "neither", "both", "while", "past", "to", "all", "than", "minus", "low", "below", "under", "above", "full", "exists", "excluded", "nothing", "later", "earlier", "quiet"}, w)
}

// one takes the first thing that it knows from here; what is said in more words comes
// before what is said in fewer.
func (r *reader) one() bool {
	return r.anyOf((*reader).takeStarting, (*reader).takeEnding, (*reader).takeRepeat, (*reader).takeForDays, (*reader).takeHowOften, (*reader).takeZone, (*reader).takeExcept, (*reader).takeSuccess,
		(*reader).takeRelative, (*reader).takeDelay, (*reader).takeMinutesPast, (*reader).takePast, (*reader).takeEvent, (*reader).takeEvery, (*reader).takePart, (*reader).takeWindow, (*reader).takeDate, (*reader).takeDays,
		(*reader).takeMonths, (*reader).takeTime, (*reader).takeDelayBehind, (*reader).takeCondition, (*reader).takeFiller)
}

// anyOf takes what the first of some can take. One that cannot leaves the place as it
// was.
func (r *reader) anyOf(takes ...func(*reader) bool) bool {
	for _, take := range takes {
		before := r.at
		if take(r) && r.at > before {
			return true
		}
		r.at = before
	}
	return false
}

// word returns a word ahead in small letters, or "".
func (r *reader) word(ahead int) string {
	if i := r.at + ahead; i >= 0 && i < len(r.tokens) {
		return r.tokens[i].lower
	}
	return ""
}

// skip goes over words that stand here, and reports whether they all do.
func (r *reader) skip(words ...string) bool {
	for i, w := range words {
		if !slices.Contains(strings.Split(w, "|"), r.word(i)) {
			return false
		}
	}
	r.at += len(words)
	return true
}

// maybe goes over any of some words.
func (r *reader) maybe(words ...string) {
	for slices.Contains(words, r.word(0)) && r.word(0) != "" {
		r.at++
	}
}

func (r *reader) ahead(words ...string) bool { return slices.Contains(words, r.word(0)) }

// joined reports whether what begins here is joined to what was said before.
func (r *reader) joined(begin int) bool {
	return begin > 0 && slices.Contains([]string{"and", "or", "&", "also"}, r.tokens[begin-1].lower)
}

// subDay reports whether an interval below a day was said.
func (r *reader) subDay() bool { return r.unit == "s" || r.unit == "m" || r.unit == "h" }

// clocked reports whether a moment by the clock was said already.
func (r *reader) clocked() bool { return len(r.times) > 0 || r.unit != "" || r.perDay > 0 }

// fillers mean nothing by themselves.
var fillers = []string{"the", "teh", "a", "an", "please", "on", "at", "in", "of", "it", "is", "run", "runs", "start", "starts", "started", "do", "my", "that", "exactly", "sharp", "always", "just",
	"automatically", "program", "job", "script", "and", "then", ",", "also", "be", "should", "must", "for", "me", "around", "about", "time", "times", "o'clock", "oclock", "hrs",
	"as", "soon", "once", "per", "only", "over", "precisely", "prompt", "regularly", "i", "want", "would", "like", "we"}

// idioms are several words that mean nothing together.
var idioms = [][]string{{"seven", "days", "a", "week"}, {"7", "days", "a", "week"}, {"24", "hours", "a", "day"}, {"all|the", "day|days", "long"}, {"all|whole", "day|days"}, {"around|round", "the", "clock"},
	{"day", "and", "night"}, {"all", "the", "time"}, {"every|each|per|a|any", "day|days"}, {"to", "start|run|be"}, {"from", "now", "on"}, {"all", "year", "round"}, {"all", "year"}}

func (r *reader) takeFiller() bool {
	for _, words := range idioms {
		if r.skip(words...) {
			return true
		}
	}
	if slices.Contains(fillers, r.word(0)) {
		r.once = r.once || r.word(0) == "once"
		r.at++
		return true
	}
	return false
}

// takeCondition takes what must hold besides, which no phrase can say. It is named
// whole.
func (r *reader) takeCondition() bool {
	if !r.ahead("if", "while", "when", "whenever", "unless", "provided", "except", "but", "excluding", "without", "not", "only") || r.ahead("only") && !slices.Contains([]string{"if", "when", "while", "with"}, r.word(1)) {
		return false
	}
	r.condition(r.at)
	return true
}

// condition names the words from begin on as one that is not understood, up to a
// time of day that is still to be said.
func (r *reader) condition(begin int) {
	r.at = max(r.at, begin+1)
	for r.at < len(r.tokens) && (r.clocked() || !r.skip("at")) {
		r.at++
	}
	if r.at < len(r.tokens) {
		r.at--
	}
	r.stuck = r.stuck || !r.clocked() && r.event == "" && len(r.days) == 0 || r.joined(begin)
	var words []string
	for _, t := range r.tokens[begin:r.at] {
		words = append(words, t.text)
	}
	r.unknown = append(r.unknown, strings.ReplaceAll(strings.Join(words, " "), " ,", ","))
}

// takeStarting takes the date from which on something happens, or that it does from now on.
func (r *reader) takeStarting() bool {
	if r.today.Day != 0 && (r.skip("starting|beginning|since", "now") || r.skip("from", "now", "on")) {
		r.now = true
		return true
	}
	return r.skip("starting|beginning|from|since|after") && r.boundHere(&r.starting)
}

// takeEnding takes the date up to which it does.
func (r *reader) takeEnding() bool {
	return (r.skip("until|till|ending|by|through") || r.starting != 0 && r.skip("to")) && r.boundHere(&r.ending)
}

// takeRepeat takes "then every 20 seconds for 3 minutes".
func (r *reader) takeRepeat() bool {
	if !r.skip("then", "every|each") {
		return false
	}
	n, unit, ok := r.spanOrUnit()
	if !ok || !r.skip("for") {
		return false
	}
	if long, longUnit, ok := r.span(); ok {
		r.repeat = fmt.Sprintf("then every %d%s for %d%s", n, unit, long, longUnit)
		return true
	}
	r.repeat = fmt.Sprintf("then every %d%s for ever", n, unit)
	return r.skip("ever")
}

// boundHere reads the date at which a saying begins or ends.
func (r *reader) boundHere(bound *calendar.Day) bool {
	r.maybe("on", "from", "at", "the")
	day, ok := r.dateHere()
	if !ok {
		return false
	}
	r.stuck = r.stuck || *bound != 0
	*bound = day
	return true
}

// takeHowOften takes how often a moment comes: 10 times.
func (r *reader) takeHowOften() bool {
	if !r.clocked() && r.event == "" {
		return false
	}
	r.maybe(",", "for", "only")
	n, ok := r.number()
	if !ok || n < 1 || !r.skip("times") || r.ahead("a", "per", "each", "every", "daily", "an") {
		return false
	}
	r.count = n
	return true
}

// takeForDays takes how long a saying holds from today on: for two weeks.
func (r *reader) takeForDays() bool {
	if !r.skip("for") {
		return false
	}
	r.maybe("the", "next")
	n, unit, ok := r.span()
	if ok && (r.subDay() || r.event != "") && (unit == "s" || unit == "m" || unit == "h") && r.lasting == "" {
		r.lasting = fmt.Sprintf("%d%s", n, unit)
		return true
	}
	if !ok || !r.clocked() || unit != "d" && unit != "w" && unit != "month" {
		return false
	}
	r.stuck = r.stuck || r.today.Day == 0 || r.ending != 0 || n == 0
	begin := r.today.Day
	if r.starting != 0 {
		begin = r.starting
	}
	r.starting, r.ending = begin, later(begin, n, unit)-1
	return true
}

// takeExcept takes days that are left out.
func (r *reader) takeExcept() bool {
	begin := r.at
	r.maybe(",", "and")
	if r.ahead("that") && r.word(1) == "is" && r.word(2) == "not" {
		r.at += 2
	}
	if !r.skip("except|but|excluding|without|unless|not|bar|barring") && !r.skip("other", "than") && !r.skip("apart|aside", "from") && !r.skip("leaving", "out") {
		return false
	}
	if r.exceptNth() {
		return true
	}
	r.maybe("for", "on", "not", "the", "if", "it", "is", "a", "at", "in")
	if r.skip("days", "in") && r.at < len(r.tokens) {
		r.except = append(r.except, "days in "+r.tokens[r.at].text)
		r.at++
		return true
	}
	if r.word(-1) == "in" {
		r.at-- // a month or a file
	}
	days, months := r.days, r.months
	r.days, r.months = nil, nil
	for {
		if day, ok := r.dateHere(); ok {
			r.days = append(r.days, day.String())
		} else if !r.takeDays() && !r.skip("and|or|,") {
			break
		}
	}
	found := r.days
	ok := len(found) > 0 && len(r.months) == 0
	r.days, r.months = days, months
	if !ok {
		r.at = begin
		return false
	}
	if slices.Contains([]string{",", "and", "or"}, r.word(-1)) {
		r.at-- // it joins what follows
	}
	r.except = append(r.except, found...)
	return true
}

// exceptNth takes "except the first one" of a month, behind the one weekday that was said.
func (r *reader) exceptNth() bool {
	begin := r.at
	r.maybe("for", "on", "the")
	nth := r.ordinal()
	inWords := slices.Contains(ordinals, r.word(-1)) || r.word(-1) == "last"
	if nth == "" || len(r.days) != 1 || !slices.Contains(weekdays, r.days[0]) || !r.skip("one") && !r.ofMonth() && !(inWords && r.followsDay()) {
		r.at = begin
		return false
	}
	r.ofMonth()
	r.except = append(r.except, nth+" "+r.days[0])
	return true
}

// followsDay reports whether what stands here may follow a day: a time, or nothing.
func (r *reader) followsDay() bool { return r.ahead("", "at", "@", ",", "in", "starting", "until") }

// takeSuccess takes "a day after the last success".
func (r *reader) takeSuccess() bool {
	r.maybe("every")
	n, unit, ok := r.spanOrUnit()
	if !ok || !r.skip("after|from|since") {
		return false
	}
	r.maybe("the", "its", "it", "has", "was", "last", "latest", "previous")
	if !r.skip("success|succeeded|successful") {
		return false
	}
	r.maybe("run", "start")
	r.success = fmt.Sprintf("%d%s", n, unit)
	return true
}

// takeDelay takes "30s after boot": a span before an event.
func (r *reader) takeDelay() bool {
	n, unit, ok := r.span()
	if !ok || !r.skip("after|past|from|following") || slices.Contains([]string{"d", "w"}, unit) {
		return false
	}
	r.maybe("the", "a", "every", "each")
	if r.event != "" || r.clocked() || !r.takeEvent() {
		return false
	}
	r.delay = fmt.Sprintf("%d%s", n, unit)
	return true
}

// takeDelayBehind takes a delay that is said behind its event: "boot + 45s".
func (r *reader) takeDelayBehind() bool {
	if r.event == "" || r.delay != "" {
		return false
	}
	r.maybe("+", "plus", "after", ",", "and", "with", "then", "wait")
	n, unit, ok := r.span()
	if ok {
		r.delay = fmt.Sprintf("%d%s", n, unit)
		r.maybe("later", "afterwards", "after", "delay")
	}
	return ok
}

func isISO(s string) bool { return len(s) == 10 && s[4] == '-' && s[7] == '-' }
