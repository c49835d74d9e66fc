package inspect

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
)

// inline judges a line that a shell is given to run: the programs and paths
// that it names, as far as those are there in plain.
func (h *hazards) inline(program, code, folder string) {
	words, plain := wordsOf(code)
	if !plain {
		h.unjudged(program, fmt.Sprintf("%.60q says only when it runs what it does", code))
	}
	moves := slices.Contains(wordTexts(words), "cd")
	for _, w := range words {
		text := expand(w.text, h.home)
		name, value, assigns := strings.Cut(text, "=")
		switch {
		case assigns && isVariable(name) && w.first:
			h.variables(map[string]string{name: value})
		case strings.Contains(text, "/"):
			if moves && !strings.HasPrefix(text, "/") {
				h.unjudged(program, fmt.Sprintf("%q is in a folder that it goes to first", text))
			}
			h.path(in(folder, text), "what the command line names")
		case w.first:
			if p := h.find(text, folder, "what the command line runs"); p != nil {
				p.close()
			}
		case exists(in(folder, text)):
			h.path(in(folder, text), "what the command line names")
		}
	}
}

// FirstProgram returns the whole path of the first program that a shell's line runs, "" where
// it names none in plain.
func FirstProgram(code string) string {
	words, _ := wordsOf(code)
	for _, w := range words {
		switch name, _, assigns := strings.Cut(w.text, "="); {
		case !w.first, slices.Contains(leading, w.text), assigns && isVariable(name):
		case w.text == "exec":
			if rest, plain := wordsOf(strings.TrimPrefix(strings.TrimSpace(code), "exec ")); plain && len(rest) > 0 && strings.HasPrefix(rest[0].text, "/") {
				return rest[0].text
			}
			return ""
		case strings.HasPrefix(w.text, "/") && !strings.ContainsAny(w.text, "$*?["):
			return w.text
		default:
			return ""
		}
	}
	return ""
}

// IsShell reports whether a program is a shell of POSIX's kind.
func IsShell(path string) bool {
	return slices.Contains([]string{"sh", "bash", "dash", "ash", "zsh", "ksh", "mksh", "yash"}, filepath.Base(path))
}

// word is a word of a shell's line; first says that it is a command's name, or
// an assignment before one.
type word struct {
	text  string
	first bool
}

func wordTexts(list []word) []string {
	out := make([]string, len(list))
	for i, w := range list {
		out[i] = w.text
	}
	return out
}

// notPlain are commands that run what is not in the line.
var notPlain = []string{"eval", "source", ".", "exec", "alias", "trap", "command", "builtin"}

// leading are words after which a command's name comes.
var leading = []string{"then", "do", "else", "elif", "if", "while", "until", "!", "{", "&&", "||", "time"}

// wordsOf takes a line apart as a shell does (2.2 and 2.3 in the Shell Command
// Language of POSIX.1). plain is false where a word that counts is only known
// when the line runs.
func wordsOf(code string) (words []word, plain bool) {
	plain = true
	var text strings.Builder
	first, started, unknown := true, false, false
	end := func() {
		if !started {
			return
		}
		w := word{text.String(), first}
		if unknown && (first || strings.Contains(w.text, "/")) || first && slices.Contains(notPlain, w.text) {
			plain = false
		}
		words = append(words, w)
		first = slices.Contains(leading, w.text) || first && strings.Contains(w.text, "=")
		text.Reset()
		started, unknown = false, false
	}
	quote := byte(0)
	for i := 0; i < len(code); i++ {
		switch c := code[i]; {
		case quote == '\'' && c != '\'', quote == '"' && c != '"' && c != '$' && c != '`' && c != '\\':
			text.WriteByte(c)
		case c == '\'' || c == '"':
			started = true
			if quote == 0 {
				quote = c
			} else {
				quote = 0
			}
		case c == '\\' && i+1 < len(code):
			i++
			text.WriteByte(code[i])
			started = true
		case c == '$' && i+1 < len(code) && code[i+1] == '(', c == '`':
			end() // what is run in between is looked at like anything else
			first = true
			if c == '$' {
				i++
			}
		case c == '$':
			text.WriteByte(c)
			started, unknown = true, true
		case strings.IndexByte(" \t", c) >= 0:
			end()
		case strings.IndexByte(";&|()\n", c) >= 0:
			end()
			first = true
		case strings.IndexByte("<>", c) >= 0:
			end()
		case c == '#' && !started:
			for i < len(code) && code[i] != '\n' {
				i++
			}
			first = true
		default:
			text.WriteByte(c)
			started = true
		}
	}
	end()
	return words, plain
}
