package spoken

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

var weekdays = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

var monthNames = []string{"january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november", "december"}

// dayOf returns the three letters of a weekday, or weekdays and weekends, or "".
func dayOf(w string) string {
	w = strings.TrimSuffix(w, ".")
	switch w {
	case "weekday", "weekdays", "workday", "workdays":
		return "weekdays"
	case "weekend", "weekends":
		return "weekends"
	case "weeknight", "weeknights":
		return "weeknights"
	case "tues", "tuesday", "tuesdays":
		return "tue"
	case "wednesday", "wednesdays", "weds":
		return "wed"
	case "thur", "thurs", "thursday", "thursdays":
		return "thu"
	case "saturday", "saturdays":
		return "sat"
	}
	for _, d := range weekdays {
		if w == d[:2] && w != "we" || w == d || w == d+"s" || w == d+"day" || w == d+"days" {
			return d
		}
	}
	return ""
}

// monthOf returns the three letters of a month, or "".
func monthOf(w string) string {
	for _, m := range monthNames {
		if w == m || w == m[:3] || w == "sept" && m == "september" {
			return m[:3]
		}
	}
	return ""
}

var ordinals = []string{"first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth", "eleventh", "twelfth", "thirteenth", "fourteenth", "fifteenth",
	"sixteenth", "seventeenth", "eighteenth", "nineteenth", "twentieth"}

// ordinal reads first, 2nd, last, second last; "" where none stands here.
func (r *reader) ordinal() string {
	w := r.word(0)
	if w == "last" {
		r.at++
		return "last"
	}
	n := slices.Index(ordinals, w) + 1
	if n == 0 {
		for _, end := range []string{"st", "nd", "rd", "th"} {
			if number, ok := strings.CutSuffix(w, end); ok {
				n, _ = strconv.Atoi(number)
			}
		}
	}
	if n < 1 || n > 31 {
		return ""
	}
	r.at++
	if r.skip("last") || r.skip("to", "last") || r.skip("-", "last") {
		return ordinalText(n) + " last"
	}
	return ordinalText(n)
}

// ofMonth goes over "of the month" and the like; a month by name is taken.
func (r *reader) ofMonth() bool {
	begin := r.at
	if r.skip("of|in", "the|every|each|a", "month") || r.skip("of", "month") || r.skip("of|in", "every|each", "month") || r.skip("in", "a", "month") {
		return true
	}
	if r.skip("of|in") && monthOf(r.word(0)) != "" {
		r.at = begin
		r.at++
		r.takeMonths()
		return true
	}
	r.at = begin
	return false
}

// takeDays takes days, one or several.
func (r *reader) takeDays() bool {
	r.maybe("on", "every", "each", "the", "all", "only")
	if r.word(0) == "from" && dayOf(r.word(1)) != "" {
		r.at++
	}
	some := false
	for {
		before := r.at
		if !r.day() {
			r.at = before
			return some
		}
		some = true
		before = r.at
		if !r.skip("and|,|or|&") {
			return true
		}
		r.maybe("on", "the", "every", "and")
		if dayOf(r.word(0)) == "" && !r.isOrdinal() && r.word(0) != "day" && !r.isDayNumber() {
			r.at = before
			return true
		}
	}
}

// isDayNumber reports whether a bare number goes on a list of days of the month.
func (r *reader) isDayNumber() bool {
	n, err := strconv.Atoi(r.word(0))
	return err == nil && n >= 1 && n <= 31 && len(r.days) > 0 && strings.HasPrefix(r.days[len(r.days)-1], "day ")
}

func (r *reader) isOrdinal() bool {
	at := r.at
	defer func() { r.at = at }()
	return r.ordinal() != ""
}

