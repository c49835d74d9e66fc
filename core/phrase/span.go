package phrase

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

const day = 24 * time.Hour

// MaxSpan is the longest span that can be written: a hundred years of 365 days.
const MaxSpan = 36500 * day

var units = []struct {
	name   string
	length time.Duration
	word   string
}{
	{"w", 7 * day, "week"},
	{"d", day, "day"},
	{"h", time.Hour, "hour"},
	{"m", time.Minute, "minute"},
	{"s", time.Second, "second"},
	{"ms", time.Millisecond, "millisecond"},
}

// ParseSpan reads a span of time: numbers with the units w, d, h, m, s and ms,
// the largest first, as in "1h30m". A day is 24 hours, a week seven days.
func ParseSpan(s string) (time.Duration, error) {
	var total time.Duration
	rest, next := s, 0
	for rest != "" {
		digits := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
		letters := digits
		for letters < len(rest) && (rest[letters] < '0' || rest[letters] > '9') {
			letters++
		}
		n, err := strconv.ParseInt(rest[:digits], 10, 64)
		if err != nil {
			return 0, fmt.Errorf("%q is not a duration such as 1h30m, 90s or 2d", s)
		}
		unit := unitIndex(strings.ToLower(rest[digits:letters]))
		switch {
		case unit < 0:
			return 0, fmt.Errorf("%q is not a duration: after %d comes one of w, d, h, m, s, ms", s, n)
		case unit < next:
			return 0, fmt.Errorf("%q is not a duration: the largest unit comes first, each once", s)
		case n > int64(MaxSpan/units[unit].length):
			return 0, fmt.Errorf("%q is longer than a hundred years", s)
		}
		total += time.Duration(n) * units[unit].length
		rest, next = rest[letters:], unit+1
	}
	if s == "" {
		return 0, fmt.Errorf("a duration such as 1h30m is missing")
	}
	if total > MaxSpan {
		return 0, fmt.Errorf("%q is longer than a hundred years", s)
	}
	return total, nil
}

func unitIndex(name string) int {
	for i, u := range units {
		if u.name == name {
			return i
		}
	}
	return -1
}

// FormatSpan prints a span as [ParseSpan] reads it, the largest unit first.
// What is finer than a millisecond is dropped.
func FormatSpan(d time.Duration) string {
	if d < time.Millisecond {
		return "0s"
	}
	var b strings.Builder
	for _, u := range units {
		if n := d / u.length; n > 0 {
			fmt.Fprintf(&b, "%d%s", n, u.name)
			d -= n * u.length
		}
	}
	return b.String()
}

// SpanWords says a span in words: "1 hour 30 minutes".
func SpanWords(d time.Duration) string {
	if d < time.Millisecond {
		return "0 seconds"
	}
	var parts []string
	for _, u := range units {
		if n := int64(d / u.length); n > 0 {
			parts = append(parts, count(n, u.word))
			d -= time.Duration(n) * u.length
		}
	}
	return strings.Join(parts, " ")
}

// everyWords says how often: "every minute", "every 1 hour 30 minutes".
func everyWords(d time.Duration) string {
	for _, u := range units {
		if d == u.length {
			return "every " + u.word
		}
	}
	return "every " + SpanWords(d)
}

// count puts a number before a noun: "1 day", "3 days".
func count(n int64, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return strconv.FormatInt(n, 10) + " " + noun + "s"
}
