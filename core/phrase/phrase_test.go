package phrase

import (
	"errors"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
)

// London is the zone of the bindery.
func london(t testing.TB) *calendar.Zone {
	t.Helper()
	loc, err := time.LoadLocation("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	return calendar.NewZone(loc)
}

var canonicalTests = []struct{ input, want, words string }{
	{"at 08:15", "at 08:15", "at 08:15, every day"},
	{"AT 08:15:00 ON Saturday", "at 08:15 on sat", "at 08:15 on Saturdays"},
	{"at 12:00, 08:15,08:15:30", "at 08:15, 08:15:30, 12:00", "at 08:15, 08:15:30 and 12:00, every day"},
	{"at 03:20 on mon-fri", "at 03:20 on weekdays", "at 03:20 on weekdays"},
	{"at 03:20 on fri-mon", "at 03:20 on fri-mon", "at 03:20 on Friday to Monday"},
	{"at 03:20 on tue, mon, sun", "at 03:20 on sun-tue", "at 03:20 on Sunday to Tuesday"},
	{"at 03:20 on sat,sun", "at 03:20 on weekends", "at 03:20 on weekends"},
	{"at 09:00 on day 15, 1-3", "at 09:00 on day 1-3, 15", "at 09:00 on day 1-3 and 15 of the month"},
	{"at 09:00 on day 30-2", "at 09:00 on day 1, 2, 30, 31", "at 09:00 on day 1, 2, 30 and 31 of the month"},
	{"at 09:00 on second tue+1d", "at 09:00 on 2nd tue + 1d", "at 09:00 on 1 day after the 2nd Tuesday of the month"},
	{"at 09:00 on 1st last fri", "at 09:00 on last fri", "at 09:00 on the last Friday of the month"},
	{"at 09:00 on fri and day 13", "at 09:00 on fri and day 13", "at 09:00 on Fridays that are also day 13 of the month"},
	{"at 09:00 on day 1 or next weekday", "at 09:00 on day 1 or next weekday", "at 09:00 on day 1 of the month or, if that is a weekend, on the next weekday"},
	{"at 09:00 on 2026-12-24..2026-12-31, 2027-01-06", "at 09:00 on 2026-12-24..2026-12-31, 2027-01-06",
		"at 09:00 on Thu 24 Dec 2026 to Thu 31 Dec 2026 and Wed 6 Jan 2027"},
	{"at 09:00 in nov-feb on last weekday", "at 09:00 on last weekday in nov-feb", "at 09:00 on the last weekday of the month, in November to February"},
	{"at 09:00 in jan-dec", "at 09:00", "at 09:00, every day"},
	{"at 09:00 every 2 weeks from 2026-03-10", "at 09:00 on tue every 2 weeks from 2026-03-10", "at 09:00, on Tuesdays, every 2 weeks, counted from Tue 10 Mar 2026"},
	{"at 09:00 every 3 months from 2026-01-31", "at 09:00 on day 31 every 3 months from 2026-01-31", "at 09:00, on day 31 of the month, every 3 months, counted from Sat 31 Jan 2026"},
	{"at 09:00 every 1 year from 2026-06-05", "at 09:00 on day 5 in jun every 1 year from 2026-06-05", "at 09:00, on day 5 of the month, every year, counted from Fri 5 Jun 2026, in June"},
	{"every 90m from 09:00 to 17:00 on weekdays in mar", "every 1h30m from 09:00 to 17:00 on weekdays in mar",
		"every 1 hour 30 minutes, from 09:00 up to and including 17:00 on weekdays, in March"},
	{"every 2h in mar on mon from 22:00 to 00:00", "every 2h from 22:00 to 00:00 on mon in mar", "every 2 hours, from 22:00 up to and including midnight on Mondays, in March"},
	{"every 10m", "every 10m", "every 10 minutes, counted from midnight"},
	{"every 36h since 2026-11-02 06:00", "every 1d12h since 2026-11-02 06:00", "every 1 day 12 hours of elapsed time, first on Mon 2 Nov 2026 at 06:00"},
	{"every 7d after success", "every 1w after success", "1 week after the last run that succeeded, or at once if none has"},
	{"boot+45s,then every 20s for 3m", "boot + 45s, then every 20s for 3m", "45 seconds after the machine has booted, then again every 20 seconds for 3 minutes"},
	{"first unlock of the day from 06:00 to 12:00 on weekdays + 5s", "first unlock of the day from 06:00 to 12:00 on weekdays + 5s", ""},
	{"unlock on mon + 24h", "unlock on mon + 24h", ""},
	{"unlock on mon + 1d + 1d", "unlock on mon + 1d + 24h", ""},
	{"unlock + 24h", "unlock + 1d", ""},
	{"logon of maren, then every 1m for ever", "logon of maren, then every 1m for ever", "when maren logs on, then again every minute until the next moment"},
	{"first logon of the week", "first logon of the week", "when anybody logs on, the first time of the week"},
	{`change in /srv/proofs, "~/my jobs" matching *.pdf quiet 5s`, `change in /srv/proofs, "~/my jobs" matching *.pdf quiet 5s`, ""},
	{`line "error \"E1\\d\"" in /var/log/spool.log`, `line "error \"E1\\d\"" in /var/log/spool.log`, ""},
	{"low disk /home 500mib", "low disk /home 500MiB", "when less than 500MiB is free on /home"},
	{"low memory 10%", "low memory 10%", "when less than 10% of memory is free"},
	{"end of vault-copy + 1m", "end of vault-copy + 1m", ""},
	{"idle 600s", "idle 10m", "when nobody has touched keyboard or mouse for 10 minutes"},
	{"device usb*, 3 times", "device usb*, 3 times", "when a device usb* appears, 3 times in all"},
	{"mount /media/vault", "mount /media/vault", "when /media/vault is mounted"},
	{"at 09:00 on day 1, 15, 3 times, starting 2026-01-01 10:00, ending 2026-12-31, utc",
		"at 09:00 on day 1, 15, 3 times, starting 2026-01-01 10:00, ending 2026-12-31, utc", ""},
	{"at 09:00, except 2026-12-25, sat, zone Europe/Paris, starting 2026-01-01",
		"at 09:00, starting 2026-01-01, zone Europe/Paris, except 2026-12-25, sat", ""},
	{"at 09:00, except days in /etc/larkspur/holidays", "at 09:00, except days in /etc/larkspur/holidays", "at 09:00, every day, except on the days listed in /etc/larkspur/holidays"},
}

func TestCanonical(t *testing.T) {
	for _, tt := range canonicalTests {
		p, err := Parse(tt.input)
		if err != nil {
			t.Errorf("Parse(%q): %v", tt.input, err)
			continue
		}
		if got := p.String(); got != tt.want {
			t.Errorf("Parse(%q) prints %q, want %q", tt.input, got, tt.want)
		}
		if got := p.Words(); tt.words != "" && got != tt.words {
			t.Errorf("Parse(%q) in words:\n got %q\nwant %q", tt.input, got, tt.words)
		}
		again, err := Parse(p.String())
		if err != nil || again.String() != p.String() || again.Words() != p.Words() {
			t.Errorf("the canonical form %q reads as %v, %v", p, again, err)
		}
	}
}

var errorTests = []struct {
	input  string
	column int
	want   string // part of the problem
	offer  string // the phrase offered, or part of the remedy
}{
	{"", 1, "empty", ""},
	{"at", 3, `after "at": expected a time`, ""},
	{"daily at 09:00", 1, `"daily"`, "at 09:00"},
	{"every mon at 08:15", 7, `"mon"`, "at 08:15 on mon"},
	{"9:00", 1, `"9:00"`, "at 09:00"},
	{"at 9:00", 4, "hour of one digit", "at 09:00"},
	{"at 08:15 on tues", 13, `"tues"`, "at 08:15 on tue"},
	{"at 08:15 on fryday", 13, `"fryday"`, "at 08:15 on fri"},
	{"at 08:15 on mon, wends", 18, `"wends"`, "at 08:15 on mon, wed"},
	{"evry 10m", 1, `"evry"`, "every 10m"},
	{"every 5 minutes", 7, "", "every 5m"},
	{"every hour", 7, "", "every 1h"},
	{"hourly", 1, "", "every 1h"},
	{"at 9am on weekdays", 4, "", "at 09:00 on weekdays"},
	{"at noon", 4, "", "at 12:00"},
	{"at 08:00 and 12:00", 10, "", "at 08:00, 12:00"},
	{"every 15m between 09:00 and 17:00", 11, "", "every 15m from 09:00 to 17:00"},
	{"every 15m from 09:00 - 17:00", 22, "", "every 15m from 09:00 to 17:00"},
	{"startup", 1, "", "boot"},
	{"at boot", 4, "", "boot"},
	{"login", 1, "", "logon"},
	{"5m after boot", 1, "", "boot + 5m"},
	{"boot then every 20s for 3m", 6, "comma", "boot, then every 20s for 3m"},
	{"monthly on the 1st at 08:00", 1, "", "at 08:00 on day 1"},
	{"at 24:00", 4, "not a time of day", "at 00:00"},
	{"at 08:60", 4, "not a time of day", ""},
	{"at 08:15 on 2026-02-29", 13, "not a day of the calendar", ""},
	{"at 08:15 on 2026-12-31..2026-12-01", 13, "ends before it begins", ""},
	{"every 7h", 7, "does not divide the day", "every 7h since 2026-01-01 00:00"},
	{"every 2d", 7, "longer than a day", "at TIME every 2 days from DATE"},
	{"every 0s", 7, "no time at all", ""},
	{"every 1m1h", 7, "largest unit", ""},
	{"every 1h 30m from 09:00 to 17:00", 10, "without blanks", "every 1h30m from 09:00 to 17:00"},
	{"every 20m from 09:00 to 09:00", 11, "no length", ""},
	{"at 09:00 every 2 weeks", 10, "no start", "from 2026-11-02"},
	{"at 09:00 every 2 fortnights from 2026-01-01", 18, `"fortnights"`, "at 09:00 on thu every 4 weeks from 2026-01-01"},
	{"at 09:00 on mon on tue", 17, "given twice", "at 09:00 on mon, tue"},
	{"at 09:00, starting 2026-01-01, starting 2027-01-01", 32, "given twice", ""},
	{"at 09:00, 5 times", 11, "no beginning", "starting DATE"},
	{"at 09:00, starting 2026-06-01, ending 2026-05-31", 32, "end is before the start", ""},
	{"at 09:00 every 2 days from 2026-06-01, ending 2026-05-31", 40, "end is before the stride's start", ""},
	{"at 09:00 on 6th mon", 13, "no month has so many", ""},
	{"at 09:00 on 2nd", 16, `after "2nd"`, "at 09:00 on day 2"},
	{"at 09:00 on day 32", 17, "out of range", ""},
	{"boot, then every 5m for 1m", 25, "never comes", ""},
	{"unlock of the day", 8, `goes with "first"`, ""},
	{"first unlock", 13, `of the day`, "first unlock of the day"},
	{`line "(" in /var/log/x`, 6, "missing closing", ""},
	{`change in /srv matching "[a"`, 25, "is no pattern", "close the"},
	{`device usb[`, 8, "is no pattern", "close the"},
	{`line error in /var/log/x`, 6, "quoted", ""},
	{"change in proofs", 11, "not a whole path", ""},
	{"low disk / lots", 12, "not an amount", ""},
	{"every 7d after success, 3 times", 25, "does not go with", ""},
	{"at 08:15 \x00", 10, "", ""},
	{"at 08:15 " + strings.Repeat("x", 5000), 1, "longer than", ""},
}

func TestErrors(t *testing.T) {
	for _, tt := range errorTests {
		_, err := Parse(tt.input)
		var e *Error
		if !errors.As(err, &e) {
			t.Errorf("Parse(%q) = %v, want an *Error", tt.input, err)
			continue
		}
		if e.Column() != tt.column || !strings.Contains(e.Problem, tt.want) {
			t.Errorf("Parse(%q): column %d: %s, want column %d: …%s…", tt.input, e.Column(), e.Problem, tt.column, tt.want)
		}
		if tt.offer != "" && e.Offer != tt.offer && !strings.Contains(e.Remedy, tt.offer) {
			t.Errorf("Parse(%q) offers %q / %q, want %q", tt.input, e.Offer, e.Remedy, tt.offer)
		}
		if tt.offer == "" && e.Offer != "" {
			t.Errorf("Parse(%q) offers %q, want nothing", tt.input, e.Offer)
		}
		if lines := strings.Split(e.Caret(), "\n"); strings.Index(lines[len(lines)-1], "^") != e.Column()-1 {
			t.Errorf("Parse(%q): the mark is off:\n%s", tt.input, e.Caret())
		}
	}
}

// errZone is what the environment of the tests says of zones it lacks.
var errZone = errors.New("there is no such time zone")

func testEnv(t testing.TB) Env {
	return Env{Zone: london(t), FindZone: func(name string) (*calendar.Zone, error) {
		loc, err := time.LoadLocation(name)
		if err != nil {
			return nil, errZone
		}
		return calendar.NewZone(loc), nil
	}, DaysIn: func(path string) ([]calendar.Item, error) {
		if path != "/etc/larkspur/holidays" {
			return nil, errors.New("no such file")
		}
		d := calendar.DayOf(2026, 12, 25)
		return []calendar.Item{{Dates: true, From: d, To: d + 1}}, nil
	}}
}

var compileErrorTests = []struct{ input, fault, want string }{
	{"at 09:00 on day 31 in feb", "on day 31", "never come"},
	{"at 09:00 on day 30 in feb, zone Asia/Tokyo", "on day 30", "never come"},
	{"at 09:00 on 5th mon and day 1", "on 5th mon and day 1", "never come"},
	{"at 09:00 on mon, except mon", "except mon", "never come"},
	{"at 09:00 on mon, starting 2026-11-24, ending 2026-11-29", "ending 2026-11-29", "never come"},
	{"at 09:00 on 2026-05-05, starting 2026-06-01", "starting 2026-06-01", "never come"},
	{"boot on day 31 in feb", "on day 31", "never come"},
	{"signal x on mon, except mon", "except mon", "never come"},
	{"at 09:00, zone Europe/Londn", "zone Europe/Londn", "no such time zone"},
	{"at 09:00, except days in /nowhere", "except days in /nowhere", "no such file"},
}

func TestCompileErrors(t *testing.T) {
	for _, tt := range compileErrorTests {
		p, err := Parse(tt.input)
		if err != nil {
			t.Errorf("Parse(%q): %v", tt.input, err)
			continue
		}
		_, err = p.Compile(testEnv(t))
		var e *Error
		if !errors.As(err, &e) {
			t.Errorf("Compile(%q) = %v, want an *Error", tt.input, err)
			continue
		}
		if got := e.Text[e.Pos : e.Pos+e.Len]; got != tt.fault || !strings.Contains(e.Error(), tt.want) {
			t.Errorf("Compile(%q): %v at %q, want …%s… at %q", tt.input, e, got, tt.want, tt.fault)
		}
	}
}

func TestAfterSuccess(t *testing.T) {
	p, err := Parse("every 7d after success, starting 2026-11-23")
	if err != nil {
		t.Fatal(err)
	}
	plan, err := p.Compile(testEnv(t))
	if err != nil {
		t.Fatal(err)
	}
	at := func(s string) calendar.Instant {
		x, err := time.Parse(time.RFC3339, s)
		if err != nil {
			t.Fatal(err)
		}
		return calendar.InstantOf(x)
	}
	for _, tt := range []struct{ now, last, want string }{
		{"2026-11-20T10:00:00Z", "", "2026-11-23T00:00:00Z"},
		{"2026-11-24T10:00:00Z", "", "2026-11-24T10:00:00Z"},
		{"2026-11-24T10:00:00Z", "2026-11-22T08:00:00Z", "2026-11-29T08:00:00Z"},
	} {
		last := calendar.Instant(0)
		if tt.last != "" {
			last = at(tt.last)
		}
		got, ok := plan.SinceSuccess(last, tt.last != "", at(tt.now))
		if !ok || got != at(tt.want) {
			t.Errorf("last success %q, now %s: due %s, want %s", tt.last, tt.now, got.Time(), tt.want)
		}
	}
	if _, ok := plan.NextMoment(0); ok {
		t.Error("a moment that depends on runs was foretold")
	}
}

func TestWarning(t *testing.T) {
	for text, want := range map[string]string{
		"every 1d since 2026-01-01 09:00":  "at 09:00 every 1 day from 2026-01-01",
		"every 2w since 2026-01-01 09:00":  "at 09:00 every 14 days from 2026-01-01",
		"every 1d since 2026-01-01":        "at 00:00 every 1 day from 2026-01-01",
		"every 25h since 2026-01-01 09:00": "",
		"at 09:00":                         "",
	} {
		p, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		if got := p.Warning(); !strings.Contains(got, want) || (got == "") != (want == "") {
			t.Errorf("Warning(%q) = %q, want …%q…", text, got, want)
		}
	}
}

func TestDead(t *testing.T) {
	for text, want := range map[string]string{
		"at 09:00 on mon, day 31 in feb":                          "day 31",
		"at 09:00 on day 30 in feb, mar":                          "feb",
		"at 09:00 on day 31 in jan-dec":                           "",
		"at 09:00 on day 31 in jan-jun":                           "feb apr jun",
		"at 09:00 on mon, 5th tue in feb":                         "",
		"at 09:00 on 2020-01-01, mon":                             "",
		"at 09:00 on mon and 2026-11-24, tue":                     "mon and 2026-11-24",
		"at 09:00 on mon, starting 2026-11-24, ending 2030-01-01": "",
		"every 1h": "",
		"boot":     "",
	} {
		p, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		plan, err := p.Compile(testEnv(t))
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(plan.Dead(), " "); got != want {
			t.Errorf("Dead(%q) = %q, want %q", text, got, want)
		}
	}
}

func TestSpan(t *testing.T) {
	for _, tt := range []struct {
		in   string
		want time.Duration // -1 for an error
		out  string
	}{
		{"90s", 90 * time.Second, "1m30s"}, {"1h30m", 90 * time.Minute, "1h30m"}, {"2D", 48 * time.Hour, "2d"},
		{"1w2d", 9 * 24 * time.Hour, "1w2d"}, {"250ms", 250 * time.Millisecond, "250ms"}, {"0s", 0, "0s"},
		{"5m5m", -1, ""}, {"", -1, ""}, {"5", -1, ""}, {"m", -1, ""}, {"1y", -1, ""}, {"1s1h", -1, ""}, {"-5m", -1, ""},
		{"99999999999999999999s", -1, ""}, {"200000d", -1, ""}, {"36500d1s", -1, ""},
	} {
		got, err := ParseSpan(tt.in)
		if tt.want < 0 {
			if err == nil {
				t.Errorf("ParseSpan(%q) = %v, want an error", tt.in, got)
			}
			continue
		}
		if err != nil || got != tt.want || FormatSpan(got) != tt.out {
			t.Errorf("ParseSpan(%q) = %v (%s), %v, want %v (%s)", tt.in, got, FormatSpan(got), err, tt.want, tt.out)
		}
	}
}

func TestNearest(t *testing.T) {
	words := []string{"mon", "monday", "weekdays", "every"}
	for typed, want := range map[string]string{"mno": "mon", "weekdyas": "weekdays", "evry": "every", "zebra": "", "Monday": "monday"} {
		if got, _ := Nearest(typed, words); got != want {
			t.Errorf("Nearest(%q) = %q, want %q", typed, got, want)
		}
	}
}

// FuzzParse: no input makes the parser fail otherwise than by an error whose
// place lies in the text, and every phrase survives its canonical form.
func FuzzParse(f *testing.F) {
	for _, tt := range canonicalTests {
		f.Add(tt.input)
	}
	for _, tt := range errorTests {
		f.Add(tt.input)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Parse(text)
		if err != nil {
			var e *Error
			if !errors.As(err, &e) || e.Pos < 0 || e.Pos+e.Len > len(e.Text) || e.Problem == "" {
				t.Fatalf("Parse(%q) = %#v", text, err)
			}
			e.Caret()
			if e.Offer != "" {
				if _, err := Parse(e.Offer); err != nil {
					t.Fatalf("Parse(%q) offers %q, which is wrong: %v", text, e.Offer, err)
				}
			}
			return
		}
		again, err := Parse(p.String())
		if err != nil || again.String() != p.String() || again.Words() != p.Words() {
			t.Fatalf("%q prints as %q, which reads as %v, %v", text, p, again, err)
		}
		if p.ExceptFile != "" || p.Zone != "" && p.Zone != "UTC" {
			return
		}
		plan, err := p.Compile(Env{Zone: calendar.UTC})
		if err != nil || plan.Rule == nil {
			return
		}
		at := calendar.InstantOf(time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC))
		for range 5 {
			next, _, ok := plan.Next(at)
			if !ok {
				break
			}
			if next <= at {
				t.Fatalf("%q: due %v is not after %v", text, next.Time(), at.Time())
			}
			if prev, _, ok := plan.Prev(next + 1); !ok || prev != next {
				t.Fatalf("%q: before %v comes %v", text, (next + 1).Time(), prev.Time())
			}
			at = next
		}
	})
}

