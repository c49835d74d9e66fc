package phrase

import (
	"strings"

	"timegate/core/calendar"
	"timegate/core/phrase/spoken"
)

// offer looks for the phrase that was meant: by what people say, or by the word
// that is most like the one that is wrong.
func (e *Error) offer() {
	mistyped := e.Offer
	e.Offer = ""
	if e.hear(spoken.Today{}, 0) {
		return
	}
	if mistyped != "" {
		// Offers made by the parser mend one word: keep mending the rest.
		if fixed, ok := mend(mistyped, tries); ok {
			e.Offer = fixed
			return
		}
	}
	e.hear(spoken.Today{}, mostUnknown)
}

// What a mistake may have at most: so many words that are mended one after the
// other, and so many that are not understood beside an offer.
const (
	tries       = 4
	mostUnknown = 3
)

// OfferOn looks for what was meant on a day, for sayings such as "tomorrow at 9".
func (e *Error) OfferOn(today spoken.Today) {
	if p, err := parse(e.Text); err == nil {
		// It is written as it should be, and something else is wrong: it may be that
		// no day is both of two, where one or the other was meant.
		if e.hear(today, 0); e.Offer == p.String() || !strings.Contains(e.Text, " and ") {
			e.Offer, e.Others, e.Guessed, e.Unknown = "", nil, "", nil
		}
		return
	}
	if e.Offer == "" && e.Remedy != "" {
		return // what to do has been said
	}
	mended := *e
	for _, unknown := range []int{0, mostUnknown} {
		e.Offer, e.Others, e.Guessed, e.Unknown = "", nil, "", nil
		if e.hear(today, unknown) {
			return
		}
		if mended.Offer != "" && len(mended.Unknown) == 0 {
			break
		}
	}
	*e = mended
}

// hear takes a saying for a phrase, with at most so many words that are not
// understood. It reports whether there is an offer.
func (e *Error) hear(today spoken.Today, unknown int) bool {
	for _, r := range spoken.Read(e.Text, today) {
		p, err := parse(r.Phrase)
		if err != nil || len(r.Unknown) > unknown || !p.comes() {
			continue
		}
		switch text := p.String(); {
		case e.Offer == "":
			e.Offer, e.Guessed, e.Unknown = text, r.Guessed, r.Unknown
		case text != e.Offer:
			e.Others = append(e.Others, text)
		}
	}
	return e.Offer != ""
}

// comes reports whether a phrase can ever come, whatever its zone is.
func (p *Phrase) comes() bool {
	_, err := p.Compile(Env{Zone: calendar.UTC, FindZone: func(string) (*calendar.Zone, error) { return calendar.UTC, nil },
		DaysIn: func(string) ([]calendar.Item, error) { return nil, nil }})
	return err == nil
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
	heard := &Error{Text: text}
	if heard.hear(spoken.Today{}, 0) {
		return heard.Offer, true
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
