package phrase

import (
	"os"
	"slices"
	"strings"
	"testing"

	"timegate/core/calendar"
	"timegate/core/phrase/spoken"
)

// TestSayingsAreOffered: what the corpus says that a saying means is a phrase, and
// is what a mistake offers.
func TestSayingsAreOffered(t *testing.T) {
	text, err := os.ReadFile("spoken/testdata/sayings.txt")
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for line := range strings.Lines(string(text)) {
		parts := strings.Split(strings.TrimSpace(line), " | ")
		if strings.HasPrefix(line, "#") || len(parts) < 2 || strings.HasPrefix(parts[1], "-") || strings.Contains(parts[1], " ? ") {
			continue
		}
		n++
		if strings.Contains(parts[1], "&&") {
			parts = append(parts[:1], strings.Split(parts[1], " && ")...)
		}
		for i, meaning := range parts[1:] {
			p, err := Parse(meaning)
			if err != nil {
				t.Fatalf("%q is to mean %q, which is no phrase: %v", parts[0], meaning, err)
			}
			parts[i+1] = p.String()
		}
		p, err := Parse(parts[0])
		if err == nil {
			if p.String() != parts[1] && !strings.Contains(parts[0], " and ") { // "mon and fri" is strictly both
				t.Errorf("%q means %q, and is accepted as %q", parts[0], parts[1], p)
			}
			continue
		}
		e := err.(*Error)
		e.OfferOn(spoken.Today{Day: calendar.DayOf(2026, 11, 30), Minute: 9 * 60})
		if offers := append([]string{e.Offer}, e.Others...); !slices.Equal(offers, parts[1:]) && !slices.Equal(e.Several, parts[1:]) {
			t.Errorf("%q offers %q and %q, want %q", parts[0], e.Offer, e.Others, parts[1:])
		}
	}
	if n < 400 {
		t.Errorf("only %d sayings", n)
	}
}
