package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
)

// TestScreenShowsTextOnly: what others have written does nothing to a terminal,
// and our own colours stay.
func TestScreenShowsTextOnly(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	s := &screen{Writer: &colorprofile.Writer{Forward: &out, Profile: colorprofile.ANSI}, width: 80, terminal: true}
	hostile := "proof\x1b[31m\x1b[2J\x1b]52;c;cm0gLXJm\x07\u202e\nFAKE  ok"
	s.table([]string{"NAME", "LAST"}, [][]string{{hostile, s.bad("failed")}, {"glue-warm", s.good("ok" + hostile)}})
	s.Write([]byte(s.warn(hostile) + "\n"))
	if err := s.raw([]byte(hostile + "\n")); err != nil {
		t.Fatal(err)
	}
	got := out.String()
	if n := strings.Count(ansi.Strip(got), "\n"); n != 3+2+2 { // the table's, and the texts' of two lines each
		t.Errorf("%d lines:\n%s", n, got)
	}
	for _, own := range []string{"\x1b[1m", "\x1b[1;31m", "\x1b[32m", "\x1b[33m", "\x1b[m"} {
		got = strings.ReplaceAll(got, own, "")
	}
	if strings.ContainsAny(got, "\x1b\x07\u202e") || strings.Contains(got, strings.TrimPrefix(seal, ";")) {
		t.Errorf("a terminal is sent %q", got)
	}
	out.Reset()
	if s.clearLine(); out.String() != "\r\x1b[K" {
		t.Errorf("a line is taken away by %q", out.String())
	}
	out.Reset()
	if err := s.printJSON(map[string]string{"name": hostile}); err != nil || strings.ContainsAny(out.String(), "\x1b\x07\u202e") {
		t.Errorf("JSON is %q, %v", out.String(), err)
	}
}
