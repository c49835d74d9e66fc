package spoken

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// clock is a time of day in minutes.
type clock struct {
	minute int
	vague  bool // it may be of the other half of the day
	fixed  bool // its half was said
	either bool // both halves are as likely
}

func (c clock) String() string { return fmt.Sprintf("%02d:%02d", c.minute/60%24, c.minute%60) }

// numbers in words.
var numbers = map[string]int{"one": 1, "two": 2, "three": 3, "four": 4, "five": 5, "six": 6, "seven": 7, "eight": 8, "nine": 9, "ten": 10, "eleven": 11, "twelve": 12,
	"thirteen": 13, "fourteen": 14, "fifteen": 15, "sixteen": 16, "seventeen": 17, "eighteen": 18, "nineteen": 19, "twenty": 20, "thirty": 30, "forty": 40, "fifty": 50, "sixty": 60, "ninety": 90}

// number reads a count in figures or words.
func (r *reader) number() (int, bool) {
	w := r.word(0)
	if n, ok := numberIn(w); ok {
		r.at++
		if more, ok := numbers[r.word(0)]; ok && n >= 20 && n%10 == 0 && more < 10 { // twenty five
			r.at++
			n += more
		}
		return n, true
	}
	if n, err := strconv.Atoi(w); err == nil && n >= 0 && len(w) <= 4 {
		r.at++
		return n, true
	}
	return 0, false
}

// numberIn reads a number in words, such as twenty-five.
func numberIn(w string) (int, bool) {
	if n, ok := numbers[w]; ok {
		return n, true
	}
	tens, ones, ok := strings.Cut(w, "-")
	if ok = ok && numbers[tens] >= 20 && numbers[ones] > 0 && numbers[ones] < 10; !ok {
		return 0, false
	}
	return numbers[tens] + numbers[ones], true
}

// units by what people call them.
var units = map[string]string{"s": "s", "sec": "s", "secs": "s", "second": "s", "seconds": "s", "m": "m", "min": "m", "mins": "m", "minute": "m", "minutes": "m",
	"h": "h", "hr": "h", "hrs": "h", "hour": "h", "hours": "h", "d": "d", "day": "d", "days": "d", "w": "w", "week": "w", "weeks": "w",
	"month": "month", "months": "month", "year": "year", "years": "year", "quarter": "quarter", "quarters": "quarter", "fortnight": "fortnight", "fortnights": "fortnight"}

// span reads a length of time: 10 minutes, an hour and a half, 1.5 hours.
func (r *reader) span() (n int, unit string, ok bool) {
	begin := r.at
	switch {
	case r.skip("half", "an|a", "hour"), r.skip("half", "hour"), r.skip("a", "half", "hour"), r.skip("half-hour"):
		return 30, "m", true
	case r.skip("half", "a", "minute"):
		return 30, "s", true
	case r.skip("quarter", "of", "an", "hour"), r.skip("a", "quarter", "of", "an", "hour"), r.skip("quarter", "hour"):
		return 15, "m", true
	case r.skip("a|an"):
		n = 1
	case strings.HasSuffix(r.word(0), ".5") && units[r.word(1)] == "h":
		whole, err := strconv.Atoi(strings.TrimSuffix(r.word(0), ".5"))
		r.at += 2
		return whole*60 + 30, "m", err == nil
	default:
		if n, ok = r.number(); !ok {
			r.at = begin
			return 0, "", false
		}
		if r.skip("and", "a", "half") {
			if units[r.word(0)] == "h" {
				r.at++
				return n*60 + 30, "m", true
			}
			r.at = begin
			return 0, "", false
		}
		r.maybe("more")
	}
	if unit = units[r.word(0)]; unit == "" {
		r.at = begin
		return 0, "", false
	}
	r.at++
	return r.andMore(n, unit)
}

// andMore adds what is said behind a number of hours or minutes: and a half, 30
// minutes, and 10 seconds.
func (r *reader) andMore(n int, unit string) (int, string, bool) {
	if unit == "h" && r.skip("and", "a", "half") {
		return n*60 + 30, "m", true
	}
	begin := r.at
	r.maybe("and")
	more, ok := r.number()
	less := map[string]string{"h": "m", "m": "s"}[unit]
	if ok && less != "" && units[r.word(0)] == less && more < 60 {
		r.at++
		return n*60 + more, less, true
	}
	r.at = begin
	return n, unit, true
}

// spanOrUnit reads a span, or a unit alone: every minute.
func (r *reader) spanOrUnit() (n int, unit string, ok bool) {
	if unit = units[r.word(0)]; unit != "" && len(r.word(0)) > 1 && unit != "quarter" {
		r.at++
		return r.andMore(1, unit)
	}
	return r.span()
}

