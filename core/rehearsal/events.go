package rehearsal

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"timegate/core/calendar"
	"timegate/core/event"
	"timegate/core/phrase"
)

// EventHelp returns what can happen, with the arguments of each.
func EventHelp() []string {
	var out []string
	for _, v := range event.Played() {
		out = append(out, v.Usage())
	}
	return out
}

var clockWord = regexp.MustCompile(`^\d{1,2}:\d\d(:\d\d)?$`)

// events reads what happens, in the order of time. An event without a day happens on
// every day.
func (r *reader) events(d *Day, texts []string) {
	for _, text := range texts {
		words := strings.Fields(text)
		at := slices.IndexFunc(words, clockWord.MatchString)
		if at < 0 || at == len(words)-1 {
			r.fail(text, "it does not say when, and then what", `write for instance "07:10 boot" or "mon-fri 17:30 logoff maren"`)
			r.seen[text]++
			continue
		}
		what := words[at+1:]
		if problem, remedy := r.event(what); problem != "" {
			r.fail(text, problem, remedy)
			r.seen[text]++
			continue
		}
		r.seen[text]++
		e := Event{Verb: strings.ToLower(what[0]), Args: what[1:]}
		for _, due := range r.moments(d, text, strings.Join(words[:at], " "), words[at]) {
			e.At = due
			d.Events = append(d.Events, e)
		}
	}
	slices.SortStableFunc(d.Events, func(a, b Event) int { return cmp.Compare(a.At, b.At) })
}

// event checks what happens.
func (r *reader) event(words []string) (problem, remedy string) {
	v, problem, remedy := event.Find(event.Played(), words)
	if problem != "" {
		return problem, remedy
	}
	if v.Arguments == "GATE" && !slices.Contains(r.env.Gates, words[1]) {
		problem = fmt.Sprintf("there is no gate %q", words[1])
		if near, ok := phrase.Nearest(words[1], r.env.Gates); ok {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
	}
	return problem, remedy
}

// moments returns when an event happens within the day file: days are written as in a
// phrase.
func (r *reader) moments(d *Day, text, days, clock string) []calendar.Instant {
	if len(clock) < len("00:00") || len(clock) == len("0:00:00") {
		clock = "0" + clock
	}
	when := "at " + clock
	if days != "" {
		when += " on " + days
	}
	p, err := phrase.Parse(when)
	if err == nil {
		var plan *phrase.Plan
		if plan, err = p.Compile(phrase.Env{Zone: d.Zone, FindZone: r.env.Find}); err == nil {
			var out []calendar.Instant
			for at := d.From - 1; ; {
				due, _, ok := plan.Next(at)
				if !ok || due > d.To {
					break
				}
				out = append(out, due)
				at = due
			}
			if len(out) == 0 && r.env.Now != 0 {
				d.LeftOut = append(d.LeftOut, text)
				return nil
			}
			if len(out) == 0 {
				r.seen[text]--
				r.fail(text, "it does not happen between the beginning and the end", "write another time, or a longer day")
				r.seen[text]++
			}
			return out
		}
	}
	r.seen[text]--
	r.fail(text, fmt.Sprintf("%q is no time such as 07:10 or mon-fri 17:30", strings.TrimSpace(days+" "+clock)), "")
	r.seen[text]++
	return nil
}
