package ical

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

func find(name string) (*calendar.Zone, error) {
	loc, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("there is no time zone %q", name)
	}
	return calendar.NewZone(loc), nil
}

func zone(t testing.TB, name string) *calendar.Zone {
	t.Helper()
	z, err := find(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

func plan(t testing.TB, text string, z *calendar.Zone) *phrase.Plan {
	t.Helper()
	p, err := phrase.Parse(text)
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	pl, err := p.Compile(phrase.Env{Zone: z, FindZone: find})
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	return pl
}

// starts lists the local times of all the plans, in order.
func starts(plans []*phrase.Plan, from, to calendar.Instant, most int) []time.Time {
	var out []calendar.Instant
	for _, p := range plans {
		for at, _, ok := p.Next(from - 1); ok && at <= to && len(out) < 100_000; at, _, ok = p.Next(at) {
			out = append(out, at)
		}
	}
	slices.Sort(out)
	out = slices.Compact(out)
	var times []time.Time
	for _, at := range out[:min(most, len(out))] {
		times = append(times, at.Time())
	}
	return times
}

func calendarFile(lines ...string) string {
	return "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Larkspur//EN\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20261101T000000Z\r\n" +
		strings.Join(lines, "\r\n") + "\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
}

// TestRFC imports the examples of RFC 5545 and compares the dues with the
// dates that it gives.
func TestRFC(t *testing.T) {
	text, err := os.ReadFile("testdata/rfc5545.txt")
	if err != nil {
		t.Fatal(err)
	}
	newYork := zone(t, "America/New_York")
	n := 0
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		n++
		rule, want, _ := strings.Cut(line, " | ")
		begin := "19970902"
		if d, rest, ok := strings.Cut(rule, " "); ok {
			begin, rule = strings.TrimPrefix(d, "DTSTART="), rest
		}
		file := calendarFile("SUMMARY:Stock count", "DTSTART;TZID=America/New_York:"+begin+"T090000", "RRULE:"+rule)
		got, err := Import(strings.NewReader(file), newYork, find)
		if err != nil || len(got) != 1 {
			t.Errorf("%s: %v, %v", rule, got, err)
			continue
		}
		if why, cannot := strings.CutPrefix(want, "! "); cannot {
			if len(got[0].Phrases) != 0 || len(got[0].Lost) != 1 || !strings.Contains(got[0].Lost[0], why) {
				t.Errorf("%s: %+v, want …%s…", rule, got[0], why)
			}
			continue
		}
		if len(got[0].Lost) > 0 || len(got[0].Phrases) != 1 {
			t.Errorf("%s: %+v", rule, got[0])
			continue
		}
		compareDates(t, rule, plan(t, got[0].Phrases[0], newYork), strings.Fields(want))
	}
	if n < 40 {
		t.Errorf("%d rules were tried", n)
	}
}

// compareDates compares dues with dates such as 0902, 19980102 or 0902T0920;
// "…" and "last DATE" may follow.
func compareDates(t *testing.T, rule string, p *phrase.Plan, want []string) {
	t.Helper()
	show := func(at calendar.Instant) string {
		return at.Time().In(p.Zone.Location()).Format("20060102T1504")
	}
	at := calendar.Instant(calendar.DayOf(1990, 1, 1)) * 86400_000
	for i, w := range want {
		next, _, ok := p.Next(at)
		switch w {
		case "…":
			if !ok {
				t.Errorf("%s (%s): ends before %s", rule, p.Phrase, w)
			}
			if i+1 == len(want) {
				return
			}
			continue
		case "last":
			if last, _, _ := p.Prev(calendar.MaxInstant); !strings.HasPrefix(show(last), full(want[i+1])) {
				t.Errorf("%s (%s): the last is %s, want %s", rule, p.Phrase, show(last), want[i+1])
			}
			return
		}
		if !ok || !strings.HasPrefix(show(next), full(w)) {
			t.Errorf("%s (%s): due %d is %s, %v, want %s", rule, p.Phrase, i+1, show(next), ok, w)
			return
		}
		at = next
	}
	if next, _, ok := p.Next(at); ok {
		t.Errorf("%s (%s): goes on with %s", rule, p.Phrase, show(next))
	}
}

// full puts the year in front of a date without one.
func full(s string) string {
	if d, _, _ := strings.Cut(s, "T"); len(d) == 4 {
		return "1997" + s
	}
	return s
}

var roundTrips = []struct {
	phrase string
	listed bool
}{
	{"at 08:15", false}, {"at 08:15, 12:00, 12:30 on weekdays", false}, {"at 01:30", true}, {"at 01:30, utc", false},
	{"at 09:00 on day 1, 15", false}, {"at 09:00 on 2nd tue", false}, {"at 09:00 on last fri in mar, jun, sep, dec", false},
	{"at 09:00 on last day", false}, {"at 09:00, 17:00 on last weekday", false}, {"at 09:00 on 2nd last weekday", false},
	{"at 09:00 on fri and day 13", false}, {"at 09:00 every 3 days from 2026-11-25", false}, {"at 09:00 on mon, thu every 2 weeks from 2026-11-25", false},
	{"at 09:00 every 2 months from 2026-11-30", false}, {"at 09:00 every 2 years from 2026-12-05", false}, {"at 09:00 on mon every 2 years from 2026-12-05", false},
	{"every 20m from 09:00 to 16:00 on weekdays", false}, {"every 2h from 07:00 to 17:00", false}, {"every 30m", true}, {"every 30m, zone Asia/Tokyo", false},
	{"every 1h from 22:00 to 02:00 on fri", true}, {"every 36h since 2026-11-25 06:00", true}, {"at 09:00 on 2nd tue + 1d", true},
	{"at 09:00 on day 1 or next weekday", true}, {"at 09:00 on mon, day 1", true}, {"at 09:00, then every 20m for 1h", true},
	{"at 09:00 on weekdays, except 2026-12-24..2026-12-31", false}, {"at 09:00, except last fri", true},
	{"at 09:00 on 2026-12-24, 2027-01-07", true}, {"at 09:00 on mon, 5 times, starting 2026-12-01", false},
	{"at 09:00, 10:30 on weekdays, ending 2027-01-15, starting 2026-12-01", false}, {"at 08:15:30 on sat, zone America/New_York", false},
}

// TestRoundTrip exports a phrase and imports it again: the starts are the
// same, whether it was said as a rule or date by date.
func TestRoundTrip(t *testing.T) {
	london := zone(t, "Europe/London")
	from := calendar.InstantOf(time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC))
	to := from.Add(400 * 24 * time.Hour)
	for _, tt := range roundTrips {
		p := plan(t, tt.phrase, london)
		var text bytes.Buffer
		results, err := Export(&text, []Opening{{Gate: "stock-count", Name: "1", About: "Count, with care; all\nof it", Plan: p}}, from, to, from.Time())
		if err != nil || len(results) != 1 || results[0].Events == 0 {
			t.Errorf("%s: %+v, %v", tt.phrase, results, err)
			continue
		}
		if results[0].Listed != tt.listed {
			t.Errorf("%s: listed %v (%s), want %v", tt.phrase, results[0].Listed, results[0].Why, tt.listed)
		}
		for line := range strings.SplitSeq(strings.TrimSuffix(text.String(), "\r\n"), "\r\n") {
			if len(line) > 75 || strings.ContainsAny(line, "\r\n") {
				t.Errorf("%s: a line of %d bytes: %.80q", tt.phrase, len(line), line)
			}
		}
		back, err := Import(&text, london, find)
		if err != nil {
			t.Errorf("%s: %v", tt.phrase, err)
			continue
		}
		var plans []*phrase.Plan
		for _, b := range back {
			if len(b.Lost) > 0 {
				t.Errorf("%s: lost %v", tt.phrase, b.Lost)
			}
			for _, s := range b.Phrases {
				plans = append(plans, plan(t, s, london))
			}
		}
		want, got := starts([]*phrase.Plan{p}, from, to, 100_000), starts(plans, from, to, 100_000)
		if !slices.EqualFunc(got, want, time.Time.Equal) {
			t.Errorf("%s: %d starts come back, %d went:\n%.300s", tt.phrase, len(got), len(want), fmt.Sprint(back))
		}
	}
}

