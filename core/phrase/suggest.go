package phrase

import (
	"fmt"
	"slices"
	"strings"

	"timegate/core/calendar"
	"timegate/core/phrase/spoken"
)

// offer looks for the phrase that was meant: by what people say, or by the word
// that is most like the one that is wrong.
func (e *Error) offer() {
	mistyped := e.Offer
	e.Offer = ""
	if e.hear(spoken.Today{}) {
		return
	}
	if mistyped != "" {
		// Offers made by the parser mend one word: keep mending the rest.
		if fixed, ok := mend(mistyped, tries); ok {
			e.forget()
			e.Offer = fixed
		}
	}
}

// tries is how many words are mended at most, one after the other.
const tries = 4

// OfferOn looks for what was meant on a day, for sayings such as "tomorrow at 9".
func (e *Error) OfferOn(today spoken.Today) {
	if p, err := parse(e.Text); err == nil {
		// It is written as it should be, and something else is wrong: it may be that
		// no day is both of two, where one or the other was meant.
		if e.hear(today); e.Offer == p.String() || !strings.Contains(e.Text, " and ") {
			e.forget()
		}
		return
	}
	if e.Offer == "" && e.Remedy != "" {
		return // what to do has been said
	}
	mended := *e
	if !e.hear(today) && mended.Offer != "" {
		*e = mended
	}
}

// forget forgets what was offered.
func (e *Error) forget() {
	e.Offer, e.Others, e.Several, e.Guessed, e.Unknown, e.Mended, e.Why = "", nil, nil, "", nil, nil, ""
}

// hear takes a saying for a phrase, or for several. It reports whether there is an offer;
// where there is none, it is noted what was not understood.
func (e *Error) hear(today spoken.Today) bool {
	e.forget()
	heard := spoken.Read(e.Text, today)
	for _, m := range heard.Mended {
		e.Mended = append(e.Mended, fmt.Sprintf("%q is read as %q", m.Typed, m.Read))
	}
	for _, r := range heard.Readings {
		p, err := parse(r.Phrase)
		if err != nil || !p.comes() {
			continue
		}
		switch text := p.String(); {
		case e.Offer == "":
			e.Offer, e.Guessed = text, r.Guessed
		case text != e.Offer && !slices.Contains(e.Others, text):
			e.Others = append(e.Others, text)
		}
	}
	for _, text := range heard.Several {
		p, err := parse(text)
		if err != nil || !p.comes() {
			e.Several = nil
			break
		}
		e.Several = append(e.Several, p.String())
	}
	if e.Offer == "" && len(e.Several) == 0 {
		e.Mended, e.Unknown, e.Why = nil, heard.Unknown, heard.Why
		return false
	}
	return true
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
	heard.hear(spoken.Today{})
	return heard.Offer, heard.Offer != ""
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

// OneWrong reports whether one letter too many, missing, wrong or swapped with its neighbour
// is all that is between two words.
func OneWrong(a, b string) bool { return spoken.Distance(strings.ToLower(a), strings.ToLower(b)) <= 1 }

// Nearest returns the candidate most like a mistyped word, if one is near: at
// most a third of its letters, and at least one, may differ.
func Nearest(typed string, candidates []string) (string, bool) {
	best, least := "", max(1, len([]rune(typed))/3)+1
	for _, c := range candidates {
		if d := spoken.Distance(strings.ToLower(typed), strings.ToLower(c)); d < least {
			best, least = c, d
		}
	}
	return best, best != ""
}
