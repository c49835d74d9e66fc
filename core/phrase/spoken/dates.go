package spoken

import (
	"slices"
	"strconv"
	"strings"

	"timegate/core/calendar"
)

// monthDay is a date without a year.
type monthDay struct {
	day   int
	month string // three letters
}

// next is the first day like this on or after another, and false where there is
// none, as for 31 feb.
func (m monthDay) next(from calendar.Day) (calendar.Day, bool) {
	year, _, _ := from.Date()
	const leap = 8 // years at most to the next 29 feb
	for range leap + 1 {
		if day, err := calendar.ParseDay(dateText(year, monthIndex(m.month)+1, m.day)); err == nil && day >= from {
			return day, true
		}
		year++
	}
	return from, false
}

func dateText(year, month, day int) string {
	two := func(n int) string { return strconv.Itoa(100 + n)[1:] }
	return strconv.Itoa(year) + "-" + two(month) + "-" + two(day)
}

// later is the day so many days, weeks or months after another.
func later(from calendar.Day, n int, unit string) calendar.Day {
	switch unit {
	case "w":
		return from + calendar.Day(7*n)
	case "month":
		t := from.Noon().AddDate(0, n, 0)
		return calendar.DayOf(t.Year(), int(t.Month()), t.Day())
	}
	return from + calendar.Day(n)
}

// dateHere reads one date; one without a year is the next such.
func (r *reader) dateHere() (calendar.Day, bool) {
	begin := r.at
	if isISO(r.word(0)) {
		day, err := calendar.ParseDay(r.word(0))
		r.at++
		return day, err == nil
	}
	if day, month, year, ok := dotted(r.word(0)); ok {
		day, err := calendar.ParseDay(dateText(year, month, day))
		r.at++
		return day, err == nil
	}
	if days, year, ok := r.monthDays(); ok && len(days) == 1 {
		return r.dayIn(days[0], year), true
	}
	r.at = begin
	if day, ok := r.byToday(); ok {
		return day, true
	}
	r.at = begin
	if r.skip("next|this|coming") {
		if d := slices.Index(weekdays, dayOf(r.word(0))); d >= 0 {
			r.at++
			return r.weekdayAhead(d, r.tokens[begin].lower == "next"), true
		}
	}
	r.at = begin
	return 0, false
}

// dotted reads 24.12.2026: the day, the month, the year.
func dotted(w string) (day, month, year int, ok bool) {
	parts := strings.Split(w, ".")
	if len(parts) != 3 || len(parts[2]) != 4 {
		return 0, 0, 0, false
	}
	var n [3]int
	for i, p := range parts {
		var err error
		if n[i], err = strconv.Atoi(p); err != nil {
			return 0, 0, 0, false
		}
	}
	return n[0], n[1], n[2], true
}

// byToday reads tomorrow and the like.
func (r *reader) byToday() (day calendar.Day, ok bool) {
	n := -1
	switch {
	case r.skip("today"):
		n = 0
	case r.skip("tomorrow"):
		n = 1
	case r.skip("the", "day", "after", "tomorrow"), r.skip("day", "after", "tomorrow"):
		n = 2
	default:
		return 0, false
	}
	r.stuck = r.stuck || r.today.Day == 0
	return r.today.Day + calendar.Day(n), true
}

// weekdayAhead is the next such weekday: after today, or from today on.
func (r *reader) weekdayAhead(weekday int, after bool) calendar.Day {
	r.stuck = r.stuck || r.today.Day == 0
	day := r.today.Day
	if after {
		day++
	}
	for day.Weekday() != weekday {
		day++
	}
	return day
}

// dayIn is a date in a year, or the next such where no year was said.
func (r *reader) dayIn(m monthDay, year int) calendar.Day {
	if year == 0 {
		r.stuck = r.stuck || r.today.Day == 0
		day, ok := m.next(r.today.Day)
		r.stuck = r.stuck || !ok
		return day
	}
	day, err := calendar.ParseDay(dateText(year, monthIndex(m.month)+1, m.day))
	r.stuck = r.stuck || err != nil
	return day
}

// monthDays reads 24 dec, december 24th, 24 and 31 december, each with or without
// a year.
func (r *reader) monthDays() (days []monthDay, year int, ok bool) {
	begin := r.at
	r.maybe("the")
	if day, ok := r.feast(); ok {
		return []monthDay{day}, r.year(), true
	}
	if days, ok := r.slashed(); ok {
		return days, r.year(), true
	}
	if m := monthOf(r.word(0)); m != "" {
		r.at++
		r.maybe("the")
		if n, ok := r.dayNumber(); ok {
			return []monthDay{{n, m}}, r.year(), true
		}
		r.at = begin
		return nil, 0, false
	}
	var numbers []int
	for {
		r.maybe("the")
		n, ok := r.dayNumber()
		if !ok {
			break
		}
		numbers = append(numbers, n)
		if !r.skip("and|,|&") {
			break
		}
	}
	r.maybe("of")
	if m := monthOf(r.word(0)); m != "" && len(numbers) > 0 {
		r.at++
		for _, n := range numbers {
			days = append(days, monthDay{n, m})
		}
		return days, r.year(), true
	}
	r.at = begin
	return nil, 0, false
}

// yearAhead is a year that stands here, and stays.
func (r *reader) yearAhead() int {
	at := r.at
	defer func() { r.at = at }()
	return r.year()
}

