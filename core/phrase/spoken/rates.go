package spoken

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// often notes how often something happens. Two that do not go together are two
// moments.
func (r *reader) often(n int, unit string) bool {
	const day = 1
	switch {
	case r.unit == "" || r.unit == "d" && r.every == day:
		r.every, r.unit = n, unit
	case unit == "d" && n == day && (r.unit != "s" && r.unit != "m" && r.unit != "h" || !r.joined(r.at-2)), unit == r.unit && n == r.every:
	default:
		r.stuck = true
	}
	return true
}

// rates are words that say how often.
var rates = map[string]struct {
	every int
	unit  string
}{"hourly": {1, "h"}, "half-hourly": {30, "m"}, "daily": {1, "d"}, "weekly": {1, "w"}, "fortnightly": {2, "w"}, "biweekly": {2, "w"}, "bi-weekly": {2, "w"}, "monthly": {1, "month"}, "quarterly": {1, "quarter"}, "yearly": {1, "year"}, "annually": {1, "year"}}

// takeEvery takes how often: every 5 minutes, hourly, twice a day.
func (r *reader) takeEvery() bool {
	if rate, ok := rates[r.word(0)]; ok {
		r.at++
		return r.often(rate.every, rate.unit)
	}
	if r.skip("every|each", "full", "hour") || r.skip("on|at", "the", "hour") {
		return r.hourlyAt(-1)
	}
	if r.takeTimesIn() {
		return true
	}
	begin := r.at
	r.skip("once")
	r.maybe("on")
	if r.skip("alternate|alternating") {
		return r.everyOther()
	}
	if !r.skip("every|each") {
		return false
	}
	switch ordinal := r.nth(); {
	case r.skip("other"), ordinal == 2 && r.skip("second|2nd"):
		if r.everyOther() {
			return true
		}
	case ordinal > 2 && r.skip(r.word(0)):
		if r.everyUnit(ordinal) || r.everyNth(ordinal) {
			return true
		}
	case r.skip("day") && (r.skip("of|in", "the", "week") || true): // monday is not among what follows
		return r.often(1, "d")
	}
	r.at = begin
	r.skip("once")
	r.skip("every|each")
	if r.ahead("quarter") && r.word(1) != "of" && r.word(1) != "hour" {
		r.at++
		return r.often(1, "quarter")
	}
	if count, unit, ok := r.spanOrUnit(); ok {
		r.stuck = r.stuck || count == 0
		if unit == "fortnight" {
			count, unit = 2*count, "w"
		}
		return r.often(count, unit)
	}
	r.at = begin
	return false
}

// takeTimesIn takes how many times in a span: twice a day, once a week, four times
// an hour.
func (r *reader) takeTimesIn() bool {
	begin, n := r.at, 0
	switch {
	case r.skip("once"):
		n = 1
	case r.skip("twice"):
		n = 2
	case r.skip("thrice"):
		n = 3
	default:
		if count, ok := r.number(); ok && r.skip("times|x") {
			n = count
		}
	}
	unit := ""
	if n > 0 && (r.skip("a|an|per|each|every|in", "day|hour|week|month|quarter|year|minute|night|fortnight") || r.skip("in", "a", "day|hour|week|month|quarter|year|minute|night") || r.skip("daily|hourly|weekly|monthly|nightly")) {
		unit = map[string]string{"daily": "day", "hourly": "hour", "weekly": "week", "monthly": "month", "nightly": "night"}[r.word(-1)]
		if unit == "" {
			unit = r.word(-1)
		}
	}
	switch {
	case unit == "day":
		r.perDay = n
		return true
	case unit == "week" && n > 1 && n <= 3:
		r.perWeek = n
		return r.often(1, "w")
	case unit == "month" && n == 2:
		r.days = append(r.days, "day 1", "day 15")
		r.guessed = "day 1, 15"
		return true
	case unit == "hour" && n > 1 && 60%n == 0:
		return r.often(60/n, "m")
	case unit == "night" && n == 1:
		r.part = "night"
		return r.often(1, "d")
	case unit == "fortnight" && n == 1:
		return r.often(2, "w")
	case n == 1 && units[unit] != "":
		return r.often(1, units[unit])
	}
	r.at = begin
	return false
}

