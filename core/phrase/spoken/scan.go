package spoken

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// token is a word, a number, a path, or something in quotes.
type token struct {
	text  string // as it was said
	lower string
}

// scan takes a saying apart. Numbers stand apart from letters that follow them,
// but for ordinals and dates.
func scan(saying string) []token {
	var out []token
	add := func(text string) {
		if text != "" {
			out = append(out, token{text, strings.ToLower(text)})
		}
	}
	for _, field := range fields(saying) {
		if strings.HasPrefix(field, "\"") || strings.HasPrefix(field, "'") {
			add(field)
			continue
		}
		if strings.HasPrefix(field, "/") || strings.HasPrefix(field, "~") {
			path := strings.TrimRight(field, ",;")
			add(path)
			if len(path) < len(field) {
				add(",")
			}
			continue
		}
		for field != "" {
			field = scanWord(field, add)
		}
	}
	return out
}

// fields parts a saying at blanks that are not in quotes.
func fields(s string) []string {
	var out []string
	var b strings.Builder
	quote := rune(0)
	for _, r := range s {
		switch {
		case quote != 0:
			b.WriteRune(r)
			if r == quote {
				quote = 0
			}
		case r == '"' || r == '\'' && b.Len() == 0:
			quote = r
			b.WriteRune(r)
		case r == ' ' || r == '\t' || r == '\n':
			out = append(out, b.String())
			b.Reset()
		default:
			b.WriteRune(r)
		}
	}
	return append(out, b.String())
}

// Dates in figures, and what they are written as instead: the year first, the day first and
// the month by its name where that is known, else both numbers and the year.
var (
	yearFirst = regexp.MustCompile(`^(\d{4})/(\d{1,2})/(\d{1,2})\b`)
	dayFirst  = regexp.MustCompile(`^(\d{1,2})\.(\d{1,2})\.(\d{4}\b|$|[^\d])`)
	either    = regexp.MustCompile(`^(\d{1,2})[/-](\d{1,2})[/-](\d{4})\b`)
	noYear    = regexp.MustCompile(`^(\d{1,2})/(\d{1,2})\b`)
)

// dateIn takes a date in figures.
func dateIn(field string, add func(string)) (is bool, rest string) {
	month := func(text string) string {
		if n, err := strconv.Atoi(text); err == nil && n >= 1 && n <= 12 {
			return monthNames[n-1]
		}
		return ""
	}
	if m := yearFirst.FindStringSubmatch(field); m != nil && month(m[2]) != "" {
		add(m[3])
		add(month(m[2]))
		add(m[1])
		return true, field[len(m[0]):]
	}
	if m := dayFirst.FindStringSubmatch(field); m != nil && month(m[2]) != "" {
		add(m[1])
		add(month(m[2]))
		if len(m[3]) == len("2026") {
			add(m[3])
			return true, field[len(m[0]):]
		}
		return true, strings.TrimPrefix(field[len(m[1])+1+len(m[2]):], ".")
	}
	if m := either.FindStringSubmatch(field); m != nil {
		add(m[1] + "/" + m[2])
		add(m[3])
		return true, field[len(m[0]):]
	}
	if m := noYear.FindString(field); m != "" {
		add(m)
		return true, field[len(m):]
	}
	return false, field
}

// scanWord takes the first token of a field, and returns the rest.
func scanWord(field string, add func(string)) (rest string) {
	switch {
	case strings.ContainsRune(",;()!?", rune(field[0])):
		if field[0] == ',' || field[0] == ';' {
			add(",")
		}
		return field[1:]
	case field[0] >= '0' && field[0] <= '9':
		if date, rest := dateIn(field, add); date {
			return rest
		}
		n := 0
		for n < len(field) && (field[n] >= '0' && field[n] <= '9' || (field[n] == ':' || field[n] == '.' || field[n] == '-') && n+1 < len(field) && field[n+1] >= '0' && field[n+1] <= '9') {
			n++
		}
		for _, end := range []string{"st", "nd", "rd", "th"} {
			if strings.EqualFold(strings.TrimRight(field[n:], ".,;"), end) {
				add(field[:n+2])
				return field[n+2:]
			}
		}
		if number := field[:n]; strings.Count(number, "-") == 1 && !strings.ContainsAny(number, ":.") { // 9-17
			before, after, _ := strings.Cut(number, "-")
			add(before)
			add("-")
			add(after)
		} else if before, after, ok := strings.Cut(number, "-"); ok && strings.Contains(number, ":") {
			add(before)
			add("-")
			add(after)
		} else {
			add(number)
		}
		return field[n:]
	case field[0] == '-' || field[0] == '+' || field[0] == '&' || field[0] == '@' || field[0] == '%':
		add(field[:1])
		return field[1:]
	}
	if len(field) >= 3 && (field[0] == 'h' || field[0] == 'H') && field[1] >= '0' && field[1] <= '9' { // 18h30
		add(field[:1])
		return field[1:]
	}
	n := strings.IndexAny(field, ",;()!?")
	if n < 0 {
		n = len(field)
	}
	word := strings.TrimRight(field[:n], ".")
	if word == "" {
		return field[n:]
	}
	if parts := strings.Split(word, "/"); len(parts) > 1 && !slices.ContainsFunc(parts, func(p string) bool { return dayOf(strings.ToLower(p)) == "" }) {
		for i, p := range parts {
			if i > 0 {
				add(",")
			}
			add(p)
		}
		return field[n:]
	}
	// A range of days is said with a dash; a zone, or start-up, is one word.
	if before, after, ok := strings.Cut(word, "-"); ok && (strings.EqualFold(before, "am") || strings.EqualFold(before, "pm")) && after != "" { // 9pm-5am
		add(before)
		add("-")
		return after + field[n:]
	}
	if before, after, ok := strings.Cut(word, "-"); ok && dayOf(strings.ToLower(before)) != "" && dayOf(strings.ToLower(after)) != "" {
		add(before)
		add("-")
		add(after)
	} else {
		add(strings.TrimSuffix(strings.TrimSuffix(word, "'s"), "’s"))
	}
	return field[n:]
}
