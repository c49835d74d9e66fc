package spoken

import (
	"slices"
	"strconv"
	"strings"
)

// numbers in words.
var numbers = map[string]int{"one": 1, "two": 2, "three": 3, "four": 4, "five": 5, "six": 6, "seven": 7, "eight": 8, "nine": 9, "ten": 10, "eleven": 11, "twelve": 12,
	"fifteen": 15, "twenty": 20, "thirty": 30, "forty": 40, "forty-five": 45, "sixty": 60, "ninety": 90}

// number reads a count in figures or words.
func (r *reader) number() (int, bool) {
	w := r.word(0)
	if n, ok := numbers[w]; ok {
		r.at++
		return n, true
	}
	if n, err := strconv.Atoi(w); err == nil && n >= 0 && len(w) <= 4 {
		r.at++
		return n, true
	}
	return 0, false
}

// units by what people call them.
var units = map[string]string{"s": "s", "sec": "s", "secs": "s", "second": "s", "seconds": "s", "m": "m", "min": "m", "mins": "m", "minute": "m", "minutes": "m",
	"h": "h", "hr": "h", "hrs": "h", "hour": "h", "hours": "h", "d": "d", "day": "d", "days": "d", "w": "w", "week": "w", "weeks": "w",
	"month": "month", "months": "month", "year": "year", "years": "year", "quarter": "quarter", "quarters": "quarter", "fortnight": "fortnight", "fortnights": "fortnight"}

// span reads a length of time: 10 minutes, an hour, half an hour.
func (r *reader) span() (n int, unit string, ok bool) {
	begin := r.at
	switch {
	case r.skip("half", "an|a", "hour"), r.skip("half", "hour"):
		return 30, "m", true
	case r.skip("quarter", "of", "an", "hour"), r.skip("a", "quarter", "of", "an", "hour"):
		return 15, "m", true
	case r.skip("a|an"):
		n = 1
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
	}
	if unit = units[r.word(0)]; unit == "" {
		r.at = begin
		return 0, "", false
	}
	r.at++
	return n, unit, true
}

// clockHere reads a time of day.
func (r *reader) clockHere() (c clock, ok bool) {
	begin := r.at
	switch {
	case r.skip("noon|midday"):
		return clock{minute: 12 * 60}, true
	case r.skip("midnight"):
		return clock{}, true
	case r.skip("half", "past"), r.skip("half"):
		if h, ok := r.hour(); ok {
			return r.half(clock{h*60 + 30, h < 13}), true
		}
	case r.skip("quarter", "past|after"), r.skip("a", "quarter", "past|after"):
		if h, ok := r.hour(); ok {
			return r.half(clock{h*60 + 15, h < 13}), true
		}
	case r.skip("quarter", "to|before"), r.skip("a", "quarter", "to|before"):
		if h, ok := r.hour(); ok {
			return r.half(clock{(h*60 + 24*60 - 15) % (24 * 60), h < 13}), true
		}
	default:
		if n, ok := r.number(); ok {
			r.maybe("minutes", "minute")
			if past := r.skip("past"); past || r.skip("to") {
				if h, isHour := r.hour(); isHour && n < 60 && n%5 == 0 && !r.windowing && !r.ahead("to", "-", "until") {
					if !past {
						n = -n
					}
					return r.half(clock{(h*60 + n + 24*60) % (24 * 60), h < 13}), true
				}
			}
		}
		r.at = begin
		return r.figures()
	}
	r.at = begin
	return clock{}, false
}

func (r *reader) ahead(words ...string) bool { return slices.Contains(words, r.word(0)) }

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
	if n, known := numbers[w]; known && n <= 12 {
		h = n
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
	r.at++
	if r.word(0) == "h" && m == 0 {
		exact = true
		r.at++
		if n, err := strconv.Atoi(r.word(0)); err == nil && n < 60 && len(r.word(0)) == 2 {
			m = n
			r.at++
		}
	}
	r.maybe("o'clock", "oclock")
	if units[r.word(0)] != "" && r.word(0) != "h" {
		r.at = begin // a span
		return clock{}, false
	}
	c := r.half(clock{h*60 + m, !exact && h <= 12})
	c.minute %= 24 * 60
	return c, true
}

// half reads which half of the day a time is in, if that is said.
func (r *reader) half(c clock) clock {
	w := strings.ReplaceAll(r.word(0), ".", "")
	hour := c.minute / 60
	switch {
	case w == "am", r.skip("in", "the", "morning"):
		if w == "am" {
			r.at++
		}
		if hour == 12 {
			c.minute -= 12 * 60
		}
		c.vague = false
	case w == "pm", r.skip("in", "the", "afternoon|evening"), r.skip("at", "night"):
		if w == "pm" {
			r.at++
		}
		if hour < 12 {
			c.minute += 12 * 60
		}
		c.vague = false
	}
	return c
}

// takeTime takes one time of day or several.
func (r *reader) takeTime() bool {
	said := r.skip("at|@|by|around")
	r.maybe("about", "exactly")
	begin := r.at
	c, ok := r.clockHere()
	bare := r.at == begin+1
	if !ok || !said && bare && c.vague && r.word(0) == "" && len(r.times) == 0 && len(r.days) == 0 && r.unit == "" && r.date == "" {
		return false
	}
	r.times = append(r.times, c)
	for {
		begin := r.at
		if !r.skip("and|,|&|or") {
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
	set := func(from, to int) { r.from, r.to = &clock{minute: from * 60}, &clock{minute: to * 60} }
	switch {
	case r.skip("during|in|within", "working|office|business|work", "hours"), r.skip("working|office|business|work", "hours"):
		set(9, 17)
		if len(r.days) == 0 {
			r.days = []string{"weekdays"}
		}
		return true
	case r.skip("at|by|over|during|in", "night"), r.skip("during|in", "the", "night"):
		if r.unit == "" && r.event == "" && !r.ahead("") {
			return false
		}
		r.night = true
		return true
	case r.skip("every|each", "night"), r.skip("nightly"):
		r.night, r.every, r.unit = true, 1, "d"
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
	}
	a, ok := r.clockHere()
	if !ok {
		return false
	}
	if !r.skip("to|until|till|-") && !(word == "and" && r.skip("and|&")) {
		return false
	}
	b, ok := r.clockHere()
	if !ok {
		return false
	}
	// 9 to 5: the second is later on the same day, unless it is said otherwise.
	if b.vague && b.minute <= a.minute && b.minute < 12*60 {
		b.minute += 12 * 60
		r.guess = true
	}
	r.from, r.to = &a, &b
	return true
}
