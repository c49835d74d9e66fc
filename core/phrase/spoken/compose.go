package spoken

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"timegate/core/calendar"
)

func itoa(n int) string { return strconv.Itoa(n) }

// compose puts what was understood together, in the ways that are sensible.
func (r *reader) compose() []Reading {
	if r.stuck || len(r.unknown) > 0 || !r.settle() || r.stuck {
		return nil
	}
	var out []Reading
	add := func() {
		text, guessed := r.phrase()
		if text == "" || r.stuck || slices.ContainsFunc(out, func(o Reading) bool { return o.Phrase == text }) {
			return
		}
		out = append(out, Reading{Phrase: text, Guessed: guessed})
	}
	add()
	for _, change := range r.variants {
		if len(out) > 0 {
			change()
			add()
		}
	}
	return out
}

// settle makes up its mind about what was left open while reading.
func (r *reader) settle() bool {
	if r.office && len(r.days)+len(r.dates)+len(r.yearless) == 0 {
		r.days = []string{"weekdays"}
	}
	if r.relative != nil && len(r.times) == 0 {
		r.times = append(r.times, *r.relative)
	}
	for i, c := range r.times {
		if r.part != "" && !c.fixed && c.minute < 13*60 {
			r.times[i] = c.in(r.part)
		}
	}
	if len(r.times) == 1 && r.times[0].either && r.part == "" {
		r.variants = append(r.variants, func() { r.times[0].minute += 12 * 60 })
	}
	if r.once && len(r.times) > 0 && r.unit == "" && r.perDay == 0 && len(r.dates)+len(r.yearless)+len(r.months) == 0 && r.event == "" && !r.justOnce() {
		return false
	}
	for i := 1; i < len(r.times); i++ { // at 9 and 5
		if c := r.times[i]; c.vague && c.minute < r.times[i-1].minute && c.minute < 12*60 {
			r.times[i].minute += 12 * 60
			r.variants = append(r.variants, func() { r.times[i].minute -= 12 * 60 })
		}
	}
	if r.part == "night" && len(r.days) > 0 && len(r.times) > 0 && !slices.ContainsFunc(r.times, func(c clock) bool { return c.minute >= 6*60 }) { // friday night at 1
		for i, d := range r.days {
			at := slices.Index(weekdays, d)
			if at < 0 {
				return false
			}
			r.days[i] = weekdays[(at+1)%len(weekdays)]
		}
	}
	if r.part == "night" && len(r.dates) == 1 && len(r.times) == 1 && r.times[0].minute < 6*60 && !r.times[0].fixed { // tonight at 2
		r.dates[0]++
	}
	return r.settleDates()
}

// justOnce finds the one date that is meant by "once at 9" or "once on friday at 9".
func (r *reader) justOnce() bool {
	if r.today.Day == 0 || len(r.days) > 1 || len(r.days) == 1 && !slices.Contains(weekdays, r.days[0]) {
		return false
	}
	day := r.today.Day
	if r.times[0].minute <= r.today.Minute {
		day++
	}
	for len(r.days) == 1 && weekdays[day.Weekday()] != r.days[0] {
		day++
	}
	r.dates, r.days = append(r.dates, day), nil
	return true
}

// settleDates decides what dates without a year mean: once, every year, or as
// both may be meant.
func (r *reader) settleDates() bool {
	yearly := func() bool {
		days, months := []string{}, []string{}
		for _, d := range r.yearless {
			if text := "day " + itoa(d.day); !slices.Contains(days, text) {
				days = append(days, text)
			}
			if !slices.Contains(months, d.month) {
				months = append(months, d.month)
			}
		}
		r.days, r.months = append(r.days, days...), append(r.months, months...)
		return len(days)*len(months) == len(r.yearless)
	}
	switch {
	case len(r.yearless) == 0:
	case r.yearly || r.unit == "year":
		return yearly()
	case r.unit != "" && r.unit != "d" || r.event != "":
		return false
	default:
		for _, d := range r.yearless {
			r.dates = append(r.dates, r.dayIn(d, 0))
		}
		if r.slashes { // there are two readings already
			break
		}
		r.variants = append(r.variants, func() {
			if r.dates = nil; !yearly() {
				r.stuck = true
			}
		})
	}
	// "on friday, 2027-01-01": the weekday says the same again.
	if len(r.dates) == 1 && len(r.days) == 1 && slices.Contains(weekdays, r.days[0]) {
		if weekdays[r.dates[0].Weekday()] != r.days[0] {
			return false
		}
		r.days = nil
	}
	return len(r.dates) == 0 || len(r.days) == 0 && r.every <= 1
}