// day takes one item of a list of days.
func (r *reader) day() bool {
	switch {
	case r.skip("month", "end"), r.skip("end", "of", "the|every|each", "month"), r.skip("end", "of", "month"):
		r.days = append(r.days, "last day")
		return true
	case r.skip("start|beginning", "of", "the|every|each", "month"):
		r.days = append(r.days, "day 1")
		return true
	case r.skip("end", "of", "the|every|each", "quarter"), r.skip("quarter", "end"), r.skip("start|beginning", "of", "the|every|each", "quarter"):
		r.atEnd = r.tokens[r.at-1].lower == "end" || r.tokens[r.at-4].lower == "end"
		return r.often(1, "quarter")
	case r.skip("working|business|work", "day|days"):
		r.days = append(r.days, "weekdays")
		return true
	case r.skip("weeknight|weeknights"):
		r.stuck = r.stuck || r.part != "" && r.part != "night"
		r.days, r.part = append(r.days, "weekdays"), "night"
		return true
	case r.ahead("first", "last"):
		if r.runOfDays() {
			return true
		}
		return r.ordinalDay()
	case r.skip("day"):
		if n, ok := r.number(); ok && n >= 1 && n <= 31 {
			r.days = append(r.days, fmt.Sprintf("day %d", n))
			r.ofMonth()
			return true
		}
		return false
	case r.isDayNumber():
		n, _ := r.number()
		r.days = append(r.days, fmt.Sprintf("day %d", n))
		r.ofMonth()
		return true
	}
	if d := dayOf(r.word(0)); d != "" {
		r.at++
		if begin := r.at; r.skip("-|to|till|until|through|thru") {
			if to := dayOf(r.word(0)); to != "" && to != "weekdays" && to != "weekends" {
				r.at++
				d += "-" + to
			} else {
				r.at = begin
			}
		}
		begin := r.at
		r.maybe("the")
		if n, ok := r.dayNumber(); ok && strings.TrimLeft(r.word(-1), "0123456789") != "" && monthOf(r.word(0)) == "" && r.word(0) != "of" { // friday the 13th
			d += fmt.Sprintf(" and day %d", n)
		} else {
			r.at = begin
		}
		r.days = append(r.days, d)
		return true
	}
	return r.ordinalDay()
}

// runOfDays takes the first or last few days of a month: the last 3 days of the month, the
// first week of january.
func (r *reader) runOfDays() bool {
	begin := r.at
	last := r.skip("last")
	if !last && !r.skip("first") {
		return false
	}
	n, ok := r.number()
	what := "day"
	switch {
	case ok && n > 1 && r.skip("days"):
	case ok && n > 1 && (r.skip("weekdays|workdays") || r.skip("working|business|work", "days")):
		what = "weekday"
	case !ok && r.skip("week"):
		n = 7
	default:
		r.at = begin
		return false
	}
	const most = 15
	if n > most || !r.ofMonth() {
		r.at = begin
		return false
	}
	if what == "day" && !last {
		r.days = append(r.days, fmt.Sprintf("day 1-%d", n))
		return true
	}
	for i := 1; i <= n; i++ {
		nth := "last"
		switch {
		case last && i > 1:
			nth = ordinalText(i) + " last"
		case !last:
			nth = ordinalText(i)
		}
		r.days = append(r.days, nth+" "+what)
	}
	return true
}

// ordinalText says 1st, 2nd, 3rd.
func ordinalText(n int) string {
	end := "th"
	switch {
	case n%10 == 1 && n != 11:
		end = "st"
	case n%10 == 2 && n != 12:
		end = "nd"
	case n%10 == 3 && n != 13:
		end = "rd"
	}
	return itoa(n) + end
}

// ordinalDay takes 2nd tue, last day, the 15th, the second and fourth tuesday.
func (r *reader) ordinalDay() bool {
	list := []string{r.ordinal()}
	if list[0] == "" {
		return false
	}
	for begin := r.at; r.skip("and|,|&|or"); begin = r.at {
		r.maybe("the", "and")
		next := r.ordinal()
		if next == "" {
			r.at = begin
			break
		}
		list = append(list, next)
	}
	noun := ""
	switch d := dayOf(r.word(0)); {
	case d == "weekends":
		return false
	case d == "weekdays":
		noun = " weekday"
		r.at++
	case d != "":
		noun = " " + d
		r.at++
	case r.skip("working|business|work", "day|days"):
		noun = " weekday"
	case r.skip("day|days"):
		noun = " day"
	}
	for _, o := range list {
		n, err := strconv.Atoi(strings.TrimRight(o, "stndrh"))
		switch {
		case (noun == "" || noun == " day") && err == nil:
			r.days = append(r.days, fmt.Sprintf("day %d", n))
		case noun == "":
			return false
		default:
			r.days = append(r.days, o+noun)
		}
	}
	r.ofMonth()
	return true
}

// takeMonths takes months by name.
func (r *reader) takeMonths() bool {
	r.maybe("in", "of", "every", "each", "during", "from", "between")
	some := false
	for m := monthOf(r.word(0)); m != ""; m = monthOf(r.word(0)) {
		r.at++
		if begin := r.at; r.skip("-|to|till|until|through") || r.word(-2) == "between" && r.skip("and") {
			if to := monthOf(r.word(0)); to != "" {
				r.at++
				m += "-" + to
			} else {
				r.at = begin
			}
		}
		r.months = append(r.months, m)
		some = true
		if begin := r.at; !r.skip("and|,|or|&") || monthOf(r.word(0)) == "" {
			r.at = begin
			return true
		}
	}
	return some
}
