package phrase

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Error tells what is wrong with a phrase and where.
type Error struct {
	Text    string // the whole phrase
	Pos     int    // byte offset of the words at fault
	Len     int    // their length in bytes; 0 where something is missing
	Problem string // what is wrong
	Offer   string // the phrase that may have been meant, or ""
	Remedy  string // what to do where no phrase can be offered

	Others  []string // further phrases that are meant as likely
	Several []string // phrases of which each is to be an opening of its own, as several moments were said
	Guessed string   // what of the offer was not said, such as a time of day
	Mended  []string // what was mistyped and is offered as another word, in words
	Unknown []string // words that are not understood, where there is no offer
	Why     string   // nothing of the kind can be offered
}

// Column returns the column of the words at fault, in characters from 1.
func (e *Error) Column() int { return utf8.RuneCountInString(e.Text[:e.Pos]) + 1 }

func (e *Error) Error() string {
	s := fmt.Sprintf("column %d: %s", e.Column(), e.Problem)
	if advice := e.Advice(); advice != "" {
		s += "; " + advice
	}
	return s
}

// Advice says what to write instead, or why nothing can be said, or is "".
func (e *Error) Advice() string {
	s := e.Remedy
	switch {
	case e.Offer != "":
		s = fmt.Sprintf("write %q", e.Offer)
		if e.Guessed != "" {
			s += fmt.Sprintf(" (%s is a guess)", e.Guessed)
		}
		for _, other := range e.Others {
			s += fmt.Sprintf(", or %q", other)
		}
	case len(e.Several) > 0:
		s = fmt.Sprintf("these are %d openings; write each for itself: %q", len(e.Several), e.Several[0])
		for _, other := range e.Several[1:] {
			s += fmt.Sprintf(" and %q", other)
		}
	case e.Why != "":
		return e.Why
	case s == "" && len(e.Unknown) > 0 && strings.Join(e.Unknown, " ") != e.Text[e.Pos:e.Pos+e.Len]: // else the problem says it
		return fmt.Sprintf("%q is not understood", strings.Join(e.Unknown, " "))
	}
	for _, mended := range e.Mended {
		s += "; " + mended
	}
	return s
}

// Caret returns the phrase and, below it, a line that marks the words at
// fault.
func (e *Error) Caret() string {
	width := max(1, utf8.RuneCountInString(e.Text[e.Pos:e.Pos+e.Len]))
	return e.Text + "\n" + strings.Repeat(" ", e.Column()-1) + strings.Repeat("^", width)
}
