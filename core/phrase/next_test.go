package phrase

import (
	"slices"
	"strings"
	"testing"

	"timegate/core/calendar"
)

// TestContinueOffers writes every canonical phrase word by word: what comes next must be
// among the words that are offered, where it is one of the grammar's.
func TestContinueOffers(t *testing.T) {
	today := calendar.DayOf(2026, 11, 30)
	words := vocabulary(today)
	offered := 0
	for _, tt := range canonicalTests {
		fields := strings.Split(tt.want, " ")
		for i, word := range fields {
			if strings.Contains(strings.Join(fields[:i+1], " "), `"`) {
				break // inside a quoted string words are the user's
			}
			so := strings.TrimSpace(strings.Join(fields[:i], " ") + " ")
			if so != "" {
				so += " "
			}
			if goesOn(strings.TrimSuffix(so+word, ",")) < NoName {
				t.Errorf("%q: %q cannot be gone on with", tt.want, so+word)
			}
			word = strings.TrimSuffix(word, ",")
			if !slices.Contains(words, word) {
				continue
			}
			got := Continue(so, today)
			if got.Name == NoName && !slices.Contains(got.Words, word) {
				t.Errorf("%q: after %q, %q is not offered, only %q", tt.want, so, word, got.Words)
			}
			if half := Continue(so+word[:1], today); got.Name == NoName && (!slices.Contains(half.Words, word) || half.Head+half.Word != so+word[:1]) {
				t.Errorf("%q: for %q, %q is not offered, only %+v", tt.want, so+word[:1], word, half)
			}
			offered++
		}
	}
	if offered < 150 {
		t.Errorf("only %d words were looked for", offered)
	}
}

func TestContinue(t *testing.T) {
	for _, tt := range []struct {
		text  string
		words string // all that are offered
		name  Name
	}{
		{"a", "at active", NoName},
		{"AT 08:", "08:00 08:00,", NoName},
		{"at 08:15", "08:15 08:15,", NoName},
		{"at 08:15 ", "every on in", NoName},
		{"at 08:15 on 2nd la", "last", NoName},
		{"at 08:15 on mon-f", "fri fri,", NoName},
		{"at 08:15 on mon on ", "", NoName},
		{"at 08:15,e", "ending except", NoName},
		{"every 20m from 09:00 ", "to", NoName},
		{"boot ", "on in from +", NoName},
		{"boot + 45s, th", "then", NoName},
		{"first boot of the ", "day week", NoName},
		{"low ", "memory disk", NoName},
		{"low disk /home ", "5% 10% 500MiB 1GiB 10GiB", NoName},
		{"every 1h since ", "2026-11-30 2026-12-01 2026-12-02", NoName},
		{"end of va", "", GateName},
		{"logoff of ", "", AccountName},
		{"mount /me", "", PathName},
		{"change in ", "", PathName},
		{"device ", "", PatternName},
		{"signal ", "", SignalName},
		{"at 08:15, zone Eu", "", ZoneName},
		{`line "at `, "", NoName},
		{"tomorrow ", "", NoName},
		{strings.Repeat("at ", 3000), "", NoName},
	} {
		got := Continue(tt.text, calendar.DayOf(2026, 11, 30))
		if strings.Join(got.Words, " ") != tt.words || got.Name != tt.name {
			t.Errorf("%.40q: %q and a name of kind %d, want %q and %d", tt.text, got.Words, got.Name, tt.words, tt.name)
		}
	}
}