// clockHere reads a time of day.
func (r *reader) clockHere() (c clock, ok bool) {
	begin := r.at
	switch {
	case r.skip("noon|midday"), r.skip("12|twelve", "noon|midday"):
		return clock{minute: 12 * 60, fixed: true}, true
	case r.skip("midnight|midnite"), r.skip("12|twelve", "midnight"):
		return clock{fixed: true}, true
	case r.skip("half", "past"):
		if h, ok := r.hour(); ok {
			return r.half(clock{minute: h*60 + 30, vague: h < 13}), true
		}
	case r.skip("half"):
		if h, ok := r.hour(); ok {
			return r.half(clock{minute: h*60 + 30, vague: h < 13, either: h < 12}), true
		}
	case r.skip("quarter", "past|after"), r.skip("a", "quarter", "past|after"):
		if h, ok := r.hour(); ok {
			return r.half(clock{minute: h*60 + 15, vague: h < 13}), true
		}
	case r.skip("quarter", "to|before", "midnight"), r.skip("a", "quarter", "to|before", "midnight"):
		return clock{minute: 24*60 - 15, fixed: true}, true
	case r.skip("quarter", "to|before"), r.skip("a", "quarter", "to|before"):
		if h, ok := r.hour(); ok {
			return r.half(clock{minute: (h*60 + 24*60 - 15) % (24 * 60), vague: h < 13}), true
		}
	default:
		if c, ok := r.besideHour(); ok {
			return c, true
		}
		r.at = begin
		return r.figures()
	}
	r.at = begin
	return clock{}, false
}

// besideHour reads minutes before or after an hour: ten past nine, five minutes
// before midnight, an hour before noon.
func (r *reader) besideHour() (clock, bool) {
	n, unit, spanned := r.span()
	if !spanned {
		unit, spanned = "m", false
		var ok bool
		if n, ok = r.number(); !ok || n%5 != 0 {
			return clock{}, false
		}
	}
	if unit == "h" {
		n, unit = 60*n, "m"
	}
	past := r.skip("past") || spanned && r.skip("after")
	if past && n > 59 && r.word(-1) == "past" {
		return clock{}, false
	}
	if unit != "m" || n >= 24*60 || !past && !r.skip("to") && !(spanned && r.skip("before")) || r.windowing {
		return clock{}, false
	}
	h, vague := 0, false
	switch {
	case r.skip("noon|midday"):
		h = 12
	case r.skip("midnight"):
	default:
		var ok bool
		if h, ok = r.hour(); !ok || r.ahead("to", "-", "until") {
			return clock{}, false
		}
		vague = h < 13
	}
	if !past {
		n = -n
	}
	return r.half(clock{minute: (h*60 + n + 24*60) % (24 * 60), vague: vague, fixed: !vague}), true
}

// hour reads an hour in figures or words.
func (r *reader) hour() (int, bool) {
	begin := r.at
	n, ok := r.number()
	if ok && n <= 24 && (r.word(0) == "" || units[r.word(0)] == "") {
		return n % 24, true
	}
	r.at = begin
	return 0, false
}

// figures reads 9, 9:30, 09.30, 18h, 6 pm.
func (r *reader) figures() (clock, bool) {
	begin := r.at
	w := r.word(0)
	h, m, exact := 0, 0, false
	if n, known := numberIn(w); known {
		if n > 24 {
			return clock{}, false
		}
		h = n
		if next, ok := numberIn(r.word(1)); ok && next >= 10 && next < 60 && units[r.word(2)] == "" && r.word(2) != "times" { // nine thirty
			r.at++
			m, exact = next, true
		}
	} else if hours, ok := r.together(); ok {
		h, m, exact = hours/100, hours%100, true
	} else {
		parts := strings.FieldsFunc(w, func(c rune) bool { return c == ':' || c == '.' })
		if w == "" || len(parts) == 0 || len(parts) > 3 || strings.Contains(w, "-") {
			return clock{}, false
		}
		for i, p := range parts {
			n, err := strconv.Atoi(p)
			if err != nil || len(p) > 2 || i == 0 && n > 24 || i > 0 && (n > 59 || len(p) != 2) {
				return clock{}, false
			}
			switch i {
			case 0:
				h, exact = n, len(p) == 2
			case 1:
				m, exact = n, true
			case 2:
				if n != 0 {
					return clock{}, false // a clock of seconds is written strictly
				}
			}
		}
	}
	if h == 24 && m != 0 {
		return clock{}, false
	}
	r.at++
	if r.word(0) == "h" && m == 0 {
		exact = true
		r.at++
		if n, err := strconv.Atoi(r.word(0)); err == nil && n < 60 && len(r.word(0)) == 2 {
			m = n
			r.at++
		}
	}
	r.maybe("o'clock", "oclock", "hrs", "hours")
	if units[r.word(0)] != "" && r.word(0) != "h" || r.ahead("times", "x", "%") || units[r.word(-1)] != "" && r.at == begin+2 && !exact {
		r.at = begin // a span, or a number of something
		return clock{}, false
	}
	c := r.half(clock{minute: h*60 + m, vague: !exact && h <= 12})
	c.minute %= 24 * 60
	return c, true
}

