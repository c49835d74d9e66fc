package spoken

import (
	"slices"
	"strings"
)

// What no phrase can say, and what can be done instead.
const (
	ofTheSun     = "when the sun rises or sets is not known here; write a time of day"
	ofTheWeather = "the weather is not known here; write a time, and let the program look"
	ofTheMoon    = "the moon is not known here; write the dates"
	ofMeals      = "when that is, only you know; write a time of day"
	ofPay        = `which day that is, only you know; write it, such as "at 09:00 on day 25" or "at 09:00 on last weekday"`
	ofHolidays   = `which days these are, only you know; to leave them out, keep their dates in a file: "at 07:00, except days in /srv/holidays.txt"`
	ofFeelings   = "what somebody feels or wants is nothing that a machine can tell; write a time, or an event"
	ofEaster     = "its date changes each year; write the dates"
	ofThePast    = "that is past; write a time that is to come"
	ofCharge     = `no opening waits for a charge: "battery" is when the machine is unplugged; to start only with enough, set needs.power = "mains or 20%"`
	ofBefore     = "nobody knows of that beforehand; write a time of day, or an event that comes before it"
)

// reasons are words that no phrase can say, with why.
var reasons = func() map[string]string {
	out := map[string]string{}
	for why, list := range map[string]string{
		ofTheSun: "sunrise sunset sun dawn dusk twilight daylight daybreak nightfall", ofTheWeather: "rain rains raining rainy snow snows snowing weather sunny cloudy storm stormy hot cold warm windy temperature",
		ofTheMoon: "moon tide tides", ofMeals: "lunch lunchtime breakfast dinner dinnertime supper teatime teabreak brunch meal bedtime", ofPay: "payday paydays pay-day wages salary",
		ofHolidays: "holiday holidays vacation vacations school term terms semester bank-holiday", ofFeelings: "feel feels feeling mood moods bored tired happy sad ready hungry busy need needed necessary",
		ofEaster: "easter ramadan diwali hanukkah thanksgiving pentecost whitsun", ofThePast: "yesterday ago",
	} {
		for word := range strings.FieldsSeq(list) {
			out[word] = why
		}
	}
	return out
}()

// needFor says which need of a gate's says what a condition in a saying does, or "".
func needFor(has func(...string) bool) string {
	const write = "what must hold besides is for the gate to say, and not for the phrase: "
	switch {
	case has("mains", "plugged", "charger", "ac"):
		return write + `needs.power = "mains"`
	case has("battery", "unplugged"):
		return "" // there is no need for that
	case has("network", "internet", "online", "wifi", "connected"):
		return write + "needs.online = true"
	case has("someone", "somebody", "anyone", "logged", "logs"):
		return write + `needs.people = "someone", "nobody" or an account`
	case has("idle", "nobody", "using", "uses"):
		return write + `needs.idle = "10m", or needs.people = "nobody"`
	case has("mounted", "exists", "there", "available"):
		return write + `needs.paths = ["/media/vault"]`
	}
	return ""
}

// monthDaysMost is how many days a month has at most.
var monthDaysMost = map[string]int{"jan": 31, "feb": 29, "mar": 31, "apr": 30, "may": 31, "jun": 30, "jul": 31, "aug": 31, "sep": 30, "oct": 31, "nov": 30, "dec": 31}

// why says why nothing can be made of a saying, where that is known.
func why(tokens []token) string {
	has := func(words ...string) bool {
		return slices.ContainsFunc(tokens, func(t token) bool { return slices.Contains(words, t.lower) })
	}
	for i, t := range tokens {
		if reason := reasons[t.lower]; reason != "" {
			return reason
		}
		if t.lower != "last" || i+1 >= len(tokens) {
			continue
		}
		if next := tokens[i+1].lower; next == "night" || next == "week" {
			return ofThePast
		}
	}
	r := &reader{tokens: tokens, offset: -1}
	for r.at = range tokens {
		begin := r.at
		if days, _, ok := r.monthDays(); ok {
			for _, d := range days {
				if d.day > monthDaysMost[d.month] {
					return monthNames[monthIndex(d.month)] + " has no day " + itoa(d.day)
				}
			}
		}
		r.at = begin
	}
	switch needs := needFor(has); {
	case has("if", "while", "when", "unless", "only", "provided") && has("at", "every", "daily", "each", "on") && needs != "":
		return needs
	case has("battery", "charge") && has("%", "percent", "below", "under", "low", "full", "above"):
		return ofCharge
	case has("before") && has("shutdown", "shut", "logoff", "log", "logs", "sleep", "sleeps", "boot", "lock", "locks", "logout"):
		return ofBefore
	}
	return ""
}
