package words

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Line returns a text as one line in which nothing is more than text: whatever a
// terminal, or the order in which letters are shown, would take for something
// else is written out, as in \x1b.
func Line(s string) string { return plain(s, false) }

// Lines is Line for a text of several lines, with tabs in them.
func Lines(s string) string { return plain(s, true) }

func plain(s string, lines bool) string {
	harmless := func(r rune) bool { return lines && (r == '\n' || r == '\t') || !acts(r) }
	if utf8.ValidString(s) && strings.IndexFunc(s, func(r rune) bool { return !harmless(r) }) < 0 {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[0])
		case harmless(r):
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		s = s[n:]
	}
	return b.String()
}

// JSON returns a document in which characters that act are escaped as JSON does
// it (RFC 8259, section 7).
func JSON(s string) string {
	if strings.IndexFunc(s, func(r rune) bool { return r != '\n' && acts(r) }) < 0 {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\n' || !acts(r):
			b.WriteRune(r)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}

// acts reports whether a character does something: control characters
// (ECMA-48), those that change the direction of what follows (Bidirectional
// Algorithm, Unicode Standard Annex 9), end a line, or are not to be seen.
func acts(r rune) bool {
	switch {
	case unicode.IsControl(r), r == 0x2028, r == 0x2029, r == 0xfeff, r == 0x200b, r == 0x2060:
		return true
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	case r >= 0xe0000 && r <= 0xe007f: // tags
		return true
	}
	return false
}
