package calendar

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

func TestDay(t *testing.T) {
	for d := MinDay; d <= MaxDay; d += 1 + Day(d&3) {
		y, m, dd := d.Date()
		if back := DayOf(y, m, dd); back != d {
			t.Fatalf("DayOf(%d, %d, %d) = %d, want %d", y, m, dd, back, d)
		}
		if d%977 == 0 {
			want := time.Unix(int64(d)*86400, 0).UTC()
			if want.Year() != y || int(want.Month()) != m || want.Day() != dd || (int(want.Weekday())+6)%7 != d.Weekday() {
				t.Fatalf("day %d is %d-%d-%d, weekday %d, want %v", d, y, m, dd, d.Weekday(), want)
			}
		}
	}
	if got := DayOf(2026, 14, -3).String(); got != DayOf(2026, 14, 1).Add(-4).String() {
		t.Errorf("a day outside the month: %s", got)
	}
	for _, s := range []string{"2026-02-29", "2026-13-01", "26-01-01", "2026-1-1", "0000-01-01", "x"} {
		if d, err := ParseDay(s); err == nil {
			t.Errorf("ParseDay(%q) = %s, want an error", s, d)
		}
	}
	if MinDay.String() != "0001-01-01" || MaxDay.String() != "9999-12-31" {
		t.Errorf("days run from %s to %s", MinDay, MaxDay)
	}
}

// Add returns the day n later.
func (d Day) Add(n int) Day { return d + Day(n) }

func day(s string) Day {
	d, err := ParseDay(s)
	if err != nil {
		panic(err)
	}
	return d
}

func set(items ...Item) Term { return Term{Items: items} }

const friday, monday, sunday = Weekdays(1 << 4), Weekdays(1 << 0), Weekdays(1 << 6)

var daysTests = []struct {
	name string
	days Days
	from string
	want string // the next days; "-" for none
}{
	{"all", Days{}, "2026-02-27", "2026-02-27 2026-02-28 2026-03-01"},
	{"weekday", Days{Terms: []Term{set(Item{Weekdays: friday})}}, "2026-11-23", "2026-11-27 2026-12-04"},
	{"months", Days{Months: 1 << 1}, "2027-02-27", "2027-02-27 2027-02-28 2028-02-01"},
	{"day 31", Days{Terms: []Term{set(Item{MonthDays: 1 << 30})}}, "2026-02-01", "2026-03-31 2026-05-31 2026-07-31"},
	{"fri and day 13", Days{Terms: []Term{set(Item{Weekdays: friday}, Item{MonthDays: 1 << 12})}}, "2026-04-01", "2026-11-13 2027-08-13"},
	{"second tuesday", Days{Terms: []Term{set(Item{Nth: 2, Weekdays: 2})}}, "2026-11-23", "2026-12-08 2027-01-12"},
	{"fifth monday", Days{Terms: []Term{set(Item{Nth: 5, Weekdays: monday})}}, "2026-01-01", "2026-03-30 2026-06-29 2026-08-31"},
	{"last weekday", Days{Terms: []Term{set(Item{Nth: -1, Weekdays: Workdays})}}, "2026-10-31", "2026-11-30 2026-12-31 2027-01-29"},
	{"third last day", Days{Terms: []Term{set(Item{Nth: -3, Weekdays: AnyDay})}}, "2028-02-01", "2028-02-27 2028-03-29"},
	{"a day after", Days{Terms: []Term{{Items: []Item{{Nth: -1, Weekdays: AnyDay}}, Shift: 1}}}, "2026-12-15", "2027-01-01 2027-02-01"},
	{"forty days before", Days{Terms: []Term{{Items: []Item{{Dates: true, From: day("2027-03-28"), To: day("2027-03-28")}}, Shift: -40}}}, "2026-01-01", "2027-02-16 -"},
	{"day 1 or next weekday", Days{Terms: []Term{{Items: []Item{{MonthDays: 1}}, Roll: NextWeekday}}}, "2026-07-20", "2026-08-03 2026-09-01"},
	{"last day or previous weekday", Days{Terms: []Term{{Items: []Item{{Nth: -1, Weekdays: AnyDay}}, Roll: PrevWeekday}}}, "2026-01-01", "2026-01-30 2026-02-27"},
	{"the first, rolled into the month before", Days{Terms: []Term{{Items: []Item{{MonthDays: 1}}, Roll: PrevWeekday}}}, "2026-07-20", "2026-07-31 2026-09-01"},
	{"dates far apart", Days{Terms: []Term{set(Item{Dates: true, From: day("2026-01-01"), To: day("2026-01-01")}), set(Item{Dates: true, From: day("2590-05-05"), To: day("2590-05-06")})}},
		"2026-01-02", "2590-05-05 2590-05-06 -"},
	{"every 2 weeks", Days{Terms: []Term{set(Item{Weekdays: sunday | monday})}, Stride: Stride{2, WeekUnit, day("2026-01-01")}}, "2026-01-01", "2026-01-04 2026-01-12 2026-01-18 2026-01-26"},
	{"every 3 days", Days{Stride: Stride{3, DayUnit, day("2026-02-27")}}, "2026-01-01", "2026-02-27 2026-03-02 2026-03-05"},
	{"every 1000 days", Days{Stride: Stride{1000, DayUnit, day("2026-01-01")}}, "2026-01-02", "2028-09-27 2031-06-24"},
	{"every 5 months", Days{Terms: []Term{set(Item{MonthDays: 1 << 30})}, Stride: Stride{5, MonthUnit, day("2026-01-31")}}, "2026-02-01", "2028-07-31 2028-12-31"},
	{"every 3 years", Days{Months: 1 << 5, Terms: []Term{set(Item{MonthDays: 1})}, Stride: Stride{3, YearUnit, day("2026-06-02")}}, "2026-01-01", "2029-06-01 2032-06-01"},
	{"29 February on a Monday", Days{Months: 1 << 1, Terms: []Term{set(Item{MonthDays: 1 << 28}, Item{Weekdays: monday})}}, "2026-01-01", "2044-02-29 2072-02-29 2112-02-29"},
	{"except", Days{Terms: []Term{set(Item{Weekdays: friday})}, Except: []Term{set(Item{Nth: -1, Weekdays: friday})}}, "2026-11-23", "2026-12-04 2026-12-11"},
	{"never", Days{Months: 1 << 1, Terms: []Term{set(Item{MonthDays: 1 << 29})}}, "2026-01-01", "-"},
	{"at the end of time", Days{}, "9999-12-31", "9999-12-31 -"},
}

