package phrase

import (
	"regexp"
	"strings"
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

var shapes = []struct {
	kind kind
	re   *regexp.Regexp
}{
	{date, regexp.MustCompile(`^\d{4}-\d{2}-\d{2}`)},
	{clock, regexp.MustCompile(`^\d{1,2}:\d{2}(:\d{2})?`)},
	{ordinal, regexp.MustCompile(`^(?i)\d+(st|nd|rd|th)`)},
	{span, regexp.MustCompile(`^(?i)(\d+(ms|[wdhms]))+`)},
	{number, regexp.MustCompile(`^\d+`)},
	{word, regexp.MustCompile(`^\pL+`)},
}

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
	for _, s := range shapes {
		if m := s.re.FindString(rest); m != "" && !wordGoesOn(rest[len(m):]) {
			return token{s.kind, m, pos, pos + len(m)}
		}
	}
	bare := lexBare(text, pos)
	bare.kind = other
	return bare
}

var goesOn = regexp.MustCompile(`^[\pL\d:]`)

func wordGoesOn(rest string) bool { return goesOn.MatchString(rest) }

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