// together reads a time whose hours and minutes stand together: 0900, where it
// is said to be a time.
func (r *reader) together() (int, bool) {
	w := r.word(0)
	n, err := strconv.Atoi(w)
	said := slices.Contains([]string{"at", "@", "by", "around", "from", "between", "and", "to", "until", "-"}, r.word(-1)) || slices.Contains([]string{"hrs", "hours"}, r.word(1))
	return n, err == nil && len(w) == 4 && n/100 < 24 && n%100 < 60 && said
}

// half reads which half of the day a time is in, if that is said.
func (r *reader) half(c clock) clock {
	w := strings.ReplaceAll(r.word(0), ".", "")
	part := ""
	switch {
	case w == "am" || w == "pm":
		part = map[string]string{"am": "morning", "pm": "afternoon"}[w]
		r.at++
	case r.skip("in", "the", "morning|afternoon|evening"), r.skip("at", "night"):
		part = r.word(-1)
	default:
		return c
	}
	c = c.in(part)
	c.vague, c.fixed, c.either = false, true, false
	return c
}

// in is the time of day that is meant by one in a part of the day.
func (c clock) in(part string) clock {
	hour := c.minute / 60
	switch {
	case part == "morning" && hour == 12, part == "night" && hour == 12:
		c.minute -= 12 * 60
	case part == "afternoon" && hour < 12, part == "evening" && hour < 12, part == "night" && hour >= 6 && hour < 12:
		c.minute += 12 * 60
	}
	return c
}

// takePart takes a part of the day: every evening, in the morning.
func (r *reader) takePart() bool {
	begin := r.at
	for r.ahead("in", "on", "at", "during", "over", "by", "the", "every", "each", ",") {
		r.at++
	}
	word := r.word(0)
	if word == "overnight" || word == "nightly" {
		word = "night"
	}
	part := strings.TrimSuffix(word, "s")
	if !slices.Contains([]string{"morning", "afternoon", "evening", "night"}, part) {
		r.at = begin
		return false
	}
	r.at++
	r.stuck = r.stuck || r.part != "" && r.part != part
	r.part = part
	return true
}

// takeTime takes one time of day or several.
func (r *reader) takeTime() bool {
	said := r.skip("at|@|by|around") || r.ahead("every", "each") && slices.Contains([]string{"noon", "midday", "midnight"}, r.word(1)) && r.skip("every|each")
	r.maybe("about", "exactly")
	begin := r.at
	c, ok := r.clockHere()
	bare := r.at == begin+1
	if !ok || !said && bare && c.vague && r.word(0) == "" && len(r.times) == 0 && len(r.days) == 0 && r.unit == "" && len(r.dates) == 0 && r.part == "" {
		return false
	}
	r.times = append(r.times, c)
	for {
		begin := r.at
		if !r.skip("and|,|&") {
			return true
		}
		r.maybe("and", "at")
		next, ok := r.clockHere()
		if !ok || slices.Contains([]string{"-", "to", "till", "until"}, r.word(0)) {
			r.at = begin
			return true
		}
		// "at 9 and 5 pm": each as it is said.
		r.times = append(r.times, next)
	}
}

// takeWindow takes from … to …, between … and …, and hours by name.
func (r *reader) takeWindow() bool {
	switch {
	case r.skip("during|in|within", "working|office|business|work", "hours"), r.skip("working|office|business|work", "hours"):
		r.setWindow(clock{minute: 9 * 60}, clock{minute: 17 * 60})
		r.office = true
		return true
	}
	word := ""
	r.windowing = true
	defer func() { r.windowing = false }()
	switch {
	case r.skip("between"):
		word = "and"
	case r.skip("from"):
		word = "to"
	case r.skip("starting|beginning", "at|from"), r.subDay() && r.skip("starting|beginning"):
		word = "starting"
	case r.subDay() && r.skip("after"):
		word = "starting"
	case r.subDay() && r.from == nil && r.since == nil && (r.skip("until|till") || r.skip("up", "to|until|till")):
		if c, ok := r.clockHere(); ok {
			r.setWindow(clock{}, c)
			r.filled = "00:00"
			return true
		}
		return false
	case r.subDay() && r.from == nil && r.since != nil && (r.skip("until|till") || r.skip("to")):
		c, ok := r.clockHere()
		if ok {
			r.setWindow(*r.since, c)
			r.since = nil
		}
		return ok
	}
	r.maybe("the", "hours", "of")
	a, ok := r.clockHere()
	if !ok {
		return false
	}
	if !r.skip("to|until|till|-") && !(word == "and" && r.skip("and|&")) {
		if r.since == nil && (word == "to" || word == "starting") {
			r.since = &a
			return true
		}
		return false
	}
	b, ok := r.clockHere()
	if !ok {
		return false
	}
	// 9 to 5: the second is later on the same day, unless it is said otherwise.
	if b.vague && b.minute <= a.minute && b.minute < 12*60 {
		b.minute += 12 * 60
		r.variants = append(r.variants, func() { r.to.minute -= 12 * 60 }) // over midnight
	}
	r.setWindow(a, b)
	return true
}

// setWindow notes the hours between which something happens; two such are two
// moments.
func (r *reader) setWindow(from, to clock) {
	r.stuck = r.stuck || r.from != nil
	r.from, r.to = &from, &to
}
