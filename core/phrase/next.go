package phrase

import (
	"slices"
	"strings"
	"time"

	"timegate/core/calendar"
)

// Name is a kind of name that a phrase can hold.
type Name int

// The kinds of names.
const (
	NoName Name = iota
	AccountName
	GateName
	SignalName
	ZoneName
	PathName
	PatternName
)

// Next is what can stand at the end of a phrase that is being written.
type Next struct {
	Head  string   // the text before the word that is being written
	Word  string   // what there is of that word
	Words []string // words that can stand in its place, and begin as it does
	Name  Name     // the kind of name that can stand there
}

// Continue says what can stand at the end of a text, whose last word may be half
// written. It asks the parser itself about each word that there is, and about some
// times, durations and dates as examples; today is the first of the dates. A word that
// stands alone is there with a comma, too, where one can follow.
func Continue(text string, today calendar.Day) Next {
	start := strings.LastIndexAny(text, blanks+",") + 1
	n := Next{Head: text[:start], Word: text[start:]}
	glue := ""
	if strings.HasSuffix(n.Head, ",") {
		glue = " "
	}
	find := func() {
		for _, w := range vocabulary(today) {
			if strings.HasPrefix(w, strings.ToLower(n.Word)) && goesOn(n.Head+glue+w) == NoName {
				n.Words = append(n.Words, w)
			}
		}
	}
	find()
	if i := strings.LastIndexAny(n.Word, "-."); len(n.Words) == 0 && i >= 0 { // the end of a range
		n.Head, n.Word, glue = n.Head+n.Word[:i+1], n.Word[i+1:], ""
		find()
	}
	n.Head += glue
	for _, probe := range []string{"x", "/x"} { // a path begins with a slash
		if kind := goesOn(n.Head + probe); kind > NoName && n.Name == NoName {
			n.Name = kind
		}
	}
	switch last := n.Head + n.Word; {
	case n.Word == "" || n.Name != NoName:
	case len(n.Words) == 0 && goesOn(last+",") == NoName: // a word that is whole, such as a time
		n.Words = []string{n.Word, n.Word + ","}
	case len(n.Words) == 1 && goesOn(n.Head+n.Words[0]+",") == NoName:
		n.Words = append(n.Words, n.Words[0]+",")
	}
	return n
}

// goesOn tells whether a phrase can begin with a text: it is NoName for one that can,
// the kind of name that it ends with, or less than NoName.
func goesOn(text string) Name {
	p := &parser{text: text, out: &Phrase{text: text, marks: map[string]token{}}, aheadOf: -1}
	err := p.phrase()
	if err == nil || p.ended && err.Pos+err.Len <= len(text) {
		return p.named
	}
	return NoName - 1
}

// vocabulary is all words that a phrase can have, with values as examples.
func vocabulary(today calendar.Day) []string {
	words := slices.Concat(beginnings, eventWords, []string{"on", "in", "from", "to", "since", "after", "success", "of", "the", "quiet", "matching", "memory", "disk"},
		short(dayNames), []string{"weekdays", "weekends", "weekday", "day", "days", "last", "next", "previous", "and", "or"}, short(monthNames),
		[]string{"weeks", "months", "years", "week"}, tailWords, []string{"for", "ever", "times"})
	for hour := range 24 {
		words = append(words, Time(hour*3600).String())
	}
	for _, d := range []time.Duration{time.Second, 10 * time.Second, 30 * time.Second, time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute,
		30 * time.Minute, time.Hour, 2 * time.Hour, 4 * time.Hour, 12 * time.Hour, day, 7 * day} {
		words = append(words, FormatSpan(d))
	}
	for n := 1; n <= 5; n++ {
		words = append(words, Ordinal(n))
	}
	words = append(words, "1", "2", "3", "10", "15", "+", "5%", "10%", "500MiB", "1GiB", "10GiB")
	for n := range 3 {
		words = append(words, (today + calendar.Day(n)).String())
	}
	return words
}
