// Package spoken reads sayings such as "every other friday at half past six" and
// says them as phrases. It is tolerant where the grammar of phrases is strict,
// and never changes what that accepts: what it makes of a saying is an offer.
//
// It knows the vocabulary of moments, takes a saying apart into what it knows,
// and puts a phrase together from that. A word that it does not know is named;
// where two readings are sensible there are two.
package spoken

import (
	"fmt"
	"slices"
	"strings"
)

// A Reading is a phrase that a saying may mean.
type Reading struct {
	Phrase  string
	Guessed string   // what the saying left open and the reading has filled in, such as "09:00"
	Unknown []string // words that were not understood
}

// Today is what a saying such as "tomorrow" is about; its zero value is not
// known, and such sayings then have no reading.
type Today struct {
	Date   string // 2026-11-30
	Minute int    // of the day
	// Add returns the date so many days later, and its weekday's three letters.
	Add func(days int) (date, weekday string)
}

// Read returns what a saying may mean, the likeliest first; nothing where too
// little of it is understood.
func Read(saying string, today Today) []Reading {
	r := &reader{tokens: scan(saying), today: today}
	r.read()
	return r.compose()
}

// reader is what was understood so far.
type reader struct {
	tokens []token
	at     int
	today  Today

	event     string // canonical event, with its argument
	delay     string
	first     string // "day" or "week" with "first …"
	every     int    // of unit; 0 for none
	unit      string // s m h d week month year
	offset    int    // minutes after the hour
	times     []clock
	from, to  *clock
	guess     bool // the window is of hours without am or pm
	days      []string
	months    []string
	except    []string
	date      string
	zone      string
	starting  string
	ending    string
	count     int
	repeat    string // "then every …"
	perDay    int    // so often a day
	night     bool
	unknown   []string
	windowing bool // the ends of a window are being read
	stuck     bool // it is about something that cannot be said
}

// clock is a time of day in minutes; vague says that it may be of the other half
// of the day.
type clock struct {
	minute int
	vague  bool
}

func (c clock) String() string { return fmt.Sprintf("%02d:%02d", c.minute/60%24, c.minute%60) }

// read goes through the saying from left to right.
func (r *reader) read() {
	for r.at < len(r.tokens) {
		if !r.one() {
			r.unknown = append(r.unknown, r.tokens[r.at].text)
			r.at++
		}
	}
}

// one takes the longest thing that it knows from here.
func (r *reader) one() bool {
	for _, take := range []func(*reader) bool{(*reader).takeTail, (*reader).takeExcept, (*reader).takeRelative, (*reader).takeDelay, (*reader).takeEvent, (*reader).takeEvery,
		(*reader).takeWindow, (*reader).takeDate, (*reader).takeDays, (*reader).takeMonths, (*reader).takeTime, (*reader).takeDelayBehind, (*reader).takeFiller} {
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
	if i := r.at + ahead; i < len(r.tokens) {
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

// fillers mean nothing by themselves.
var fillers = []string{"the", "a", "an", "please", "on", "at", "in", "of", "it", "is", "run", "runs", "start", "starts", "started", "do", "my", "this", "that", "exactly", "sharp", "always", "just",
	"automatically", "program", "job", "script", "and", "then", ",", "also", "be", "should", "must", "to", "for", "each", "me", "around", "about", "time", "times", "during", "o'clock", "oclock", "hrs",
	"when", "whenever", "as", "soon", "once", "if", "every", "per", "day", "daily", "days", "morning", "evening", "afternoon", "today", "only", "over"}

func (r *reader) takeFiller() bool {
	if slices.Contains(fillers, r.word(0)) {
		r.at++
		return true
	}
	return false
}

// takeTail takes what bounds a saying.
func (r *reader) takeTail() bool {
	switch {
	case r.skip("starting|beginning") || r.skip("from") && isISO(r.word(0)):
		r.maybe("on", "from", "at")
		if isISO(r.word(0)) {
			r.stuck = r.stuck || r.starting != ""
			r.starting = r.word(0)
			r.at++
			return true
		}
	case r.skip("until|till|ending|by"):
		r.maybe("on")
		if isISO(r.word(0)) {
			r.stuck = r.stuck || r.ending != ""
			r.ending = r.word(0)
			r.at++
			return true
		}
	case r.skip("then", "every|each"):
		if n, unit, ok := r.span(); ok && r.skip("for") {
			if long, longUnit, ok := r.span(); ok {
				r.repeat = fmt.Sprintf("then every %d%s for %d%s", n, unit, long, longUnit)
				return true
			}
			if r.skip("ever") {
				r.repeat = fmt.Sprintf("then every %d%s for ever", n, unit)
				return true
			}
		}
	case r.skip("zone"), r.skip("in") && strings.Contains(r.word(0), "/") && !strings.HasPrefix(r.word(0), "/"):
		if r.at < len(r.tokens) {
			r.zone = "zone " + r.tokens[r.at].text
			r.at++
			r.maybe("time", "zone")
			return true
		}
	case r.skip("utc|gmt"):
		r.zone = "utc"
		return true
	}
	return false
}

// takeExcept takes days that are left out.
func (r *reader) takeExcept() bool {
	if !r.skip("except|but|excluding|without") && !r.skip("not") {
		return false
	}
	r.maybe("for", "on", "not", "the")
	if r.skip("days", "in") && r.at < len(r.tokens) {
		r.except = append(r.except, "days in "+r.tokens[r.at].text)
		r.at++
		return true
	}
	days := r.days
	r.days = nil
	for r.takeDays() || r.takeDate() && r.date == "" || r.skip("and|or|,") {
	}
	r.except, r.days = append(r.except, r.days...), days
	return len(r.except) > 0
}

// takeRelative takes what is meant from today on.
func (r *reader) takeRelative() bool {
	if r.today.Add == nil {
		r.stuck = r.stuck || slices.Contains([]string{"tomorrow", "tonight", "today"}, r.word(0))
		return false
	}
	on := func(days int) { r.date, _ = r.today.Add(days) }
	switch {
	case r.skip("tomorrow"):
		on(1)
	case r.skip("day", "after", "tomorrow"):
		on(2)
	case r.skip("tonight"):
		on(0)
		r.night = true
	case r.skip("today"):
		on(0)
	case r.skip("in"):
		n, unit, ok := r.span()
		minutes, known := map[string]int{"m": 1, "h": 60, "d": 24 * 60, "w": 7 * 24 * 60}[unit]
		if !ok || !known {
			return false
		}
		total := r.today.Minute + n*minutes
		on(total / (24 * 60))
		r.times = append(r.times, clock{minute: total % (24 * 60)})
	default:
		return false
	}
	return true
}

// takeDelay takes "30s after boot": a span before an event.
func (r *reader) takeDelay() bool {
	n, unit, ok := r.span()
	if !ok || !r.skip("after|past") || slices.Contains([]string{"d", "w"}, unit) {
		return false
	}
	r.maybe("the", "a", "every", "each")
	if !r.takeEvent() {
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
	r.maybe("+", "plus", "after")
	n, unit, ok := r.span()
	if ok {
		r.delay = fmt.Sprintf("%d%s", n, unit)
		r.maybe("later", "afterwards", "after", "delay")
	}
	return ok
}

func isISO(s string) bool { return len(s) == 10 && s[4] == '-' && s[7] == '-' }