func TestTooMany(t *testing.T) {
	var text bytes.Buffer
	from := calendar.InstantOf(time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC))
	results, err := Export(&text, []Opening{{Gate: "a", Name: "1", Plan: plan(t, "every 1m", zone(t, "Europe/London"))}}, from, from.Add(400*24*time.Hour), from.Time())
	if err != nil || results[0].Events != 0 || !strings.Contains(results[0].Why, "too many") {
		t.Errorf("a start a minute: %+v, %v", results, err)
	}
}

// TestTooDeep: components within each other without end are refused, however their lines
// are written and whatever ends stand before and between them; the parser would follow them
// until there is no room.
func TestTooDeep(t *testing.T) {
	const times = 20_000
	for _, c := range []struct{ before, line string }{
		{"", "BEGIN:VEVENT\r\n"}, {"", "BEGIN:VEVENT\n"}, {"", "BEG\r\n IN:VEVENT\r\n"}, {"", "B\n\tEGIN:VEVENT\n"},
		{"", "BEGIN;X=1:VEVENT\r\n"}, {"", "BEGIN:VALARM\r\n"}, {"", "BEGIN:X-OURS\r\n"},
		{"", "BEGIN:VEVENT\r\nEND:X\r\n"}, {"", "BEGIN:VEVENT\r\nEND;X:VEVENT\r\n"},
		{"", "BEGIN:VEVENT\r\nend:VEVENT\r\n"}, {"", "BEGIN:VEVENT\r\nEND:vevent\r\n"},
		{strings.Repeat("END:X\r\n", times), "BEGIN:VEVENT\r\n"},
		{strings.Repeat("END:VEVENT\r\n", times), "BEGIN:VEVENT\r\n"},
	} {
		text := "BEGIN:VCALENDAR\r\n" + c.before + strings.Repeat(c.line, times)
		if _, err := Import(strings.NewReader(text), calendar.UTC, find); err == nil || !strings.Contains(err.Error(), "too deep") {
			t.Errorf("%q: %v", c.line, err)
		}
		if _, err := Days(strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), "too deep") {
			t.Errorf("%q as days: %v", c.line, err)
		}
	}
}

