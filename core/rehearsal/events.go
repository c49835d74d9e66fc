package rehearsal

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// verbs are what can happen, with the arguments that each takes.
var verbs = []struct {
	word, arguments string
	check           func(arg string) string // what is wrong with the first argument, or ""
}{
	{"boot", "", nil}, {"shutdown", "", nil}, {"logon", "NAME", nil}, {"logoff", "NAME", nil}, {"lock", "[NAME]", nil}, {"unlock", "[NAME]", nil},
	{"sleep", "", nil}, {"resume", "", nil}, {"mains", "", nil}, {"battery", "[N%]", charge}, {"online", "", nil}, {"offline", "", nil},
	{"idle", "[SPAN]", span}, {"active", "", nil}, {"mount", "PATH", whole}, {"unmount", "PATH", whole}, {"device", "NAME", nil}, {"change", "PATH", whole},
	{"memory", "AMOUNT", amount}, {"disk", "PATH AMOUNT", whole}, {"signal", "NAME", nil}, {"open", "GATE", nil}, {"stop", "GATE", nil}, {"pause", "", nil}, {"continue", "", nil},
}

// EventHelp returns what can happen, with the arguments of each.
func EventHelp() []string {
	var out []string
	for _, v := range verbs {
		out = append(out, strings.TrimSpace(v.word+" "+v.arguments))
	}
	return out
}

func charge(arg string) string {
	if n, err := strconv.Atoi(strings.TrimSuffix(arg, "%")); err != nil || n < 1 || n > 100 {
		return fmt.Sprintf("%q is no charge such as 64%%", arg)
	}
	return ""
}

func span(arg string) string {
	if _, err := phrase.ParseSpan(arg); err != nil {
		return err.Error()
	}
	return ""
}

func amount(arg string) string {
	if _, ok := phrase.ParseAmount(arg); !ok {
		return fmt.Sprintf("%q is no amount such as 300MiB or 5%%", arg)
	}
	return ""
}

func whole(arg string) string {
	if !path.IsAbs(arg) && !strings.HasPrefix(arg, "~/") {
		return fmt.Sprintf("%q is no whole path such as /media/vault", arg)
	}
	return ""
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
	var known []string
	for _, v := range verbs {
		known = append(known, v.word)
		if v.word != strings.ToLower(words[0]) {
			continue
		}
		args := words[1:]
		if most := len(strings.Fields(v.arguments)); len(args) > most || len(args) < most && !strings.HasPrefix(v.arguments, "[") {
			return fmt.Sprintf("%q takes %s", v.word, cmp.Or(v.arguments, "no argument")), "write " + strings.TrimSpace(v.word+" "+v.arguments)
		}
		if len(args) > 0 && v.check != nil {
			if wrong := v.check(args[0]); wrong != "" {
				return wrong, ""
			}
		}
		if len(args) > 1 {
			if wrong := amount(args[1]); wrong != "" {
				return wrong, ""
			}
		}
		if v.arguments == "GATE" && !slices.Contains(r.env.Gates, args[0]) {
			problem = fmt.Sprintf("there is no gate %q", args[0])
			if near, ok := phrase.Nearest(args[0], r.env.Gates); ok {
				remedy = fmt.Sprintf("did you mean %q?", near)
			}
		}
		return problem, remedy
	}
	if near, ok := phrase.Nearest(strings.ToLower(words[0]), known); ok {
		return fmt.Sprintf("%q is nothing that happens", words[0]), fmt.Sprintf("did you mean %q?", near)
	}
	return fmt.Sprintf("%q is nothing that happens", words[0]), "one of " + strings.Join(known, ", ")
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
