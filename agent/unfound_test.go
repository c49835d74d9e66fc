package agent

import "testing"

// TestUnfound: what shells say of a command that is not there is found, in pieces too, and
// nothing else is taken for it.
func TestUnfound(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"/home/maren/a.sh: 3: cuont: not found\n":                                      "cuont",
		"ready\n/home/maren/a.sh: line 12: /opt/x: command not found\r\n":              "/opt/x",
		"bash: line 1: larkspur-count: command not found\nzsh: command not found: y\n": "larkspur-count",
		"zsh: command not found: sheets\n":                                             "sheets", "fish: Unknown command: sheets\n": "sheets",
		"a.sh: 3: cuont: not found": "", "page 3: picture not found\n": "", "a.sh: 3: no such file: not found\n": "",
		"error: command not found\n": "", "the plate: 3: was: not found again\n": "", "\n\n": "",
	} {
		for _, step := range []int{1, 3, len(text)} {
			var u unfound
			for at := 0; at < len(text); at += step {
				u.add([]byte(text[at:min(at+step, len(text))]))
			}
			if u.found != want {
				t.Errorf("%q in pieces of %d: %q, want %q", text, step, u.found, want)
			}
		}
	}
	var u unfound
	for range 1 << 16 {
		u.add([]byte("a long line without an end, "))
	}
	if u.add([]byte("\nx.sh: 1: y: not found\n")); u.found != "y" || cap(u.line) > 2*longestWord {
		t.Errorf("after a long line: %q, %d bytes", u.found, cap(u.line))
	}
}