func TestZoneInFile(t *testing.T) {
	var text bytes.Buffer
	from := calendar.InstantOf(time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC))
	if _, err := Export(&text, []Opening{{Gate: "a", Name: "1", Plan: plan(t, "at 08:15", zone(t, "Europe/London"))}}, from, from.Add(time.Hour), from.Time()); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"BEGIN:VTIMEZONE\r\nTZID:Europe/London", "BEGIN:DAYLIGHT\r\nDTSTART:20250330T010000\r\nTZOFFSETFROM:+0000\r\nTZOFFSETTO:+0100\r\nTZNAME:BST",
		"UID:a.1.029700@timegate", "DTSTART;TZID=Europe/London:20261123T081500", "RRULE:FREQ=DAILY"} {
		if !strings.Contains(text.String(), want) {
			t.Errorf("the file lacks %q:\n%s", want, text.String())
		}
	}
}

var importTests = []struct {
	name  string
	lines []string
	want  string // phrases, then what is lost
}{
	{"once", []string{"SUMMARY:Glue: warm!", "DTSTART:20261224T084500"}, "glue-warm at 08:45 on 2026-12-24"},
	{"in UTC", []string{"DTSTART:20261224T084500Z"}, "event at 08:45 on 2026-12-24, utc"},
	{"another zone", []string{"DTSTART;TZID=Europe/Paris:20261224T084500", "RRULE:FREQ=DAILY"}, "event at 08:45, starting 2026-12-24, zone Europe/Paris"},
	{"a zone that is not there", []string{"DTSTART;TZID=Nowhere/Atall:20261224T084500"}, `event lost: DTSTART: there is no time zone "Nowhere/Atall"`},
	{"a whole day", []string{"DTSTART;VALUE=DATE:20261224"}, "event at 00:00 on 2026-12-24 lost: the event lasts whole days: midnight is taken for its moment"},
	{"an alarm before", []string{"DTSTART:20261224T084500", "RRULE:FREQ=WEEKLY;BYDAY=TH", "BEGIN:VALARM", "ACTION:DISPLAY", "TRIGGER:-PT15M", "END:VALARM"}, "event at 08:30 on thu, starting 2026-12-24"},
	{"an alarm the day before", []string{"DTSTART:20261224T001000", "RRULE:FREQ=MONTHLY", "BEGIN:VALARM", "ACTION:DISPLAY", "TRIGGER:-PT15M", "END:VALARM"}, "event at 23:55 on day 24 - 1d, starting 2026-12-23"},
	{"further dates", []string{"DTSTART:20261224T084500", "RDATE:20261226T084500,20261228T090000"}, "event at 08:45 on 2026-12-24, 2026-12-26; at 09:00 on 2026-12-28"},
	{"exceptions", []string{"DTSTART:20261221T084500", "RRULE:FREQ=DAILY", "EXDATE:20261224T084500"}, "event at 08:45, starting 2026-12-21, except 2026-12-24"},
	{"counted exceptions", []string{"DTSTART:20261221T084500", "RRULE:FREQ=DAILY;COUNT=5", "EXDATE:20261224T084500"},
		"event at 08:45, starting 2026-12-21, ending 2026-12-25 08:45, except 2026-12-24"},
	{"until in UTC", []string{"DTSTART;TZID=Europe/Paris:20261224T084500", "RRULE:FREQ=DAILY;UNTIL=20261226T074500Z"},
		"event at 08:45, starting 2026-12-24, ending 2026-12-26 08:45, zone Europe/Paris"},
	{"no start", []string{"SUMMARY:x"}, "x lost: the event has no DTSTART"},
	{"cancelled", []string{"DTSTART:20261224T084500", "STATUS:CANCELLED"}, "event lost: the event is cancelled: nothing is proposed"},
	{"nonsense", []string{"DTSTART:20261224T084500", "RRULE:FREQ=SOMETIMES"}, "event lost: RRULE:FREQ=SOMETIMES: FREQ=SOMETIMES is no frequency"},
}

