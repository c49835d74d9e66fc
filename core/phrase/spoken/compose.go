package spoken

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

func itoa(n int) string { return strconv.Itoa(n) }

// takeEvery takes how often: every 5 minutes, hourly, twice a day.
func (r *reader) takeEvery() bool {
	set := func(n int, unit string) bool { r.every, r.unit = n, unit; return true }
	switch {
	case r.skip("hourly"):
		return set(1, "h")
	case r.skip("daily"):
		return set(1, "d")
	case r.skip("weekly"):
		return set(1, "w")
	case r.skip("fortnightly"), r.skip("biweekly"):
		return set(2, "w")
	case r.skip("monthly"):
		return set(1, "month")
	case r.skip("quarterly"):
		return set(1, "quarter")
	case r.skip("yearly|annually"):
		return set(1, "year")
	case r.skip("on|at", "the", "half", "hour"), r.skip("at", "half", "past", "every|the|each", "hour"):
		r.offset = 30
		if r.unit == "" {
			set(1, "h")
		}
		return true
	case r.skip("on|at", "the", "hour"), r.skip("every|each", "full", "hour"):
		if r.unit == "" {
			set(1, "h")
		}
		return true
	case r.skip("once|every|each", "an|a|per", "hour"):
		return set(1, "h")
	}
	begin := r.at
	n := 0
	switch {
	case r.skip("once"):
		n = 1
	case r.skip("twice"):
		n = 2
	default:
		if count, ok := r.number(); ok && r.skip("times|x") {
			n = count
		}
	}
	if n > 0 {
		switch {
		case r.skip("a|per|each|every", "day") || r.skip("daily"):
			r.perDay = n
			return true
		case r.skip("a|an|per|each|every", "hour") && 60%n == 0:
			return set(60/n, "m")
		case n == 1 && (r.skip("a|per|each|every", "week")):
			return set(1, "w")
		case n == 1 && (r.skip("a|per|each|every", "month")):
			return set(1, "month")
		case n == 1 && (r.skip("a|per|each|every", "year")):
			return set(1, "year")
		case n == 1 && (r.skip("a|per", "minute")):
			return set(1, "m")
		case n > 1 && r.event != "":
			r.count = n
			return true
		}
		r.at = begin
		return false
	}
	if !r.skip("every|each") {
		return false
	}
	switch {
	case r.skip("other|second"):
		return r.everyOther()
	case r.skip("third") && r.everyUnit(3), r.skip("half", "hour") && set(30, "m"), r.skip("half", "an", "hour") && set(30, "m"), r.skip("quarter", "of", "an", "hour") && set(15, "m"), r.skip("quarter", "hour") && set(15, "m"):
		return true
	case r.skip("quarter"):
		return set(1, "quarter")
	case r.everyUnit(1):
		return true
	}
	if count, unit, ok := r.span(); ok {
		r.stuck = r.stuck || count == 0
		if unit == "fortnight" {
			count, unit = 2*count, "w"
		}
		return set(count, unit)
	}
	r.at = begin
	return false
}

// everyUnit takes a bare unit after "every".
func (r *reader) everyUnit(n int) bool {
	unit := units[r.word(0)]
	switch {
	case unit == "" || len(r.word(0)) == 1:
		return false
	case unit == "fortnight":
		n, unit = 2*n, "w"
	}
	r.at++
	r.every, r.unit = n, unit
	return true
}

// everyOther takes what follows "every other": a unit, or a weekday.
func (r *reader) everyOther() bool {
	if r.everyUnit(2) {
		return true
	}
	if d := dayOf(r.word(0)); d != "" && d != "weekends" {
		r.at++
		r.days, r.every, r.unit = append(r.days, d), 2, "w"
		return true
	}
	return false
}

// compose puts what was understood together, in the ways that are sensible.
func (r *reader) compose() []Reading {
	if r.stuck || slices.ContainsFunc(r.unknown, garbled) {
		return nil
	}
	var out []Reading
	add := func(text, guessed string) {
		if text == "" || slices.ContainsFunc(out, func(o Reading) bool { return o.Phrase == text }) {
			return
		}
		out = append(out, Reading{Phrase: text, Guessed: guessed, Unknown: r.unknown})
	}
	text, guessed := r.phrase()
	add(text, guessed)
	if r.guess && r.to != nil && text != "" { // the other sensible reading: over midnight
		r.to.minute -= 12 * 60
		text, guessed = r.phrase()
		add(text, guessed)
	}
	return out
}

// garbled reports whether a word is no word: what it may be part of was
// misunderstood.
func garbled(w string) bool {
	const longest = 24
	return len(w) > longest || strings.ContainsFunc(w, func(c rune) bool { return !unicode.IsLetter(c) && c != '-' && c != '\'' }) || w == "-"
}

// phrase says one reading. guessed is what it has filled in.
func (r *reader) phrase() (text, guessed string) {
	if r.event != "" {
		if r.first == "guess" {
			r.first = "day"
			return r.withTails(r.eventPhrase()), "of the day"
		}
		return r.withTails(r.eventPhrase()), ""
	}
	sub := map[string]bool{"s": true, "m": true, "h": true}[r.unit]
	switch {
	case sub && r.every > 0 && len(r.times) == 0:
		window := r.window()
		if window == "" && r.offset > 0 {
			window = fmt.Sprintf(" from 00:%02d to 23:%02d", r.offset, r.offset)
		}
		return r.withTails(fmt.Sprintf("every %d%s%s%s", r.every, r.unit, window, r.on())), ""
	case sub && len(r.times) == 1 && r.every > 0:
		return "", "" // every hour at nine: which of the two?
	case r.unit == "" && len(r.times) == 0 && r.from != nil: // working hours
		return r.withTails("every 1h" + r.window() + r.on()), "1h"
	}
	if r.nothing() {
		return "", ""
	}
	return r.clockPhrase()
}

