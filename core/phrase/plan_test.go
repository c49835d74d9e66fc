package phrase

import (
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
)

func instant(t testing.TB, s string) calendar.Instant {
	t.Helper()
	x, err := time.Parse("2006-01-02T15:04:05", s)
	if err != nil {
		t.Fatal(err)
	}
	return calendar.InstantOf(x)
}

func planOf(t testing.TB, text string) *Plan {
	t.Helper()
	p, err := Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	plan, err := p.Compile(Env{Zone: calendar.UTC})
	if err != nil {
		t.Fatal(err)
	}
	return plan
}

// repeatTests are moments with repeats, from midnight of 23 November 2026;
// repeats are in brackets.
var repeatTests = []struct{ phrase, want string }{
	{"at 09:00, then every 10m for 25m", "09:00 (09:10) (09:20) +09:00"},
	{"at 09:00, then every 10m for 30m", "09:00 (09:10) (09:20) (09:30) +09:00"},
	{"at 09:00, 09:15, then every 10m for 30m", "09:00 (09:10) 09:15 (09:25) (09:35) (09:45) +09:00"},
	{"at 09:00, 09:20, then every 10m for 20m", "09:00 (09:10) 09:20 (09:30) (09:40) +09:00"},
	{"at 09:00, 21:00, then every 6h for ever", "(03:00) 09:00 (15:00) 21:00 (+03:00) +09:00"},
	{"at 23:50, then every 15m for 30m", "(00:05) (00:20) 23:50 (+00:05) (+00:20) +23:50"},
	{"at 09:00, then every 10m for 1h, ending 2026-11-23 09:25", "09:00 (09:10) (09:20)"},
	{"at 09:00, 10:00, then every 10m for 30m, starting 2026-11-23 09:30", "10:00 (10:10) (10:20) (10:30) +09:00"},
	{"at 09:00, then every 10m for 20m, 1 times, starting 2026-11-23", "09:00 (09:10) (09:20)"},
}

func TestRepeats(t *testing.T) {
	from := instant(t, "2026-11-23T00:00:00")
	for _, tt := range repeatTests {
		plan := planOf(t, tt.phrase)
		var got []string
		var dues []calendar.Instant
		at := from - 1
		for range strings.Fields(tt.want) {
			next, repeat, ok := plan.Next(at)
			if !ok {
				break
			}
			s := next.Time().Format("15:04")
			if next.Time().Day() != 23 {
				s = "+" + s
			}
			if repeat {
				s = "(" + s + ")"
			}
			got, dues, at = append(got, s), append(dues, next), next
		}
		if s := strings.Join(got, " "); s != tt.want {
			t.Errorf("%s: %s, want %s", tt.phrase, s, tt.want)
			continue
		}
		// Backwards, and counted, it is the same.
		before := at + 1
		for i := len(dues) - 1; i >= 0; i-- {
			prev, _, ok := plan.Prev(before)
			if !ok || prev != dues[i] {
				t.Errorf("%s: before %s comes %s, want %s", tt.phrase, before.Time(), prev.Time(), dues[i].Time())
			}
			before = prev
		}
		for i := range dues {
			for j := i; j < len(dues); j++ {
				if n := plan.Count(dues[i], dues[j]); n != int64(j-i+1) {
					t.Errorf("%s: from due %d to due %d are %d", tt.phrase, i, j, n)
				}
			}
		}
	}
}

