package spoken

import (
	"os"
	"slices"
	"strings"
	"testing"

	"timegate/core/calendar"
	"timegate/core/coretest"
)

// monday is the day on which sayings are read.
var monday = Today{Day: calendar.DayOf(2026, 11, 30), Minute: 9 * 60}

// TestSayings reads the corpus: a saying, what it means, and where there are two
// readings the other one, parted by bars. Several moments are joined by "&&". A meaning of
// "-" is that nothing is offered, and of "- words" that why it is not has these words.
func TestSayings(t *testing.T) {
	text, err := os.ReadFile("testdata/sayings.txt")
	if err != nil {
		t.Fatal(err)
	}
	for i, line := range strings.Split(string(text), "\n") {
		if line == "" || line[0] == '#' {
			continue
		}
		saying, want, _ := strings.Cut(line, " | ")
		h := Read(saying, monday)
		var got []string
		for _, r := range h.Readings {
			got = append(got, r.Phrase)
		}
		if len(h.Several) > 0 {
			got = append(got, strings.Join(h.Several, " && "))
		}
		if why, none := strings.CutPrefix(want, "-"); none && len(got) == 0 && strings.Contains(h.Why, strings.TrimSpace(why)) {
			continue
		}
		if got := strings.Join(got, " | "); got != want {
			t.Errorf("line %d: %q\n is read as %q\n and means   %q", i+1, saying, got, want)
		}
	}
}

// TestMistyped swaps two letters in the words of every saying of the corpus: it is then
// read as before, or not at all, and never as something else.
func TestMistyped(t *testing.T) {
	text, err := os.ReadFile("testdata/sayings.txt")
	if err != nil {
		t.Fatal(err)
	}
	tried, read, n := 0, 0, 0
	for line := range strings.Lines(string(text)) {
		saying, meaning, ok := strings.Cut(strings.TrimSpace(line), " | ")
		if !ok || line[0] == '#' || meaning[0] == '-' {
			continue
		}
		if n++; n%coretest.Size(1, 4, 16) != 0 {
			continue
		}
		before := Read(saying, monday)
		for _, word := range strings.Fields(saying) {
			lower := strings.ToLower(word)
			if len(word) < 5 || lower != word || !slices.Contains(vocabulary, lower) {
				continue
			}
			for i := 1; i+2 < len(word); i++ {
				if word[i] == word[i+1] {
					continue
				}
				wrong := word[:i] + word[i+1:i+2] + word[i:i+1] + word[i+2:]
				typed := strings.Replace(saying, word, wrong, 1)
				after := Read(typed, monday)
				tried++
				if len(after.Readings)+len(after.Several) == 0 {
					continue
				}
				if read++; !slices.Equal(after.Readings, before.Readings) || !slices.Equal(after.Several, before.Several) {
					t.Errorf("%q is read as %v %q, and %q as %v %q", typed, after.Readings, after.Several, saying, before.Readings, before.Several)
				}
			}
		}
	}
	if read < tried*9/10 {
		t.Errorf("of %d sayings with a mistake only %d are read", tried, read)
	}
}
