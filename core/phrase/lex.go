package phrase

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

type kind int

const (
	eof kind = iota
	word
	number
	ordinal // 2nd
	span    // 1h30m
	clock   // 08:15
	date    // 2026-11-27
	comma
	plus
	minus
	dots
	quoted
	other // what fits nothing
)

type token struct {
	kind     kind
	text     string // as written; for quoted, without the quotes and escapes
	pos, end int    // bytes
}

func (t token) lower() string { return strings.ToLower(t.text) }

var symbols = []struct {
	text string
	kind kind
}{{",", comma}, {"+", plus}, {"-", minus}, {"..", dots}}

const blanks = " \t\r\n"

// lex returns the token that begins at or after pos.
func lex(text string, pos int) token {
	for pos < len(text) && strings.IndexByte(blanks, text[pos]) >= 0 {
		pos++
	}
	rest := text[pos:]
	if rest == "" {
		return token{eof, "", pos, pos}
	}
	if rest[0] == '"' {
		return lexQuoted(text, pos)
	}
	for _, s := range symbols {
		if strings.HasPrefix(rest, s.text) {
			return token{s.kind, s.text, pos, pos + len(s.text)}
		}
	}
	if kind, n := shape(rest); n > 0 && !wordGoesOn(rest[n:]) {
		return token{kind, rest[:n], pos, pos + n}
	}
	bare := lexBare(text, pos)
	bare.kind = other
	return bare
}

// shape tells what a text that begins a token looks like, and how long it is.
func shape(s string) (kind, int) {
	n := digits(s)
	if n == 0 {
		for i, r := range s {
			if !unicode.IsLetter(r) {
				return word, i
			}
		}
		return word, len(s)
	}
	rest := s[n:]
	if n == 4 && len(rest) >= 6 && rest[0] == '-' && digits(rest[1:]) == 2 && rest[3] == '-' && digits(rest[4:]) >= 2 {
		return date, 10
	}
	if n <= 2 && len(rest) >= 3 && rest[0] == ':' && digits(rest[1:]) >= 2 {
		if len(rest) >= 6 && rest[3] == ':' && digits(rest[4:]) >= 2 {
			return clock, n + 6
		}
		return clock, n + 3
	}
	if len(rest) >= 2 {
		switch strings.ToLower(rest[:2]) {
		case "st", "nd", "rd", "th":
			return ordinal, n + 2
		}
	}
	end := 0
	for {
		d := digits(s[end:])
		u := unitLength(s[end+d:])
		if d == 0 || u == 0 {
			break
		}
		end += d + u
	}
	if end > 0 {
		return span, end
	}
	return number, n
}

// digits counts the digits that a text begins with.
func digits(s string) int { return len(s) - len(strings.TrimLeft(s, "0123456789")) }

// unitLength returns the length of the unit of time that a text begins with.
func unitLength(s string) int {
	if len(s) >= 2 && strings.EqualFold(s[:2], "ms") {
		return 2
	}
	if s != "" && strings.IndexByte("wdhmsWDHMS", s[0]) >= 0 {
		return 1
	}
	return 0
}

// wordGoesOn reports whether what follows belongs to the same word, which
// then is none that the grammar has.
func wordGoesOn(rest string) bool {
	r, _ := utf8.DecodeRuneInString(rest)
	return rest != "" && (unicode.IsLetter(r) || r >= '0' && r <= '9' || r == ':')
}

// lexBare returns a run without blank, comma or quote: a path, a glob, a name.
func lexBare(text string, pos int) token {
	for pos < len(text) && strings.IndexByte(blanks, text[pos]) >= 0 {
		pos++
	}
	end := pos
	for end < len(text) && strings.IndexByte(blanks+`,"`, text[end]) < 0 {
		end++
	}
	return token{word, text[pos:end], pos, end}
}

// lexQuoted reads a quoted string, in which \" and \\ stand for a quote and a
// backslash.
func lexQuoted(text string, pos int) token {
	var b strings.Builder
	for i := pos + 1; i < len(text); i++ {
		switch {
		case text[i] == '"':
			return token{quoted, b.String(), pos, i + 1}
		case text[i] == '\\' && i+1 < len(text) && (text[i+1] == '"' || text[i+1] == '\\'):
			i++
		}
		b.WriteByte(text[i])
	}
	return token{other, text[pos:], pos, len(text)}
}

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}
