package desktop

import (
	"fmt"
	"strings"
)

// Command returns the arguments that a key Exec means when no file is given ("The Exec
// key"): parted and unquoted, its field codes replaced. Its error says what is wrong
// with the quoting.
func (e *Entry) Command() ([]string, error) {
	words, err := splitExec(unescape(e.Exec))
	if err != nil {
		return nil, err
	}
	var out []string
	for _, w := range words {
		switch {
		case w == "%i":
			if e.Icon != "" {
				out = append(out, "--icon", e.Icon)
			}
			continue
		case len(w) == 2 && w[0] == '%' && strings.ContainsRune("fFuUdDnNvm", rune(w[1])):
			continue // a file, or one of the codes that mean nothing any more
		}
		out = append(out, e.expand(w))
	}
	if len(out) == 0 || out[0] == "" {
		return nil, fmt.Errorf("the key Exec names no program")
	}
	return out, nil
}

// expand replaces the field codes within an argument.
func (e *Entry) expand(word string) string {
	var b strings.Builder
	for i := 0; i < len(word); i++ {
		if word[i] != '%' || i+1 == len(word) {
			b.WriteByte(word[i])
			continue
		}
		i++
		switch word[i] {
		case '%':
			b.WriteByte('%')
		case 'c':
			b.WriteString(e.Name)
		case 'k':
			b.WriteString(e.File)
		}
	}
	return b.String()
}

// splitExec parts the value of a key Exec into arguments. An argument in double quotes
// has `"`, "`", "$" and `\` behind a backslash.
func splitExec(text string) ([]string, error) {
	var out []string
	var b strings.Builder
	inside, quoted := false, false
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case quoted && c == '\\' && i+1 < len(text) && strings.ContainsRune("\"`$\\", rune(text[i+1])):
			i++
			b.WriteByte(text[i])
		case c == '"':
			quoted, inside = !quoted, true
		case !quoted && (c == ' ' || c == '\t'):
			if inside {
				out = append(out, b.String())
				b.Reset()
			}
			inside = false
		default:
			b.WriteByte(c)
			inside = true
		}
	}
	if quoted {
		return nil, fmt.Errorf("a quote is not closed in Exec=%s", text)
	}
	if inside {
		out = append(out, b.String())
	}
	return out, nil
}