// feasts are days of the year that have names, by their first words.
var feasts = map[string][]struct {
	rest []string
	day  monthDay
}{
	"christmas":  {{[]string{"eve"}, monthDay{24, "dec"}}, {[]string{"day"}, monthDay{25, "dec"}}, {nil, monthDay{25, "dec"}}},
	"xmas":       {{[]string{"eve"}, monthDay{24, "dec"}}, {[]string{"day"}, monthDay{25, "dec"}}, {nil, monthDay{25, "dec"}}},
	"boxing":     {{[]string{"day"}, monthDay{26, "dec"}}},
	"new":        {{[]string{"year", "eve"}, monthDay{31, "dec"}}, {[]string{"years", "eve"}, monthDay{31, "dec"}}, {[]string{"year", "day"}, monthDay{1, "jan"}}, {[]string{"years", "day"}, monthDay{1, "jan"}}},
	"halloween":  {{nil, monthDay{31, "oct"}}},
	"valentine":  {{[]string{"day"}, monthDay{14, "feb"}}},
	"valentines": {{[]string{"day"}, monthDay{14, "feb"}}},
}

// feast reads a day of the year by its name.
func (r *reader) feast() (monthDay, bool) {
	for _, f := range feasts[r.word(0)] {
		begin := r.at
		r.at++
		if r.skip(f.rest...) {
			return f.day, true
		}
		r.at = begin
	}
	return monthDay{}, false
}

// slashed reads 24/12 or 12/24, with or without a year behind it. Where both numbers may
// be a month, the other reading is one as well.
func (r *reader) slashed() ([]monthDay, bool) {
	parts := strings.Split(r.word(0), "/")
	if len(parts) != 2 {
		return nil, false
	}
	var n [2]int
	for i, p := range parts {
		var err error
		if n[i], err = strconv.Atoi(p); err != nil || n[i] < 1 || n[i] > 31 || len(p) > 2 {
			return nil, false
		}
	}
	day, month := n[0], n[1]
	if month > 12 {
		day, month = month, day
	}
	if month > 12 {
		return nil, false
	}
	r.at++
	if day <= 12 && day != month {
		r.slashes = true
		year, i := r.yearAhead(), len(r.dates)
		r.variants = append(r.variants, func() {
			if i < len(r.dates) {
				r.dates[i] = r.dayIn(monthDay{month, monthNames[day-1][:3]}, year)
			}
		})
	}
	return []monthDay{{day, monthNames[month-1][:3]}}, true
}

// dayNumber reads the number of a day in its month: 24, 24th, first.
func (r *reader) dayNumber() (int, bool) {
	w := r.word(0)
	n := slices.Index(ordinals, w) + 1
	if n == 0 {
		n, _ = strconv.Atoi(strings.TrimRight(w, "stndrh"))
	}
	if n < 1 || n > 31 || strings.ContainsAny(w, ":.") || len(w) == 2 && w[0] == '0' && slices.Contains([]string{"am", "pm"}, r.word(1)) {
		return 0, false
	}
	r.at++
	return n, true
}

// year reads a year that stands here, or returns 0.
func (r *reader) year() int {
	begin := r.at
	r.maybe(",")
	if n, err := strconv.Atoi(r.word(0)); err == nil && len(r.word(0)) == 4 && n >= 2000 && n < 2200 {
		r.at++
		return n
	}
	r.at = begin
	return 0
}

// takeDate takes the dates on which something happens: once where they have a
// year or are counted from today, else as it is said, or as both may be meant.
func (r *reader) takeDate() bool {
	every := false
	for r.ahead("on", "the", "every", "each") {
		every = every || r.ahead("every", "each")
		r.at++
	}
	begin := r.at
	if days, year, ok := r.monthDays(); ok {
		r.yearly = r.yearly || every
		for _, d := range days {
			if year != 0 {
				r.dates = append(r.dates, r.dayIn(d, year))
			} else {
				r.yearless = append(r.yearless, d)
			}
		}
		return true
	}
	if every {
		return false
	}
	next := r.ahead("next")
	day, ok := r.dateHere()
	if !ok {
		r.at = begin
		return false
	}
	r.dates = append(r.dates, day)
	if next && day-r.today.Day < 7 { // this week's, or the one after
		i := len(r.dates) - 1
		r.variants = append(r.variants, func() { r.dates[i] += 7 })
	}
	return true
}

// takeRelative takes what is meant from now on: in 10 minutes, tonight.
func (r *reader) takeRelative() bool {
	switch {
	case r.skip("tonight"), r.skip("this", "morning|afternoon|evening|night"):
		r.part = map[string]string{"morning": "morning", "afternoon": "afternoon", "evening": "evening"}[r.word(-1)]
		if r.part == "" {
			r.part = "night"
		}
		r.stuck = r.stuck || r.today.Day == 0
		r.dates = append(r.dates, r.today.Day)
		return true
	case r.skip("tomorrow", "night"):
		r.part, r.dates = "night", append(r.dates, r.today.Day+1)
		r.stuck = r.stuck || r.today.Day == 0
		return true
	}
	in := r.skip("in")
	n, unit, ok := r.span()
	if ok && !in && !r.skip("from", "now|today") && !r.skip("later") {
		ok = false
	}
	if !ok || r.clocked() && (unit == "m" || unit == "h" || unit == "s") {
		return false
	}
	r.stuck = r.stuck || r.today.Day == 0
	day, minute := r.today.Day, r.today.Minute
	switch minutes := map[string]int{"m": 1, "h": 60}[unit]; {
	case minutes > 0:
		minute += n * minutes
		day += calendar.Day(minute / (24 * 60))
	case unit == "d" || unit == "w" || unit == "month":
		day = later(day, n, unit)
	default:
		return false
	}
	r.dates = append(r.dates, day)
	r.relative = &clock{minute: minute % (24 * 60), fixed: true}
	return true
}
