package phrase

import (
	"os"
	"slices"
	"strings"
	"testing"

	"timegate/core/calendar"
	"timegate/core/coretest"
	"timegate/core/phrase/spoken"
)

// offersOn returns what a saying is offered as on a day, and what of it is not
// understood.
func offersOn(t *testing.T, saying string, day calendar.Day, minute int) (offers, unknown []string) {
	t.Helper()
	if p, err := Parse(saying); err == nil {
		return []string{p.String()}, nil
	}
	_, err := Parse(saying)
	e := err.(*Error)
	e.OfferOn(spoken.Today{Day: day, Minute: minute})
	if e.Offer == "" {
		return nil, nil
	}
	return append([]string{e.Offer}, e.Others...), e.Unknown
}

// TestTurnedSayings puts a word that turns the meaning into every saying of the
// corpus: none may then be offered as what it meant before, as though the word
// were not there.
func TestTurnedSayings(t *testing.T) {
	text, err := os.ReadFile("spoken/testdata/sayings.txt")
	if err != nil {
		t.Fatal(err)
	}
	today := calendar.DayOf(2026, 11, 30)
	turned, n := 0, 0
	for line := range strings.Lines(string(text)) {
		saying, meaning, ok := strings.Cut(strings.TrimSpace(line), " | ")
		if !ok || strings.HasPrefix(line, "#") || meaning == "-" || strings.Contains(meaning, " ? ") || strings.HasPrefix(saying, "not ") {
			continue
		}
		if n++; n%coretest.Size(1, 4, 16) != 0 {
			continue
		}
		before, _ := offersOn(t, saying, today, 9*60)
		for _, turn := range []struct{ front, behind string }{{"never ", ""}, {"not ", ""}, {"the day before ", ""}, {"", " or at sunset"}, {"all but ", ""}} {
			after, unknown := offersOn(t, turn.front+saying+turn.behind, today, 9*60)
			if len(unknown) > 0 {
				continue // it says what it leaves out
			}
			for _, offer := range after {
				if turned++; slices.Contains(before, offer) {
					t.Errorf("%q is offered as %q, like %q", turn.front+saying+turn.behind, offer, saying)
				}
			}
		}
	}
	if turned == 0 {
		t.Error("nothing was offered at all: the check checks nothing")
	}
}

// TestSayingsByDay: what is counted from today is right on every kind of day.
func TestSayingsByDay(t *testing.T) {
	day := calendar.DayOf
	for _, tt := range []struct {
		saying string
		today  calendar.Day
		minute int
		want   []string
	}{
		{"tomorrow at 9", day(2026, 12, 31), 600, []string{"at 09:00 on 2027-01-01"}},
		{"tomorrow", day(2028, 2, 28), 600, []string{"at 09:00 on 2028-02-29"}},
		{"in 2 hours", day(2026, 12, 31), 23*60 + 30, []string{"at 01:30 on 2027-01-01"}},
		{"in a week at 8", day(2026, 12, 28), 600, []string{"at 08:00 on 2027-01-04"}},
		{"tonight at 2", day(2026, 11, 30), 20 * 60, []string{"at 02:00 on 2026-12-01"}},
		{"tonight at 10", day(2026, 11, 30), 600, []string{"at 22:00 on 2026-11-30"}},
		{"this friday at 5pm", day(2026, 12, 4), 600, []string{"at 17:00 on 2026-12-04"}},
		{"next friday at 9", day(2026, 12, 4), 600, []string{"at 09:00 on 2026-12-11"}},
		{"on 24 december at 18:00", day(2026, 12, 25), 600, []string{"at 18:00 on 2027-12-24", "at 18:00 on day 24 in dec"}},
		{"on 29 february at 9", day(2026, 11, 30), 600, []string{"at 09:00 on 2028-02-29", "at 09:00 on day 29 in feb"}},
		{"on 31 june at 9", day(2026, 11, 30), 600, nil},
		{"every other monday at 8", day(2026, 11, 29), 600, []string{"at 08:00 on mon every 2 weeks from 2026-11-30"}},
		{"every 2 months on the 31st at 8", day(2026, 11, 5), 600, []string{"at 08:00 on day 31 every 2 months from 2026-12-31"}},
		{"every 2 months on the last day at 8", day(2026, 11, 5), 600, []string{"at 08:00 on last day every 2 months from 2026-11-30"}},
		{"every 3 months on the second tuesday at 8", day(2026, 11, 11), 600, []string{"at 08:00 on 2nd tue every 3 months from 2026-12-08"}},
		{"every day at 9 until 31 december", day(2026, 12, 31), 600, []string{"at 09:00, ending 2026-12-31"}},
		{"every day at 9 for a month", day(2026, 11, 30), 600, []string{"at 09:00, starting 2026-11-30, ending 2026-12-29"}},
	} {
		if got, unknown := offersOn(t, tt.saying, tt.today, tt.minute); !slices.Equal(got, tt.want) || len(unknown) > 0 {
			t.Errorf("%q on %s is offered as %q (unknown %q), want %q", tt.saying, tt.today, got, unknown, tt.want)
		}
	}
}

// FuzzSayings: whatever is typed is read, and what is offered is a phrase.
func FuzzSayings(f *testing.F) {
	for _, saying := range []string{"every other friday at half past six", "quarter to", "on the", "last", "between and", "every 5 minutes from 9 to", "when /srv/proofs", "in 99999 hours", "24 dec or not", "a a a a"} {
		f.Add(saying)
	}
	f.Fuzz(func(t *testing.T, saying string) {
		for _, r := range spoken.Read(saying, spoken.Today{Day: calendar.DayOf(2026, 11, 30), Minute: 540}).Readings {
			if r.Phrase == "" {
				t.Errorf("%q has an empty reading", saying)
			}
		}
		if _, err := Parse(saying); err != nil {
			e := err.(*Error)
			e.OfferOn(spoken.Today{Day: calendar.DayOf(2026, 11, 30), Minute: 540})
			if e.Offer != "" {
				if _, err := Parse(e.Offer); err != nil {
					t.Errorf("%q is offered as %q, which is no phrase: %v", saying, e.Offer, err)
				}
			}
		}
	})
}
