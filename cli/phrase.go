package cli

import (
	"errors"
	"fmt"

	"timegate/core/calendar"
	"timegate/core/phrase"
	"timegate/core/phrase/spoken"
)

// phraseOf reads a phrase. On a terminal, what was meant by one that is wrong can
// be taken at once.
func (a *app) phraseOf(text string) (*phrase.Phrase, error) {
	p, err := phrase.Parse(text)
	wrong, is := errors.AsType[*phrase.Error](err)
	if !is || !a.asks() {
		return p, err
	}
	wrong.OfferOn(a.today())
	for _, offer := range append([]string{wrong.Offer}, wrong.Others...) {
		if offer == "" {
			continue
		}
		meant, parseErr := phrase.Parse(offer)
		if parseErr != nil {
			continue
		}
		words := meant.Words()
		if offer == wrong.Offer && wrong.Guessed != "" {
			words += " (" + wrong.Guessed + " is a guess)"
		}
		for _, mended := range wrong.Mended {
			words += "; " + mended
		}
		fmt.Fprintf(a.err, "%s\n  %s\n", text, a.err.faint(words))
		if a.answer(fmt.Sprintf("Write %q?", offer), true) {
			return meant, nil
		}
	}
	return nil, err
}

// today is the day by which sayings such as "tomorrow" are meant.
func (a *app) today() spoken.Today {
	now := a.now().In(a.zone.Location())
	return spoken.Today{Day: calendar.DayOf(now.Year(), int(now.Month()), now.Day()), Minute: now.Hour()*60 + now.Minute()}
}