// phrase says one reading. guessed is what it has filled in.
func (r *reader) phrase() (text, guessed string) {
	if r.success != "" {
		if r.clocked() || r.event != "" || len(r.days) > 0 {
			return "", ""
		}
		return r.withTails("every " + r.success + " after success"), ""
	}
	if r.event != "" {
		return r.eventPhrase()
	}
	if r.subDay() {
		return r.interval()
	}
	if r.unit == "" && len(r.times) == 0 && r.office {
		return r.withTails("every 1h" + r.window() + r.on()), "1h"
	}
	if r.nothing() {
		return "", ""
	}
	return r.clockPhrase()
}

// interval says a phrase of hours, minutes or seconds.
func (r *reader) interval() (text, guessed string) {
	if len(r.times) > 0 {
		return "", "" // every hour at nine: which of the two?
	}
	window := r.window()
	if window != "" && r.from == nil {
		guessed = strings.TrimPrefix(window, " from ")
	}
	if r.filled != "" {
		guessed = "from " + r.filled
	}
	if r.from != nil && r.offset > 0 {
		if r.every != 1 || r.unit != "h" || r.from.minute%60 != 0 {
			return "", ""
		}
		window = fmt.Sprintf(" from %s to %s", clock{minute: r.from.minute + r.offset}, *r.to)
	}
	every := fmt.Sprintf("every %d%s", r.every, r.unit)
	length := r.every * map[string]int{"s": 1, "m": 60, "h": 60 * 60}[r.unit]
	const day = 24 * 60 * 60
	switch {
	case window == "" && r.since != nil && r.since.minute*60+length < day && length < 3*60*60:
		steps := (day - 1 - r.since.minute*60) / length
		end := clock{minute: r.since.minute + steps*length/60}
		window, guessed = fmt.Sprintf(" from %s to %s", r.since, end), "until "+end.String()
	case window == "" && r.since != nil && length >= 3*60*60 && day%length == 0:
		window = fmt.Sprintf(" from %s to %s", r.since, clock{minute: r.since.minute + (day-length)/60})
	case r.since != nil, r.now && (window != "" || r.offset >= 0 || r.on() != ""):
		return "", ""
	case r.now:
		return r.withTails(fmt.Sprintf("%s since %s %s", every, r.today.Day, clock{minute: r.today.Minute})), ""
	case window == "" && r.offset >= 0:
		window = fmt.Sprintf(" from 00:%02d to 23:%02d", r.offset, r.offset)
	case window == "" && length > 0 && day%length != 0: // it is no part of a day
		if r.today.Day == 0 || r.on() != "" {
			return "", ""
		}
		begin := fmt.Sprintf("%s %s", r.today.Day, clock{minute: r.today.Minute})
		return r.withTails(every + " since " + begin), begin
	}
	return r.withTails(every + window + r.on()), guessed
}

// nothing reports whether too little was understood for a moment.
func (r *reader) nothing() bool {
	return len(r.times) == 0 && len(r.days) == 0 && len(r.months) == 0 && len(r.dates) == 0 && r.unit == "" && r.perDay == 0 && r.part == ""
}

// hoursFor are the hours that are guessed for so many times a day.
var hoursFor = map[int]string{1: "09:00", 2: "09:00, 17:00", 3: "08:00, 13:00, 18:00", 4: "06:00, 12:00, 18:00, 23:00"}

// hourIn is the hour that is guessed for a part of the day.
var hourIn = map[string]string{"": "09:00", "morning": "08:00", "afternoon": "14:00", "evening": "19:00", "night": "22:00"}

// clockPhrase says a clock phrase.
func (r *reader) clockPhrase() (text, guessed string) {
	if r.from != nil || r.since != nil {
		return "", "" // a window of what?
	}
	if r.now && r.starting == 0 {
		r.starting = r.today.Day
	}
	var list []string
	for _, c := range r.times {
		list = append(list, c.String())
	}
	slices.Sort(list)
	times := strings.Join(slices.Compact(list), ", ")
	switch {
	case times != "" && r.perDay > 0 && r.perDay != len(r.times):
		return "", ""
	case times != "":
	case r.perDay > 0:
		if times = hoursFor[r.perDay]; times == "" && 24%r.perDay == 0 {
			return r.withTails(fmt.Sprintf("every %dh%s", 24/r.perDay, r.on())), "the hours"
		}
		guessed = times
	default:
		times = hourIn[r.part]
		guessed = times
	}
	if r.guessed != "" {
		guessed = strings.Trim(guessed+" on "+r.guessed, " ")
	}
	stride, ok := r.stride()
	if !ok || times == "" {
		return "", ""
	}
	if r.count > 0 && r.starting == 0 && stride == "" {
		r.stuck = r.stuck || r.today.Day == 0
		r.starting = r.today.Day
	}
	if r.perWeek > 0 && len(r.days) == 0 {
		r.days = strings.Fields(map[int]string{2: "mon thu", 3: "mon wed fri"}[r.perWeek])
		guessed = strings.TrimPrefix(guessed+" on "+strings.Join(r.days, ", "), " ")
	}
	return r.withTails("at " + times + r.on() + stride), guessed
}

