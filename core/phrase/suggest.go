package phrase

import (
	"regexp"
	"strings"
	"sync"
)

// near misses that people type, and how they are written here. They are tried
// in order, each as long as it changes something, and what results is offered
// only if it is a phrase.
var rewrites = []struct{ from, to string }{
	{`\b(\d{1,2})\s*(?:a\.?m\.?|o'?clock)\b`, "at $1:00"},
	{`\b12:00\s*pm\b`, "12:00"},
	{`\bat\s+at\b`, "at"},
	{`\b(at|from|to|,) (\d)(:\d\d)\b`, "$1 0$2$3"},
	{`^(\d)(:\d\d)\b`, "0$1$2"},
	{`\b(at|from|to) (\d)$`, "$1 0$2:00"},
	{`\b(at|from|to) (\d) `, "$1 0$2:00 "},
	{`\b(at|from|to) (\d\d)( |$)`, "$1 $2:00$3"},
	{`\b(\d\d?)[.](\d\d)\b`, "$1:$2"},
	{`\bnoon\b`, "12:00"},
	{`\bmidnight\b`, "00:00"},
	{`\b(mon|tue|wed|thu|fri|sat|sun)[a-z]*s\b`, "$1"},
	{`\b(tue|wed|thu)(?:e?r?s|r|nes)\b`, "$1"},
	{`\b(sep)t\b`, "$1"},
	{`\b(?:each|per)\b`, "every"},
	{`^hourly\b`, "every 1h"},
	{`^(?:daily|every ?day|every 1 ?d(?:ay)?)\b(?: at)?`, "at"},
	{`^every (hour|minute|second)\b`, "every 1 $1"},
	{`\b(\d+) ?(?:seconds?|secs?)\b`, "${1}s"},
	{`\b(\d+) ?(?:minutes?|mins?)\b`, "${1}m"},
	{`\b(\d+) ?(?:hours?|hrs?)\b`, "${1}h"},
	{`\b(\d+) ?days\b$`, "${1}d"},
	{`\bbetween (\S+) and (\S+)`, "from $1 to $2"},
	{`\b(\d\d:\d\d) ?(?:-|until|till) ?(\d\d:\d\d)\b`, "$1 to $2"},
	{`\b(?:until|till|by) (\d{4}-)`, ", ending $1"},
	{`\bfrom (\d{4}-\d\d-\d\d)$`, ", starting $1"},
	{`\bweekday\b`, "weekdays"},
	{`\b(?:working|business) ?days?\b`, "weekdays"},
	{`\bweekend\b`, "weekends"},
	{`^weekly (?:on )?`, "on "},
	{`^monthly (?:on )?(?:the )?(\d+)(?:st|nd|rd|th)?\b`, "on day $1"},
	{`^every (mon|tue|wed|thu|fri|sat|sun|weekdays|weekends|last|\d+(?:st|nd|rd|th))`, "on $1"},
	{`^(mon|tue|wed|thu|fri|sat|sun|weekdays|weekends)`, "on $1"},
	{`^on (\S+) (\d:\d\d)$`, "on $1 at 0$2"},
	{`^on (\S+) (\d\d:\d\d)$`, "on $1 at $2"},
	{`^on (.+?),? at (\d\d:\d\d(?::\d\d)?)$`, "at $2 on $1"},
	{`^(\d\d:\d\d)`, "at $1"},
	{`\bon the\b`, "on"},
	{`\bof (?:the|every|each) month\b`, ""},
	{`\bon (\d{1,2})(?:st|nd|rd|th)\b`, "on day $1"},
	{`\band (mon|tue|wed|thu|fri|sat|sun|\d\d:\d\d)`, ", $1"},
	{`^(?:at |on )?(?:startup|start-up|start up|reboot|power ?on)\b`, "boot"},
	{`^(?:at |on )(boot|logon|logoff|unlock|lock|resume|sleep|mains|battery)\b`, "$1"},
	{`^(?:at |on )?(?:log ?in|sign ?in)\b`, "logon"},
	{`^(?:at |on )?(?:log ?out|sign ?out)\b`, "logoff"},
	{`^(?:at |on )?(?:wake ?up|wake)\b`, "resume"},
	{`^(\S+) after (boot|logon|unlock|resume)$`, "$2 + $1"},
	{` then every`, ", then every"},
	{` (starting|ending|except|zone|utc)\b`, ", $1"},
	{`\s*,(\s*,)+`, ","},
	{`\s+,`, ","},
	{`,(\S)`, ", $1"},
	{`\s\s+`, " "},
	{`[\s,]+$`, ""},
}

// offer looks for the phrase that was meant.
func (e *Error) offer() {
	if e.Offer != "" {
		// Offers made by the parser mend one word: keep mending the rest.
		if fixed, ok := mend(e.Offer, 4); ok {
			e.Offer = fixed
			return
		}
		e.Offer = ""
	}
	if fixed, ok := mend(rewrite(e.Text), 4); ok {
		e.Offer = fixed
	}
}

// rewriters are compiled when the first mistake is made, not at every start.
var rewriters = sync.OnceValue(func() []*regexp.Regexp {
	out := make([]*regexp.Regexp, len(rewrites))
	for i, r := range rewrites {
		out[i] = regexp.MustCompile(r.from)
	}
	return out
})

func rewrite(text string) string {
	text = strings.ToLower(strings.TrimSpace(text))
	for i, re := range rewriters() {
		text = re.ReplaceAllString(text, rewrites[i].to)
	}
	return strings.TrimSpace(text)
}

// mend returns the canonical form of text, or of what its own errors offer.
func mend(text string, tries int) (string, bool) {
	p, err := parse(text)
	switch {
	case err == nil:
		return p.String(), true
	case tries == 0:
		return "", false
	case err.Offer != "":
		return mend(err.Offer, tries-1)
	}
	if again := rewrite(text); again != text {
		return mend(again, tries-1)
	}
	return "", false
}

// replace puts other words in the place of a token.
func replace(text string, t token, by string) string { return text[:t.pos] + by + text[t.end:] }

// nearest returns text with t replaced by the candidate that is most like it,
// or "" if none is.
func nearest(text string, t token, candidates []string) string {
	if t.kind != word && t.kind != other {
		return ""
	}
	if best, ok := Nearest(t.lower(), candidates); ok {
		return replace(text, t, best)
	}
	return ""
}

// Nearest returns the candidate most like a mistyped word, if one is near: at
// most a third of its letters, and at least one, may differ.
func Nearest(typed string, candidates []string) (string, bool) {
	best, least := "", max(1, len([]rune(typed))/3)+1
	for _, c := range candidates {
		if d := distance(strings.ToLower(typed), strings.ToLower(c)); d < least {
			best, least = c, d
		}
	}
	return best, best != ""
}

// distance counts the letters to insert, drop, replace or swap with their
// neighbour to turn a into b.
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	before, prev := make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := range x {
		row := make([]int, len(y)+1)
		row[0] = i + 1
		for j := range y {
			cost := 1
			if x[i] == y[j] {
				cost = 0
			}
			row[j+1] = min(prev[j]+cost, prev[j+1]+1, row[j]+1)
			if i > 0 && j > 0 && x[i] == y[j-1] && x[i-1] == y[j] {
				row[j+1] = min(row[j+1], before[j-1]+1)
			}
		}
		before, prev = prev, row
	}
	return prev[len(y)]
}
