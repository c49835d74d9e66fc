package calendar

import (
	"bufio"
	"math/rand/v2"
	"os"
	"testing"
	"time"
	_ "time/tzdata"
)

// zoneNames are all zones of the time-zone database.
func zoneNames(t testing.TB) []string {
	t.Helper()
	f, err := os.Open("../../workstation/zones/names.txt")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	var names []string
	for s := bufio.NewScanner(f); s.Scan(); {
		names = append(names, s.Text())
	}
	return names
}

func load(t testing.TB, name string) *time.Location {
	t.Helper()
	loc, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return loc
}

// TestEveryZone compares instants and local times with the time package, in
// every zone, at random and around every clock change, also centuries ahead.
func TestEveryZone(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, name := range zoneNames(t) {
		loc := load(t, name)
		z := NewZone(loc)
		for kind, y := range z.alike {
			if z.alike[0] != 0 && (y == 0 || yearKind(y) != kind) {
				t.Fatalf("%s: no year of kind %d", name, kind)
			}
		}
		for i := 1; i < len(z.segs); i++ {
			if z.segs[i].localEnd <= z.segs[i-1].localEnd {
				t.Errorf("%s: local ends do not ascend at %d", name, i)
			}
		}
		var instants []Instant
		for range 25 {
			instants = append(instants, Instant(r.Int64N(700*365*msPerDay)-150*365*msPerDay))
		}
		for _, span := range [][2]int{{2009, 2014}, {2025, 2029}, {2127, 2131}, {2399, 2401}} {
			for _, c := range z.Changes(Instant(DayOf(span[0], 1, 1))*msPerDay, Instant(DayOf(span[1], 1, 1))*msPerDay) {
				instants = append(instants, c-1, c, c+1, c-msPerHour, c+msPerHour)
			}
		}
		for _, at := range instants {
			want := at.Time().In(loc)
			day, ms := z.Local(at)
			y, m, d := day.Date()
			h, min, sec := want.Clock()
			if y != want.Year() || m != int(want.Month()) || d != want.Day() || ms != int64(h*3600+min*60+sec)*1000+int64(want.Nanosecond()/1e6) {
				t.Fatalf("%s: Local(%s) = %s %d ms, want %s", name, at.Time(), day, ms, want)
			}
			back, change := z.Resolve(day, ms)
			if back != at && (change != Doubled || back > at || z.Offset(back) == z.Offset(at)) {
				t.Fatalf("%s: Resolve(%s, %d) = %s, %v, want %s", name, day, ms, back.Time(), change, at.Time())
			}
		}
	}
}

// TestChanges finds the clock changes of a century by looking at every hour.
func TestChanges(t *testing.T) {
	for _, name := range []string{"Europe/London", "Australia/Lord_Howe", "Africa/Casablanca", "America/New_York", "Asia/Kolkata", "Pacific/Apia"} {
		loc := load(t, name)
		z := NewZone(loc)
		from := time.Date(2005, 1, 1, 0, 0, 0, 0, time.UTC)
		to := time.Date(2045, 1, 1, 0, 0, 0, 0, time.UTC)
		n := 0
		_, last := from.In(loc).Zone()
		for at := from; at.Before(to); at = at.Add(time.Hour) {
			if _, off := at.In(loc).Zone(); off != last {
				n, last = n+1, off
			}
		}
		if got := len(z.Changes(InstantOf(from), InstantOf(to))); got != n {
			t.Errorf("%s: %d changes, walking finds %d", name, got, n)
		}
	}
}

var resolveTests = []struct {
	zone, local, want string
	change            Change
}{
	{"Europe/London", "2026-03-29 00:59:59", "2026-03-29T00:59:59Z", Unchanged},
	{"Europe/London", "2026-03-29 01:00:00", "2026-03-29T01:00:00Z", Moved},
	{"Europe/London", "2026-03-29 01:30:00", "2026-03-29T01:00:00Z", Moved},
	{"Europe/London", "2026-03-29 02:00:00", "2026-03-29T01:00:00Z", Unchanged},
	{"Europe/London", "2026-10-25 01:30:00", "2026-10-25T00:30:00Z", Doubled},
	{"Europe/London", "2026-10-25 02:00:00", "2026-10-25T02:00:00Z", Unchanged},
	{"Europe/Dublin", "2026-10-25 01:30:00", "2026-10-25T00:30:00Z", Doubled},
	{"America/New_York", "2027-03-14 02:30:00", "2027-03-14T07:00:00Z", Moved},
	{"Australia/Lord_Howe", "2026-10-04 02:15:00", "2026-10-03T15:30:00Z", Moved},
	{"Australia/Lord_Howe", "2027-04-04 01:45:00", "2027-04-03T14:45:00Z", Doubled},
	{"America/St_Johns", "2010-11-07 00:00:30", "2010-11-07T02:30:30Z", Doubled},
	{"America/Sao_Paulo", "2018-11-04 00:00:00", "2018-11-04T03:00:00Z", Moved},
	{"Pacific/Apia", "2011-12-30 12:00:00", "2011-12-30T10:00:00Z", Moved},
	{"Pacific/Kwajalein", "1993-08-21 12:00:00", "1993-08-21T12:00:00Z", Moved},
	{"America/New_York", "2399-03-14 02:30:00", "2399-03-14T07:00:00Z", Moved},
	{"Antarctica/Troll", "2026-03-29 02:00:00", "2026-03-29T01:00:00Z", Moved},
}

func TestResolve(t *testing.T) {
	for _, tt := range resolveTests {
		local, err := time.Parse(time.DateTime, tt.local)
		if err != nil {
			t.Fatal(err)
		}
		z := NewZone(load(t, tt.zone))
		h, m, s := local.Clock()
		at, change := z.Resolve(DayOf(local.Year(), int(local.Month()), local.Day()), int64(h*3600+m*60+s)*1000)
		if got := at.Time().Format(time.RFC3339); got != tt.want || change != tt.change {
			t.Errorf("%s in %s is %s (%v), want %s (%v)", tt.local, tt.zone, got, change, tt.want, tt.change)
		}
	}
}

func TestSkippedDay(t *testing.T) {
	z := NewZone(load(t, "Pacific/Apia"))
	for date, want := range map[string]bool{"2011-12-29": true, "2011-12-30": false, "2011-12-31": true} {
		d, err := ParseDay(date)
		if err != nil {
			t.Fatal(err)
		}
		if _, exists := z.Start(d); exists != want {
			t.Errorf("%s exists: %v, want %v", date, exists, want)
		}
	}
}

func BenchmarkNewZone(b *testing.B) {
	loc := load(b, "Europe/London")
	for b.Loop() {
		NewZone(loc)
	}
}

func BenchmarkResolve(b *testing.B) {
	z := NewZone(load(b, "Europe/London"))
	d := DayOf(2026, 11, 23)
	for b.Loop() {
		z.Resolve(d, 30600000)
	}
}