// stride says every how many days, weeks, months or years, where that is more
// than one.
func (r *reader) stride() (text string, ok bool) {
	switch {
	case r.unit == "quarter" && r.every == 1:
		return "", len(r.months) == 0 // on names them
	case r.every <= 1:
		return "", true
	}
	unit := map[string]string{"d": "days", "w": "weeks", "month": "months", "year": "years"}[r.unit]
	if unit == "" || r.starting == 0 && r.today.Day == 0 {
		return "", false
	}
	from := r.starting
	if from == 0 {
		from = r.nextDay()
	}
	r.starting = 0
	return fmt.Sprintf(" every %d %s from %s", r.every, unit, from), true
}

// nextDay is the next date on the first day that was said, or today.
func (r *reader) nextDay() calendar.Day {
	from := r.today.Day
	if len(r.days) == 0 && (r.unit == "month" || r.unit == "year") {
		r.days = []string{"day 1"}
		if r.unit == "year" {
			r.months = []string{"jan"}
		}
	}
	if len(r.days) == 0 {
		return from
	}
	const year = 366
	for day := from; day < from+year; day++ {
		_, month, n := day.Date()
		if isDay(r.days[0], day, n) && (len(r.months) == 0 || r.months[0] == monthNames[month-1][:3]) {
			return day
		}
	}
	return from
}

// isDay reports whether a date, the nth of its month, is a day as it is said.
func isDay(said string, day calendar.Day, n int) bool {
	ends := func(days calendar.Day) bool { // of its month
		_, this, _ := day.Date()
		_, next, _ := (day + days).Date()
		return this != next
	}
	weekday := weekdays[day.Weekday()]
	switch which, what, _ := strings.Cut(said, " "); {
	case said == weekday || said == "day "+itoa(n):
		return true
	case which == "last":
		return what == weekday && ends(7) || what == "day" && ends(1)
	case what == weekday && len(which) > 2:
		return which[:len(which)-2] == itoa((n-1)/7+1)
	}
	return false
}

// on says the days and months.
func (r *reader) on() string {
	days, months := r.merged(), slices.Clone(r.months)
	switch {
	case r.unit == "quarter" && (r.atEnd || len(days) == 1 && strings.Contains(days[0], "last")):
		months = []string{"mar", "jun", "sep", "dec"}
		if len(days) == 0 {
			days = []string{"last day"}
		}
	case r.unit == "quarter":
		months = []string{"jan", "apr", "jul", "oct"}
		if len(days) == 0 {
			days = []string{"day 1"}
		}
	case r.unit == "month" && len(days) == 0:
		days = []string{"day 1"}
	case r.unit == "year" && len(days) == 0 && len(r.dates) == 0:
		days = []string{"day 1"}
		if len(months) == 0 {
			months = []string{"jan"}
		}
	case r.unit == "w" && len(days) == 0 && r.every == 1:
		days = []string{"mon"}
	}
	for _, d := range r.dates {
		days = append(days, d.String())
	}
	out := ""
	if len(days) > 0 {
		out = " on " + strings.Join(days, ", ")
	}
	if len(months) > 0 {
		slices.SortStableFunc(months, func(a, b string) int { return monthIndex(a) - monthIndex(b) })
		out += " in " + strings.Join(slices.Compact(months), ", ")
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

// partHours are the hours of the parts of a day.
var partHours = map[string]string{"morning": "06:00 to 12:00", "afternoon": "12:00 to 18:00", "evening": "18:00 to 22:00", "night": "22:00 to 06:00"}

func (r *reader) window() string {
	switch {
	case r.from != nil:
		return fmt.Sprintf(" from %s to %s", *r.from, *r.to)
	case r.part != "":
		return " from " + partHours[r.part]
	}
	return ""
}

// eventPhrase says a phrase of an event.
func (r *reader) eventPhrase() (text, guessed string) {
	text = r.event
	if r.first == "guess" {
		r.first, guessed = "day", "of the day"
	}
	if r.first != "" {
		text = "first " + text + " of the " + r.first
	}
	if r.part != "" {
		guessed = partHours[r.part]
	}
	if r.guessed != "" {
		guessed = r.guessed
	}
	text += r.window() + r.on()
	if r.delay != "" {
		text += " + " + r.delay
	}
	return r.withTails(text), guessed
}

// withTails adds what bounds the phrase.
func (r *reader) withTails(text string) string {
	if r.repeat != "" {
		text += ", " + r.repeat
	}
	if r.count > 0 {
		text += fmt.Sprintf(", %d times", r.count)
	}
	if r.starting != 0 {
		text += ", starting " + r.starting.String()
	}
	if r.ending != 0 {
		text += ", ending " + r.ending.String()
	}
	if len(r.except) > 0 {
		text += ", except " + strings.Join(r.except, ", ")
	}
	if r.zone != "" {
		text += ", " + r.zone
	}
	return text
}
