package spoken

import (
	"os"
	"strings"
	"testing"

	"timegate/core/calendar"
)

// monday is the day on which sayings are read.
var monday = Today{Day: calendar.DayOf(2026, 11, 30), Minute: 9 * 60}

// TestSayings reads the corpus: a saying, what it means, and where there are two
// readings the other one, parted by bars. A meaning of "-" is that nothing is
// offered.
func TestSayings(t *testing.T) {
	text, err := os.ReadFile("testdata/sayings.txt")
	if err != nil {
		t.Fatal(err)
	}
	for i, line := range strings.Split(string(text), "\n") {
		if line == "" || line[0] == '#' {
			continue
		}
		parts := strings.Split(line, " | ")
		var got []string
		for _, r := range Read(parts[0], monday) {
			s := r.Phrase
			if len(r.Unknown) > 0 {
				s += " ? " + strings.Join(r.Unknown, " ")
			}
			got = append(got, s)
		}
		if want := strings.Join(parts[1:], " | "); strings.Join(got, " | ") != want && !(want == "-" && len(got) == 0) {
			t.Errorf("line %d: %q\n is read as %q\n and means   %q", i+1, parts[0], strings.Join(got, " | "), want)
		}
	}
}