func TestDays(t *testing.T) {
	for _, tt := range daysTests {
		d := tt.days
		d.prepare()
		var got []string
		from := day(tt.from)
		for range strings.Fields(tt.want) {
			next, ok := d.Next(from)
			if !ok {
				got = append(got, "-")
				break
			}
			if prev, ok := d.Prev(next); !ok || prev != next {
				t.Errorf("%s: Prev(%s) = %s, %v", tt.name, next, prev, ok)
			}
			got, from = append(got, next.String()), next+1
		}
		if s := strings.Join(got, " "); s != tt.want {
			t.Errorf("%s: got %s, want %s", tt.name, s, tt.want)
		}
	}
}

// TestDaysAgree: Next, Prev, Has and Count tell the same of random sets.
func TestDaysAgree(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	item := func() Item {
		switch r.IntN(4) {
		case 0:
			return Item{Weekdays: Weekdays(1 + r.IntN(127))}
		case 1:
			return Item{MonthDays: uint32(1+r.IntN(1<<31-1)) & r.Uint32()}
		case 2:
			return Item{Nth: r.IntN(11) - 5, Weekdays: Weekdays(1 + r.IntN(127))}
		}
		from := DayOf(2026, 1+r.IntN(24), 1+r.IntN(31))
		return Item{Dates: true, From: from, To: from + Day(r.IntN(60))}
	}
	for range 500 {
		var d Days
		for range r.IntN(3) {
			d.Terms = append(d.Terms, Term{Items: []Item{item()}, Shift: r.IntN(3) * (r.IntN(81) - 40), Roll: Roll(r.IntN(3) - 1)})
		}
		if r.IntN(2) == 0 {
			d.Months = Months(r.IntN(4096))
		}
		if r.IntN(2) == 0 {
			d.Stride = Stride{1 + r.IntN(9), Unit(1 + r.IntN(4)), DayOf(2026, 1, r.IntN(200))}
		}
		if r.IntN(3) == 0 {
			d.Except = []Term{set(item())}
		}
		d.prepare()
		lo, hi := DayOf(2026, 1, 1), DayOf(2027, 12, 31)
		n, next := int64(0), Day(0)
		for x := hi; x >= lo; x-- {
			if d.Has(x) {
				n, next = n+1, x
			}
			if next == 0 {
				continue // what comes later, if anything, is not known here
			}
			if got, ok := d.Next(x); !ok || got != next {
				t.Fatalf("%+v: Next(%s) = %s, %v, want %s", d, x, got, ok, next)
			}
		}
		prev := Day(0)
		for x := lo; x <= hi; x++ {
			if d.Has(x) {
				prev = x
			}
			if prev == 0 {
				continue
			}
			if got, ok := d.Prev(x); !ok || got != prev {
				t.Fatalf("%+v: Prev(%s) = %s, %v, want %s", d, x, got, ok, prev)
			}
		}
		if got := d.Count(lo, hi); got != n {
			t.Fatalf("%+v: Count = %d, want %d", d, got, n)
		}
	}
}

func TestLimit(t *testing.T) {
	for _, n := range []int64{1, 7, 1000, 1_000_000} {
		r, err := NewRule(Spec{Zone: UTC, Times: []int64{8 * msPerHour, 9 * msPerHour}, Limit: n, Starting: Instant(day("2026-11-23")) * msPerDay})
		if err != nil {
			t.Fatal(err)
		}
		if got := r.Count(MinInstant, MaxInstant); got != n {
			t.Errorf("%d times gives %d dues", n, got)
		}
	}
}