// TestTexts: what one line of the grammar allows is read in any order, and
// words may be written in any case.
func TestTexts(t *testing.T) {
	for want, others := range map[string][]string{
		"every 20m from 09:00 to 16:00 on weekdays in mar": {
			"every 20m in mar on weekdays from 09:00 to 16:00", "EVERY 20M FROM 09:00 TO 16:00 ON MON-FRI IN MARCH", "every 1200s on weekdays in mar from 09:00 to 16:00"},
		"at 09:00 on mon in mar every 2 weeks from 2026-03-02": {"at 09:00 every 2 weeks from 2026-03-02 in mar on mon", "at 09:00 in mar every 2 week from 2026-03-02 on Monday"},
		"at 09:00, starting 2026-01-01, ending 2026-12-31, zone Europe/Paris": {
			"at 09:00, zone Europe/Paris, ending 2026-12-31, starting 2026-01-01", `at 09:00,zone "Europe/Paris",starting 2026-01-01,ending 2026-12-31`},
		"at 09:00 on fri-mon":      {"at 09:00 on sat, sun, mon, fri", "at 09:00 on weekends, fri, mon", "at 09:00 on friday - monday"},
		"at 09:00 on day 1-3":      {"at 09:00 on day 3, 2, 1", "at 09:00 on day 1, day 2-3", "at 09:00 on day 1-2, 2-3"},
		"at 09:00 in nov-jan":      {"at 09:00 in january, november, december", "at 09:00 in nov - jan"},
		"boot + 1m30s":             {"boot + 90s", "boot+1m30s", "BOOT + 1M30S"},
		"at 09:00 on 2nd last fri": {"at 09:00 on second last friday", "at 09:00 on 2ND LAST FRI"},
	} {
		for _, text := range others {
			p, err := Parse(text)
			if err != nil || p.String() != want {
				t.Errorf("Parse(%q) = %v, %v, want %q", text, p, err, want)
			}
		}
	}
}

// TestNoAllocation: looking for dues allocates nothing.
func TestNoAllocation(t *testing.T) {
	from := instant(t, "2026-11-23T07:00:00")
	env := testEnv(t)
	for _, text := range benchPhrases {
		p, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		plan, err := p.Compile(env)
		if err != nil {
			t.Fatal(err)
		}
		if n := testing.AllocsPerRun(10, func() { plan.Next(from); plan.Prev(from) }); n != 0 {
			t.Errorf("%s: %v allocations", text, n)
		}
	}
}

func TestOccurs(t *testing.T) {
	for _, tt := range []struct {
		phrase, at string
		want       bool
	}{
		{"boot", "2026-11-23T03:00:00", true},
		{"boot on tue", "2026-11-23T03:00:00", false},
		{"boot in nov on weekdays", "2026-11-23T03:00:00", true},
		{"boot, except 2026-11-23", "2026-11-23T03:00:00", false},
		{"boot from 06:00 to 12:00", "2026-11-23T05:59:59", false},
		{"boot from 06:00 to 12:00", "2026-11-23T12:00:00", true},
		{"boot from 06:00 to 12:00", "2026-11-23T12:00:01", false},
		{"boot from 22:00 to 02:00 on sun", "2026-11-23T01:30:00", true}, // Sunday's window
		{"boot from 22:00 to 02:00 on mon", "2026-11-23T01:30:00", false},
		{"boot from 22:00 to 02:00 on mon", "2026-11-23T22:00:00", true},
		{"boot from 22:00 to 00:00", "2026-11-24T00:00:00", true},
	} {
		if got := planOf(t, tt.phrase).Occurs(instant(t, tt.at)); got != tt.want {
			t.Errorf("%s at %s: %v", tt.phrase, tt.at, got)
		}
	}
	a, b, c := instant(t, "2026-11-22T23:00:00"), instant(t, "2026-11-23T01:00:00"), instant(t, "2026-11-29T23:00:00")
	daily, weekly := planOf(t, "first boot of the day"), planOf(t, "first boot of the week")
	if daily.SamePeriod(a, b) || !daily.SamePeriod(b, b+1) || weekly.SamePeriod(a, b) || !weekly.SamePeriod(b, c) {
		t.Error("days or ISO weeks are told apart wrongly")
	}
}

func TestExceptFile(t *testing.T) {
	p, err := Parse("at 09:00, except days in /etc/larkspur/holidays")
	if err != nil {
		t.Fatal(err)
	}
	plan, err := p.Compile(testEnv(t))
	if err != nil {
		t.Fatal(err)
	}
	var got []int
	for at, _, ok := plan.Next(instant(t, "2026-12-24T00:00:00")); ok && len(got) < 3; at, _, ok = plan.Next(at) {
		got = append(got, at.Time().Day())
	}
	if want := []int{24, 27, 28}; !slices.Equal(got, want) {
		t.Errorf("days %v, want %v", got, want)
	}
}