func TestImport(t *testing.T) {
	for _, tt := range importTests {
		got, err := Import(strings.NewReader(calendarFile(tt.lines...)), zone(t, "Europe/London"), find)
		if err != nil || len(got) != 1 {
			t.Errorf("%s: %v, %v", tt.name, got, err)
			continue
		}
		s := strings.TrimSpace(got[0].Name + " " + strings.Join(got[0].Phrases, "; "))
		if len(got[0].Lost) > 0 {
			s += " lost: " + strings.Join(got[0].Lost, "; ")
		}
		if s != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", tt.name, s, tt.want)
		}
	}
	if _, err := Import(strings.NewReader("stock of boards"), calendar.UTC, find); err == nil {
		t.Error("a file that is no calendar was read")
	}
}

func TestDays(t *testing.T) {
	days, err := Days(strings.NewReader(calendarFile("DTSTART;VALUE=DATE:20261224", "DTEND;VALUE=DATE:20261227", "RRULE:FREQ=YEARLY;COUNT=2")))
	if err != nil || len(days) != 2 || days[0].To.String() != "2026-12-26" || days[1].From.String() != "2027-12-24" {
		t.Errorf("Days = %v, %v", days, err)
	}
	for _, lines := range [][]string{{"DTSTART:20261224T084500"}, {"DTSTART;VALUE=DATE:20261224", "RRULE:FREQ=YEARLY;BYWEEKNO=3"}, {"SUMMARY:x"}} {
		if days, err := Days(strings.NewReader(calendarFile(lines...))); err == nil {
			t.Errorf("%v gives %v, want an error", lines, days)
		}
	}
}

// FuzzImport: no file makes the import fail otherwise than by an error, and
// what it proposes are phrases.
func FuzzImport(f *testing.F) {
	for _, tt := range importTests {
		f.Add(calendarFile(tt.lines...))
	}
	f.Add("BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nDTSTART:20261224T084500\r\nRRULE:FREQ=MONTHLY;BYDAY=-1FR;BYSETPOS=2;INTERVAL=3\r\nEXDATE:x\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		proposals, err := Import(strings.NewReader(text), calendar.UTC, find)
		if err != nil {
			return
		}
		for _, p := range proposals {
			for _, s := range p.Phrases {
				if q, err := phrase.Parse(s); err != nil || q.String() != s {
					t.Fatalf("%q proposes %q: %v, %v", text, s, q, err)
				}
			}
		}
		Days(strings.NewReader(text))
	})
}
