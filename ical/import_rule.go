package ical

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"timegate/core/calendar"
)

// rule is an RRULE.
type rule struct {
	parts map[string]string
	every int
}

// parseRule reads an RRULE's parts (RFC 5545 section 3.3.10).
func parseRule(s string) (*rule, error) {
	r := &rule{parts: map[string]string{}, every: 1}
	for _, part := range strings.Split(s, ";") {
		name, value, ok := strings.Cut(part, "=")
		if !ok {
			return nil, fmt.Errorf("%q is no part of a rule", part)
		}
		r.parts[strings.ToUpper(name)] = strings.ToUpper(value)
	}
	for _, name := range []string{"BYWEEKNO", "BYYEARDAY", "BYSECOND"} {
		if r.parts[name] != "" {
			return nil, fmt.Errorf("a phrase cannot say %s", name)
		}
	}
	if n := r.parts["INTERVAL"]; n != "" {
		var err error
		if r.every, err = strconv.Atoi(n); err != nil || r.every < 1 {
			return nil, fmt.Errorf("INTERVAL=%s is no number", n)
		}
	}
	return r, nil
}

var strideUnits = map[string]string{"DAILY": "day", "WEEKLY": "week", "MONTHLY": "month", "YEARLY": "year"}

// phrase says the rule from its start on. days is how far an offset has moved
// the moments from the rule's own days.
func (r *rule) phrase(start civil, days int) (string, error) {
	freq := r.parts["FREQ"]
	if freq == "HOURLY" || freq == "MINUTELY" || freq == "SECONDLY" {
		return r.interval(start)
	}
	unit, ok := strideUnits[freq]
	if !ok {
		return "", fmt.Errorf("FREQ=%s is no frequency", freq)
	}
	if freq == "WEEKLY" && r.every > 1 && r.parts["WKST"] != "" && r.parts["WKST"] != "MO" {
		return "", fmt.Errorf("a phrase counts weeks from Monday, not from %s", r.parts["WKST"])
	}
	on, err := r.on(start, days)
	if err != nil {
		return "", err
	}
	times, err := r.times(start, days)
	if err != nil {
		return "", err
	}
	text := "at " + times
	if on != "" {
		text += " on " + on
	}
	if months, err := r.months(start, freq, days); err != nil {
		return "", err
	} else if months != "" {
		text += " in " + months
	}
	if r.every > 1 {
		if days != 0 {
			return "", errors.New("a phrase cannot say an alarm on another day together with INTERVAL")
		}
		text += fmt.Sprintf(" every %d %ss from %s", r.every, unit, start.day)
	} else {
		text += fmt.Sprintf(", starting %s", start.day)
	}
	return text, nil
}

// interval says frequencies below a day, which are elapsed time.
func (r *rule) interval(start civil) (string, error) {
	for name := range r.parts {
		if strings.HasPrefix(name, "BY") {
			return "", fmt.Errorf("a phrase cannot say %s together with FREQ=%s", name, r.parts["FREQ"])
		}
	}
	unit := map[string]string{"HOURLY": "h", "MINUTELY": "m", "SECONDLY": "s"}[r.parts["FREQ"]]
	return fmt.Sprintf("every %d%s since %s %s", r.every, unit, start.day, start.clock()), nil
}

// times says BYHOUR and BYMINUTE, or the start's own time.
func (r *rule) times(start civil, days int) (string, error) {
	if r.parts["BYHOUR"] == "" && r.parts["BYMINUTE"] == "" {
		return start.clock(), nil
	}
	if days != 0 {
		return "", errors.New("a phrase cannot say an alarm on another day together with BYHOUR")
	}
	list := func(name string, own int64, most int64) ([]int64, error) {
		if r.parts[name] == "" {
			return []int64{own}, nil
		}
		var out []int64
		for _, s := range strings.Split(r.parts[name], ",") {
			n, err := strconv.ParseInt(s, 10, 64)
			if err != nil || n < 0 || n > most {
				return nil, fmt.Errorf("%s=%s is out of range", name, s)
			}
			out = append(out, n)
		}
		return out, nil
	}
	hours, err := list("BYHOUR", start.second/3600, 23)
	if err != nil {
		return "", err
	}
	minutes, err := list("BYMINUTE", start.second/60%60, 59)
	if err != nil {
		return "", err
	}
	var out []string
	for _, h := range hours {
		for _, m := range minutes {
			out = append(out, civil{second: h*3600 + m*60 + start.second%60}.clock())
		}
	}
	return strings.Join(out, ", "), nil
}

func (r *rule) months(start civil, freq string, days int) (string, error) {
	list := r.parts["BYMONTH"]
	if list == "" && freq == "YEARLY" {
		_, m, _ := (start.day - calendar.Day(days)).Date()
		list = strconv.Itoa(m)
	}
	if list == "" {
		return "", nil
	}
	if days != 0 {
		return "", errors.New("a phrase cannot say an alarm on another day together with months")
	}
	var out []string
	for _, s := range strings.Split(list, ",") {
		n, err := strconv.Atoi(s)
		if err != nil || n < 1 || n > 12 {
			return "", fmt.Errorf("BYMONTH=%s is no month", s)
		}
		out = append(out, strings.ToLower(time.Month(n).String()[:3]))
	}
	return strings.Join(out, ", "), nil
}
