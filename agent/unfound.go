package agent

import (
	"bytes"
	"regexp"
)

// unfound looks through what a program prints for a shell's word that a command was not
// found: a script that goes on after that may end well, and nobody notices.
type unfound struct {
	line  []byte // that has not ended yet
	found string // the first command, "" for none
}

// longestWord is how much of a line is looked at, in bytes.
const longestWord = 512

// shellWord is how shells say it, in English: "a.sh: line 3: cuont: command not found",
// "a.sh: 3: cuont: not found", "zsh: command not found: cuont".
var shellWord = regexp.MustCompile(`^[^ ]+: (?:line )?\d+: ([^ :]{1,100}): (?:command )?not found$|^[^ ]*(?:zsh|fish)[^ ]*: (?:command not found: |Unknown command: )([^ :]{1,100})$`)

// add looks through a piece.
func (u *unfound) add(piece []byte) {
	for u.found == "" && len(piece) > 0 {
		part, rest, ended := bytes.Cut(piece, []byte("\n"))
		if room := longestWord - len(u.line); room > 0 {
			u.line = append(u.line, part[:min(len(part), room)]...)
		}
		if !ended {
			return
		}
		if m := shellWord.FindSubmatch(bytes.TrimSuffix(u.line, []byte("\r"))); m != nil {
			u.found = string(m[1]) + string(m[2])
		}
		u.line, piece = u.line[:0], rest
	}
}
