package phrase

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"timegate/core/calendar"
	"timegate/core/phrase/spoken"
)

// TestPage: every phrase that docs/phrases.md shows is one, and every saying there is
// offered as something.
func TestPage(t *testing.T) {
	text, err := os.ReadFile("../../docs/phrases.md")
	if err != nil {
		t.Fatal(err)
	}
	examples, rest, _ := strings.Cut(string(text), "\n\n\n")
	n := 0
	for line := range strings.Lines(examples) {
		if !strings.HasPrefix(line, "    ") {
			continue
		}
		shown := strings.TrimSpace(regexp.MustCompile(`\s{2,}.*`).ReplaceAllString(strings.TrimSpace(line), ""))
		if _, err := Parse(shown); err != nil {
			t.Errorf("%q: %v", shown, err)
		}
		n++
	}
	sayings, _, _ := strings.Cut(rest, "## Grammar")
	for _, m := range regexp.MustCompile("`([a-z0-9 ]+)`").FindAllStringSubmatch(sayings, -1) {
		_, err := Parse(m[1])
		if err == nil {
			continue
		}
		e := err.(*Error)
		if e.OfferOn(spoken.Today{Day: calendar.DayOf(2026, 11, 30), Minute: 540}); e.Offer == "" || len(e.Unknown) > 0 {
			t.Errorf("%q is offered as %q (unknown %q)", m[1], e.Offer, e.Unknown)
		}
		n++
	}
	if n < 25 {
		t.Errorf("the page shows %d phrases", n)
	}
}
