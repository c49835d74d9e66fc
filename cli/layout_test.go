package cli

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"timegate/workstation/zones"
)

// screenOf returns a screen of a width that writes into a buffer.
func screenOf(width int) (*screen, *bytes.Buffer) {
	var b bytes.Buffer
	return &screen{Writer: &colorprofile.Writer{Forward: &b, Profile: colorprofile.NoTTY}, width: width}, &b
}

// TestTableLayout: a table keeps to the width; its last column goes on below itself,
// broken between words; names and dates are cut last.
func TestTableLayout(t *testing.T) {
	t.Parallel()
	headers := []string{"GATE", "DUE", "COMMAND"}
	rows := func() [][]string {
		return [][]string{
			{"humidity-log", "Thu 26 Nov 09:45", "/opt/larkspur/bin/humidity-log --room press --quiet"},
			{"vault-copy", "first mains of the day", "/media/a-name-without-any-place-to-break-it-in-two"},
		}
	}
	for _, tt := range []struct {
		width int
		whole []string // what stands in one line unbroken
	}{
		{0, []string{"/opt/larkspur/bin/humidity-log --room press --quiet", "first mains of the day"}},
		{100, []string{"/opt/larkspur/bin/humidity-log --room press --quiet", "first mains of the day"}},
		{80, []string{"/opt/larkspur/bin/humidity-log --room", "humidity-log", "first mains of the day", "--quiet"}},
		{60, []string{"humidity-log", "Thu 26 Nov 09:45", "--room press"}},
		{30, []string{"DUE", "COMMAND"}},
	} {
		s, out := screenOf(tt.width)
		s.table(headers, rows())
		for line := range strings.Lines(out.String()) {
			if n := ansi.StringWidth(strings.TrimRight(line, "\n")); tt.width > 0 && n > tt.width {
				t.Errorf("in %d columns a line has %d: %q", tt.width, n, line)
			}
		}
		for _, text := range tt.whole {
			if !strings.Contains(out.String(), text) {
				t.Errorf("in %d columns %q is broken:\n%s", tt.width, text, out)
			}
		}
		if got := s.fits(headers, rows()); got != (tt.width == 0 || tt.width >= 100) {
			t.Errorf("in %d columns it fits: %v", tt.width, got)
		}
	}
}

// TestWrap: text is broken between words, an option never behind its dashes, and a
// word only where it has no room in a line of its own.
func TestWrap(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		text  string
		width int
		want  []string
	}{
		{"spool-reset --quiet", 14, []string{"spool-reset", "--quiet"}},
		{"one two three", 7, []string{"one two", "three"}},
		{"abcdefghij", 4, []string{"abcd", "efgh", "ij"}},
		{"", 10, []string{""}},
	} {
		if got := strings.Split(wrap(tt.text, tt.width), "\n"); !slices.Equal(got, tt.want) {
			t.Errorf("wrap(%q, %d) = %q, want %q", tt.text, tt.width, got, tt.want)
		}
	}
}

// TestBriefCommand: a folder is shortened, the program's name never is.
func TestBriefCommand(t *testing.T) {
	t.Parallel()
	s, _ := screenOf(80)
	a := &app{out: s}
	for _, tt := range []struct {
		argv []string
		want string
	}{
		{[]string{"/bin/true"}, "/bin/true"},
		{[]string{"/opt/larkspur/bin/glue-warm", "72"}, "/opt/…/glue-warm 72"},
		{[]string{"/opt/larkspur/bin/a-program-with-a-long-name", "a b"}, "…/a-program-with-a-long-name 'a b'"},
		{nil, ""},
	} {
		if got := a.briefCommand(tt.argv); got != tt.want {
			t.Errorf("briefCommand(%q) = %q, want %q", tt.argv, got, tt.want)
		}
	}
}

// TestManualPages: what roff takes for a request or an escape is written out, and every
// command and topic has a page.
func TestManualPages(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{".plan.json is": `\&.plan.json is`, `a\b`: `a\eb`, "--json": `\-\-json`, "'quoted'": `\&'quoted'`} {
		if got := roff(line); got != want {
			t.Errorf("roff(%q) = %q, want %q", line, got, want)
		}
	}
	zone, err := zones.Find("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	s, _ := screenOf(0)
	a := &app{out: s, err: s, zone: zone}
	root := a.root()
	pages := manuals(root)
	for _, want := range []string{"timegate.1", "timegate-add.1", "timegate-keeper-run.1", "timegate-gates.5", "timegate-phrases.7"} {
		if !slices.ContainsFunc(pages, func(m manual) bool { return strings.HasSuffix(m.file(), "/"+want) }) {
			t.Errorf("there is no page %s", want)
		}
	}
	for _, m := range pages {
		if !strings.HasPrefix(m.text, ".TH ") || strings.Count(m.text, "\n.SH ") != 2 {
			t.Errorf("%s is no manual page:\n%s", m.file(), m.text)
		}
	}
}