// nothing reports whether too little was understood for a moment.
func (r *reader) nothing() bool {
	return len(r.times) == 0 && len(r.days) == 0 && len(r.months) == 0 && r.date == "" && r.unit == "" && r.perDay == 0 && !r.night
}

// clockPhrase says a clock phrase.
func (r *reader) clockPhrase() (text, guessed string) {
	if r.from != nil {
		return "", "" // a window of what?
	}
	times := ""
	for i, c := range r.times {
		if i > 0 {
			times += ", "
		}
		times += c.String()
	}
	if times == "" {
		switch {
		case r.perDay > 0:
			times = map[int]string{1: "09:00", 2: "09:00, 17:00", 3: "08:00, 13:00, 18:00", 4: "06:00, 12:00, 18:00, 23:00"}[r.perDay]
			if times == "" {
				return "", ""
			}
		case r.night:
			times = "22:00"
		default:
			times = "09:00"
		}
		guessed = times
	}
	stride, ok := r.stride()
	if !ok {
		return "", ""
	}
	return r.withTails("at " + times + r.on() + stride), guessed
}

// stride says every how many days, weeks, months or years, where that is more
// than one.
func (r *reader) stride() (text string, ok bool) {
	switch {
	case r.unit == "quarter" && r.every == 1:
		if len(r.months) == 0 {
			// Said by on().
			return "", true
		}
		return "", false
	case r.every <= 1:
		return "", true
	}
	unit := map[string]string{"d": "days", "w": "weeks", "month": "months", "year": "years"}[r.unit]
	from := r.starting
	if from == "" && r.today.Add != nil {
		from = r.nextDay()
	}
	if unit == "" || from == "" {
		return "", false
	}
	r.starting = ""
	return fmt.Sprintf(" every %d %s from %s", r.every, unit, from), true
}

// nextDay is the next date on the first weekday that was said, or today.
func (r *reader) nextDay() string {
	for days := range 7 {
		date, weekday := r.today.Add(days)
		if len(r.days) == 0 || !slices.Contains(weekdays, r.days[0]) || r.days[0] == weekday {
			return date
		}
	}
	date, _ := r.today.Add(0)
	return date
}

// on says the days and months.
func (r *reader) on() string {
	days, months := r.merged(), slices.Clone(r.months)
	switch {
	case r.unit == "quarter":
		months = []string{"jan", "apr", "jul", "oct"}
		if len(days) == 0 {
			days = []string{"day 1"}
		}
	case r.unit == "month" && len(days) == 0:
		days = []string{"day 1"}
	case r.unit == "year" && len(days) == 0 && r.date == "":
		days, months = []string{"day 1"}, []string{"jan"}
	case r.unit == "w" && len(days) == 0 && r.every == 1:
		days = []string{"mon"}
	}
	if r.date != "" {
		days = append(days, r.date)
	}
	out := ""
	if len(days) > 0 {
		out = " on " + strings.Join(days, ", ")
	}
	if len(months) > 0 {
		slices.Sort(months)
		months = slices.Compact(months)
		slices.SortStableFunc(months, func(a, b string) int { return monthIndex(a) - monthIndex(b) })
		out += " in " + strings.Join(months, ", ")
	}
	return out
}

func monthIndex(m string) int {
	return slices.IndexFunc(monthNames, func(name string) bool { return strings.HasPrefix(name, m[:3]) })
}

// merged joins days of the month that were said one after the other.
func (r *reader) merged() []string {
	var out []string
	for _, d := range r.days {
		if last := len(out) - 1; last >= 0 && strings.HasPrefix(d, "day ") && strings.HasPrefix(out[last], "day ") {
			out[last] += ", " + strings.TrimPrefix(d, "day ")
			continue
		}
		if !slices.Contains(out, d) {
			out = append(out, d)
		}
	}
	return out
}

func (r *reader) window() string {
	switch {
	case r.from != nil:
		return fmt.Sprintf(" from %s to %s", *r.from, *r.to)
	case r.night:
		return " from 22:00 to 06:00"
	}
	return ""
}

func (r *reader) eventPhrase() string {
	out := r.event
	if r.first != "" {
		out = "first " + out + " of the " + r.first
	}
	out += r.window()
	if on := r.on(); on != "" {
		out += on
	}
	if r.delay != "" {
		out += " + " + r.delay
	}
	return out
}

// withTails adds what bounds the phrase.
func (r *reader) withTails(text string) string {
	if r.repeat != "" {
		text += ", " + r.repeat
	}
	if r.count > 0 {
		text += fmt.Sprintf(", %d times", r.count)
	}
	if r.starting != "" {
		text += ", starting " + r.starting
	}
	if r.ending != "" {
		text += ", ending " + r.ending
	}
	if len(r.except) > 0 {
		text += ", except " + strings.Join(r.except, ", ")
	}
	if r.zone != "" {
		text += ", " + r.zone
	}
	return text
}
