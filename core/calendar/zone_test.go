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

func TestExplain(t *testing.T) {
	london, apia := NewZone(load(t, "Europe/London")), NewZone(load(t, "Pacific/Apia"))
	at := func(s string) Instant {
		x, err := time.Parse(time.RFC3339, s)
		if err != nil {
			t.Fatal(err)
		}
		return InstantOf(x)
	}
	const minute = 60 * msPerSecond
	for _, tt := range []struct {
		spec      Spec
		due, want string
	}{
		{Spec{Zone: london, Times: []int64{90 * minute}}, "2026-03-29T01:00:00Z", "moved: 01:30 does not exist that day, the clock goes from 01:00 to 02:00"},
		{Spec{Zone: london, Times: []int64{90 * minute}}, "2026-10-25T00:30:00Z", "01:30 comes twice that day; this is the first"},
		{Spec{Zone: london, Times: []int64{90 * minute}}, "2026-10-26T01:30:00Z", ""},
		{Spec{Zone: london, Times: []int64{60 * minute, 120 * minute}}, "2026-03-29T01:00:00Z",
			"moved: 01:00 does not exist that day, the clock goes from 01:00 to 02:00; 01:00 and 02:00 meet here"},
		{Spec{Zone: london, Every: 30 * minute}, "2026-10-25T01:30:00Z", "01:30 for the second time: the clock went back"},
		{Spec{Zone: london, Every: 20 * minute, Window: &Window{75 * minute, 180 * minute}}, "2026-03-29T01:00:00Z",
			"moved: 01:15 does not exist that day, the clock goes from 01:00 to 02:00"},
		{Spec{Zone: london, Every: 36 * msPerHour, HasSince: true, Since: at("2026-10-23T13:30:00Z")}, "2026-10-25T01:30:00Z", "01:30 for the second time: the clock went back"},
		{Spec{Zone: apia, Times: []int64{8 * msPerHour}}, "2011-12-30T18:00:00Z", ""},
	} {
		r, err := NewRule(tt.spec)
		if err != nil {
			t.Fatal(err)
		}
		due := at(tt.due)
		if next, _ := r.Next(due - 1); next != due {
			t.Errorf("%s is no due of %+v: next is %s", tt.due, tt.spec, next.Time())
		}
		if got := r.Explain(due); got != tt.want {
			t.Errorf("Explain(%s) = %q, want %q", tt.due, got, tt.want)
		}
	}
	r, err := NewRule(Spec{Zone: apia, Times: []int64{8 * msPerHour}})
	if err != nil {
		t.Fatal(err)
	}
	if got := r.Dropped(at("2011-01-01T00:00:00Z"), at("2012-01-01T00:00:00Z")); len(got) != 1 || got[0].String() != "2011-12-30" {
		t.Errorf("Dropped = %v, want 2011-12-30", got)
	}
	r, err = NewRule(Spec{Zone: london, Every: 180 * minute, Window: &Window{540 * minute, 960 * minute}})
	if err != nil {
		t.Fatal(err)
	}
	first, last, ok := r.WindowEnds(at("2026-11-27T08:00:00Z"))
	if !ok || first != at("2026-11-27T09:00:00Z") || last != at("2026-11-27T15:00:00Z") {
		t.Errorf("WindowEnds = %s, %s, %v", first.Time(), last.Time(), ok)
	}
}