var benchPhrases = []string{
	"at 03:20", "at 03:20 on weekdays", "at 08:15, 12:00 on mon, thu", "every 10m", "every 2h",
	"every 20m from 09:00 to 16:00 on weekdays", "every 30m from 22:00 to 02:00 on fri", "at 09:00 on 2026-12-24",
	"at 09:00, then every 20s for 3m", "at 09:00 on last weekday", "at 09:00 on 2nd tue + 1d", "at 09:00 every 2 weeks from 2026-03-10",
	"every 36h since 2026-01-01", "at 09:00 on 2090-01-01, 2026-01-01", "at 09:00 on day 29 and mon in feb",
}

func BenchmarkNext(b *testing.B) {
	env := testEnv(b)
	at := calendar.InstantOf(time.Date(2026, 11, 23, 7, 0, 0, 0, time.UTC))
	for _, text := range benchPhrases {
		p, err := Parse(text)
		if err != nil {
			b.Fatal(err)
		}
		plan, err := p.Compile(env)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(text, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				plan.Next(at)
			}
		})
	}
}

// BenchmarkYear lists a year of dues of a thousand gates.
func BenchmarkYear(b *testing.B) {
	env := testEnv(b)
	from := calendar.InstantOf(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC))
	to := calendar.InstantOf(time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC))
	var plans []*Plan
	for i := range 1000 {
		p, err := Parse(benchPhrases[i%len(benchPhrases)])
		if err != nil {
			b.Fatal(err)
		}
		plan, err := p.Compile(env)
		if err != nil {
			b.Fatal(err)
		}
		plans = append(plans, plan)
	}
	for b.Loop() {
		n := 0
		for _, plan := range plans {
			for at, _, ok := plan.Next(from - 1); ok && at < to; at, _, ok = plan.Next(at) {
				n++
			}
		}
		b.ReportMetric(float64(n), "dues/op")
	}
}
