package gate

import "strings"

// CommandLine returns words as a shell takes them for just these (2.2 in the
// Shell Command Language of POSIX.1).
func CommandLine(argv ...string) string {
	out := make([]string, len(argv))
	for i, s := range argv {
		if s == "" || strings.ContainsFunc(s, needsQuotes) {
			s = "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
		}
		out[i] = s
	}
	return strings.Join(out, " ")
}

// needsQuotes reports whether a character may mean something to a shell.
func needsQuotes(r rune) bool {
	return r <= ' ' || r == 0x7f || r > 0x7e && r < 0xa0 || strings.ContainsRune("\"'\\$`*?[]{}()<>|&;#~!^", r)
}