// takeMinutesPast takes several minutes of some hours, or those of several hours: at 0 and 30
// minutes past 8, 9 and 14.
func (r *reader) takeMinutesPast() bool {
	begin := r.at
	r.maybe("at")
	minutes := r.list(r.number)
	r.maybe("minutes", "minute", "mins", "min")
	if len(minutes) == 0 || !r.skip("past|after") {
		r.at = begin
		return false
	}
	r.maybe("the", "hours", "of")
	hours := r.list(r.hour)
	if len(hours) == 0 || len(minutes)*len(hours) < 2 || len(minutes) == 1 && minutes[0] > 59 || r.ahead("am", "pm", "to", "-", "until") {
		r.at = begin
		return false
	}
	vague := slices.Max(hours) < 13
	r.stuck = r.stuck || slices.Max(minutes) > 59
	for _, h := range hours {
		for _, m := range minutes {
			r.times = append(r.times, clock{minute: h*60 + m, vague: vague})
		}
	}
	return true
}

// list reads numbers one after the other: 8, 9 and 14.
func (r *reader) list(one func() (int, bool)) (out []int) {
	for {
		begin := r.at
		if len(out) > 0 {
			if !r.skip("and|,|&") {
				return out
			}
			r.maybe("and")
		}
		n, ok := one()
		if !ok {
			r.at = begin
			return out
		}
		out = append(out, n)
	}
}

// takePast takes minutes after every hour: at 5 past every hour, on the half hour,
// every hour at quarter past.
func (r *reader) takePast() bool {
	r.maybe("at", "on", "the", "a")
	n := 0
	switch {
	case r.skip("half", "hour") && r.word(-3) == "the", r.skip("half", "past"):
		n = 30
	case r.skip("quarter", "past|after"):
		n = 15
	case r.skip(":15|:30|:45|:20|:10|:05|:40|:50"):
		n = int(r.word(-1)[1]-'0')*10 + int(r.word(-1)[2]-'0')
	default:
		var ok bool
		if n, ok = r.number(); !ok {
			return false
		}
		if r.maybe("minutes", "minute", "min", "mins"); !r.skip("past|after") {
			return false
		}
	}
	if !r.skip("every|each|the", "hour") && (r.unit != "h" || r.every != 1) || n > 59 {
		return false
	}
	if _, isHour := r.hour(); isHour {
		return false
	}
	return r.hourlyAt(n)
}

// hourlyAt notes a minute of every hour.
func (r *reader) hourlyAt(minute int) bool {
	r.offset = minute
	if r.unit == "" {
		r.often(1, "h")
	}
	return true
}

// everyUnit takes a bare unit after "every other".
func (r *reader) everyUnit(n int) bool {
	unit := units[r.word(0)]
	switch {
	case unit == "" || len(r.word(0)) == 1:
		return false
	case unit == "fortnight":
		n, unit = 2*n, "w"
	}
	r.at++
	return r.often(n, unit)
}

// everyOther takes what follows "every other": a unit, or a weekday.
func (r *reader) everyOther() bool {
	if r.everyUnit(2) {
		return true
	}
	if r.skip("weekday|workday") || r.skip("working|business", "day") {
		r.days, r.guessed = append(r.days, "mon", "wed", "fri"), "mon, wed, fri"
		return r.often(1, "d")
	}
	if d := slices.Index(weekdays, dayOf(r.word(0))); d >= 0 {
		second := r.word(-1) == "second" || r.word(-1) == "2nd"
		r.at++
		if begin := r.at; second && r.ofMonth() {
			r.at = begin
			return false
		}
		i := len(r.days)
		r.days = append(r.days, weekdays[d])
		if second { // of the month may be meant as well
			r.variants = append(r.variants, func() { r.days[i], r.every, r.unit = "2nd "+weekdays[d], 0, "" })
		}
		return r.often(2, "w")
	}
	return false
}

// nth is the number of an ordinal that stands here, or 0; it stays.
func (r *reader) nth() int {
	at := r.at
	defer func() { r.at = at }()
	n, _ := strconv.Atoi(strings.TrimRight(r.ordinal(), "stndrh"))
	return n
}

// everyNth takes "every third monday": that of the month, or each third one.
func (r *reader) everyNth(n int) bool {
	d := slices.Index(weekdays, dayOf(r.word(0)))
	if d < 0 {
		return false
	}
	i := len(r.days)
	r.days = append(r.days, fmt.Sprintf("%dth %s", n, weekdays[d]))
	if n == 3 {
		r.days[i] = "3rd " + weekdays[d]
	}
	if r.at++; !r.ofMonth() {
		r.variants = append(r.variants, func() { r.days[i], r.every, r.unit = weekdays[d], n, "w" })
	}
	return true
}
