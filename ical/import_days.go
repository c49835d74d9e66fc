package ical

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

var weekdayNames = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// on says the days of a rule as the list after "on", or "" for every day.
func (r *rule) on(start civil, days int) (string, error) {
	var entries []string
	var err error
	byDay, byMonthDay, pos := r.parts["BYDAY"], r.parts["BYMONTHDAY"], r.parts["BYSETPOS"]
	switch {
	case pos != "":
		entries, err = r.byPosition(byDay, byMonthDay, pos)
	case byDay != "" && byMonthDay != "":
		entries, err = both(byDay, byMonthDay)
	case byDay != "":
		entries, err = r.byDay(byDay)
	case byMonthDay != "":
		entries, err = monthDays(byMonthDay)
	default:
		entries = r.ownDay(start, days)
	}
	if err != nil {
		return "", err
	}
	if days != 0 && len(entries) > 0 {
		for i, e := range entries {
			entries[i] = fmt.Sprintf("%s %+dd", e, days)
		}
	}
	return strings.Join(entries, ", "), nil
}

// ownDay is what the start supplies where the rule names no day.
func (r *rule) ownDay(start civil, days int) []string {
	own := start.day - calendar.Day(days)
	_, _, d := own.Date()
	switch r.parts["FREQ"] {
	case "WEEKLY":
		return []string{weekdayNames[own.Weekday()]}
	case "MONTHLY", "YEARLY":
		return []string{fmt.Sprintf("day %d", d)}
	}
	return nil
}

// byDay says BYDAY: weekdays, or the nth of a month.
func (r *rule) byDay(list string) ([]string, error) {
	var out []string
	for _, s := range strings.Split(list, ",") {
		n, name, err := parseByDay(s)
		switch {
		case err != nil:
			return nil, err
		case n == 0:
			out = append(out, name)
		case r.parts["FREQ"] == "YEARLY" && r.parts["BYMONTH"] == "":
			return nil, errors.New("a phrase cannot count weekdays within a year")
		case r.parts["FREQ"] != "MONTHLY" && r.parts["FREQ"] != "YEARLY":
			return nil, fmt.Errorf("BYDAY=%s goes with FREQ=MONTHLY", s)
		default:
			out = append(out, nth(n, name))
		}
	}
	if r.parts["FREQ"] == "YEARLY" && r.parts["BYMONTH"] == "" {
		return nil, errors.New("a phrase cannot say every such weekday of a year together with FREQ=YEARLY; FREQ=WEEKLY says the same")
	}
	return out, nil
}

// nth says the nth of something within a month, from its end where negative.
func nth(n int, what string) string {
	switch {
	case n == -1:
		return "last " + what
	case n < 0:
		return phrase.Ordinal(-n) + " last " + what
	}
	return phrase.Ordinal(n) + " " + what
}

// parseByDay reads MO, 2TU or -1FR.
func parseByDay(s string) (n int, name string, err error) {
	if len(s) >= 2 {
		if i := slices.Index(dayCodes, s[len(s)-2:]); i >= 0 {
			if head := s[:len(s)-2]; head != "" {
				n, err = strconv.Atoi(head)
			}
			if err == nil && n >= -5 && n <= 5 {
				return n, weekdayNames[i], nil
			}
		}
	}
	return 0, "", fmt.Errorf("BYDAY=%s is no day", s)
}

// monthDays says BYMONTHDAY, from the month's end where negative.
func monthDays(list string) ([]string, error) {
	var plain, out []string
	for _, s := range strings.Split(list, ",") {
		n, err := strconv.Atoi(s)
		switch {
		case err != nil || n == 0 || n < -31 || n > 31:
			return nil, fmt.Errorf("BYMONTHDAY=%s is no day", s)
		case n > 0:
			plain = append(plain, s)
		default:
			out = append(out, nth(n, "day"))
		}
	}
	if len(plain) > 0 {
		out = append([]string{"day " + strings.Join(plain, ", ")}, out...)
	}
	return out, nil
}

// both says BYDAY together with BYMONTHDAY: days that are of both lists.
func both(byDay, byMonthDay string) ([]string, error) {
	months, err := monthDays(byMonthDay)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, s := range strings.Split(byDay, ",") {
		n, name, err := parseByDay(s)
		if err != nil || n != 0 {
			return nil, fmt.Errorf("a phrase cannot say BYDAY=%s together with BYMONTHDAY", s)
		}
		for _, m := range months {
			// In a list of days of the month the weekday comes first, or a
			// number after a comma would go on with it.
			out = append(out, name+" and "+m)
		}
	}
	return out, nil
}

// byPosition says BYSETPOS where the set are the weekdays from Monday to
// Friday, one weekday, or all days.
func (r *rule) byPosition(byDay, byMonthDay, pos string) ([]string, error) {
	set := strings.Split(byDay, ",")
	slices.Sort(set)
	what := map[string]string{"FR,MO,TH,TU,WE": "weekday", "FR,MO,SA,SU,TH,TU,WE": "day"}[strings.Join(set, ",")]
	if len(set) == 1 && byDay != "" {
		if n, name, err := parseByDay(byDay); err == nil && n == 0 {
			what = name
		}
	}
	if what == "" || byMonthDay != "" || r.parts["FREQ"] != "MONTHLY" || r.parts["BYHOUR"] != "" || r.parts["BYMINUTE"] != "" {
		return nil, errors.New("a phrase cannot say this use of BYSETPOS")
	}
	var out []string
	for _, s := range strings.Split(pos, ",") {
		n, err := strconv.Atoi(s)
		if err != nil || n == 0 {
			return nil, fmt.Errorf("BYSETPOS=%s is no position", s)
		}
		if what == "day" && n > 0 {
			out = append(out, fmt.Sprintf("day %d", n))
			continue
		}
		out = append(out, nth(n, what))
	}
	return out, nil
}
