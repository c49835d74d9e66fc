package calendar

import "math/bits"

// Weekdays is a set of days of the week; bit 0 is Monday.
type Weekdays uint8

// Sets of days of the week.
const (
	Workdays Weekdays = 0b0011111
	Weekend  Weekdays = 0b1100000
	AnyDay   Weekdays = 0b1111111
)

// Months is a set of months; bit 0 is January. The empty set stands for all.
type Months uint16

// Has reports whether the set holds a month (1 to 12).
func (m Months) Has(month int) bool { return m == 0 || m>>(month-1)&1 == 1 }

// An Item is one property that a day can have. Exactly one of its parts is in
// use, in this order: Dates, MonthDays, Nth, Weekdays.
type Item struct {
	From, To  Day      // a range of dates, both included; used when Dates is true
	Dates     bool     //
	MonthDays uint32   // days of the month; bit 0 is the first
	Nth       int      // the nth of Weekdays in its month, from the end where negative
	Weekdays  Weekdays // any of these days of the week
}

// Roll says where a day that is no weekday goes.
type Roll int8

// Where a day on a weekend goes.
const (
	Stay         Roll = 0
	NextWeekday  Roll = 1
	PrevWeekday  Roll = -1
	maxShiftDays      = 366
)

// A Term is a set of days: those with all of the items' properties, moved by
// Shift days and then off a weekend as Roll says.
type Term struct {
	Items []Item
	Shift int // -366 to 366
	Roll  Roll
}

// Unit is the unit of a stride.
type Unit int

// Units of a stride.
const (
	NoStride Unit = iota
	DayUnit
	WeekUnit
	MonthUnit
	YearUnit
)

// A Stride keeps every nth day, ISO week, month or year counted from the one
// that holds From, and nothing before From. The zero stride keeps all.
type Stride struct {
	Every int // 1 or more
	Unit  Unit
	From  Day
}

// Days is a set of days: the union of Terms (all days where there is none),
// within Months, on the Stride, without Except.
type Days struct {
	Terms  []Term
	Months Months
	Stride Stride
	Except []Term

	lo, hi Day      // bounds taken from Terms and Stride by prepare
	week   Weekdays // the set where it is one of weekdays alone; 0 otherwise
	may    uint32   // days of the month outside which there is none
}

// searchYears bounds every search: the Gregorian calendar repeats after 400
// years, so what does not come within them never comes.
const searchYears = 400

// NewDays returns a set that is ready to be asked by itself, not by way of a
// [Rule].
func NewDays(d Days) *Days {
	d.prepare()
	return &d
}

// prepare derives the bounds outside which the set is empty.
func (d *Days) prepare() {
	d.lo, d.hi = MinDay, MaxDay
	if len(d.Terms) > 0 {
		d.lo, d.hi = MaxDay, MinDay
		for i := range d.Terms {
			lo, hi := d.Terms[i].span()
			d.lo, d.hi = min(d.lo, lo), max(d.hi, hi)
		}
	}
	if d.Stride.Unit != NoStride {
		d.lo = max(d.lo, d.Stride.From)
	}
	d.may = 0
	for i := range d.Terms {
		d.may |= d.Terms[i].may()
	}
	if len(d.Terms) == 0 {
		d.may = 1<<31 - 1
	}
	d.week = 0
	if d.Months == 0 && d.Stride.Unit == NoStride && len(d.Except) == 0 {
		switch {
		case len(d.Terms) == 0:
			d.week = AnyDay
		case len(d.Terms) == 1 && d.Terms[0].onlyWeekdays():
			d.week = d.Terms[0].Items[0].Weekdays
		}
	}
}

// may returns the days of the month that a term can have, without looking at
// a month.
func (t *Term) may() uint32 {
	mask := uint32(1<<31 - 1)
	for i := range t.Items {
		if t.Items[i].MonthDays != 0 && t.Shift == 0 && t.Roll == Stay {
			mask &= t.Items[i].MonthDays
		}
	}
	return mask
}

func (t *Term) onlyWeekdays() bool {
	it := t.Items[0]
	return len(t.Items) == 1 && t.Shift == 0 && t.Roll == Stay && !it.Dates && it.MonthDays == 0 && it.Nth == 0
}

// until returns how many days after a day of the week the set's next one is.
func (w Weekdays) until(weekday int) int {
	twice := uint(w) | uint(w)<<7
	return bits.TrailingZeros(twice >> weekday)
}

// span returns the days outside which a term has none.
func (t *Term) span() (lo, hi Day) {
	lo, hi = MinDay, MaxDay
	for i := range t.Items {
		if t.Items[i].Dates {
			lo, hi = max(lo, t.Items[i].From), min(hi, t.Items[i].To)
		}
	}
	if lo == MinDay && hi == MaxDay {
		return lo, hi
	}
	return lo + Day(t.Shift) - 2, hi + Day(t.Shift) + 2
}

// since returns how many days before a day of the week the set's last one was.
func (w Weekdays) since(weekday int) int {
	twice := uint16(w) | uint16(w)<<7
	return bits.LeadingZeros16(twice << (15 - (weekday + 7)))
}

// Has reports whether the set holds a day.
func (d *Days) Has(day Day) bool {
	if day < d.lo || day > d.hi {
		return false
	}
	y, m, dd := day.Date()
	return d.month(y, m)>>(dd-1)&1 == 1
}

// Next returns the first day of the set that is not before from.
func (d *Days) Next(from Day) (Day, bool) {
	from = max(from, d.lo)
	if d.week != 0 {
		from += Day(d.week.until(from.Weekday()))
		return from, from <= d.hi
	}
	if from = d.ahead(from); from > d.hi {
		return 0, false
	}
	y, m, dd := from.Date()
	skip := uint32(1)<<(dd-1) - 1
	for last := y + searchYears; y <= last; {
		if mask := d.month(y, m) &^ skip; mask != 0 {
			day := DayOf(y, m, 1) + Day(bits.TrailingZeros32(mask))
			return day, day <= d.hi
		}
		skip = 0
		if y, m = d.nextMonth(y, m); len(d.Terms) > 1 || d.Stride.Unit == DayUnit || d.Stride.Unit == WeekUnit {
			// Entries or steps that lie years apart are reached in one leap.
			first := DayOf(y, m, 1)
			if leap := d.ahead(first); leap > first {
				if leap > d.hi {
					return 0, false
				}
				y, m, dd = leap.Date()
				last = y + searchYears
				skip = uint32(1)<<(dd-1) - 1
			}
		}
		if y > 9999 {
			break
		}
	}
	return 0, false
}

// nextMonth steps to the next month that Months and the stride allow.
func (d *Days) nextMonth(y, m int) (int, int) {
	for {
		m++
		if m > 12 {
			y, m = y+1, 1
		}
		if m == 1 && d.Stride.Unit == YearUnit {
			from, _, _ := d.Stride.From.Date()
			if r := floorMod(y-from, d.Stride.Every); r != 0 {
				y, m = y+d.Stride.Every-r, 1
			}
		}
		if y > 9999 || d.Months.Has(m) {
			return y, m
		}
		if later := d.Months >> (m - 1); later != 0 {
			m += bits.TrailingZeros16(uint16(later)) - 1
		} else {
			m = 12
		}
	}
}

// Prev returns the last day of the set that is not after from.
func (d *Days) Prev(from Day) (Day, bool) {
	from = min(from, d.hi)
	if d.week != 0 {
		from -= Day(d.week.since(from.Weekday()))
	}
	if from < d.lo {
		return 0, false
	}
	if d.week != 0 {
		return from, true
	}
	y, m, dd := from.Date()
	keep := uint32(1)<<dd - 1
	for first := y - searchYears; y >= max(first, 1); {
		if mask := d.month(y, m) & keep; mask != 0 {
			day := DayOf(y, m, 1) + Day(bits.Len32(mask)-1)
			return day, day >= d.lo
		}
		keep = 1<<31 - 1
		for ok := false; !ok && y >= 1; ok = d.Months.Has(m) {
			if m--; m < 1 {
				y, m = y-1, 12
			}
		}
		if y < 1 || DayOf(y, m, daysIn(y, m)) < d.lo {
			break
		}
	}
	return 0, false
}

// Count returns how many days of the set lie within [from, to].
func (d *Days) Count(from, to Day) int64 {
	from, to = max(from, d.lo), min(to, d.hi)
	if from > to {
		return 0
	}
	y, m, dd := from.Date()
	ly, lm, ld := to.Date()
	skip := uint32(1)<<(dd-1) - 1
	n := 0
	for y < ly || y == ly && m <= lm {
		mask := d.month(y, m) &^ skip
		if y == ly && m == lm {
			mask &= uint32(1)<<ld - 1
		}
		n += bits.OnesCount32(mask)
		skip = 0
		y, m = d.nextMonth(y, m)
	}
	return int64(n)
}

// ahead returns a day not after the first day of the set from day on, as far
// ahead as dates and strides let it be known without looking at months.
func (d *Days) ahead(day Day) Day {
	if len(d.Terms) > 0 {
		first := MaxDay + 1
		for i := range d.Terms {
			if lo, hi := d.Terms[i].span(); hi >= day {
				first = min(first, max(lo, day))
			}
		}
		day = max(day, first)
	}
	s := &d.Stride
	switch s.Unit {
	case DayUnit:
		if r := floorMod(int(day-s.From), s.Every); r != 0 {
			day += Day(s.Every - r)
		}
	case WeekUnit:
		if r := floorMod(day.week()-s.From.week(), s.Every); r != 0 {
			day += Day((s.Every-r)*7 - day.Weekday())
		}
	}
	return day
}

// month returns the set's days in one month as a mask; bit 0 is the first.
func (d *Days) month(y, m int) uint32 {
	if !d.Months.Has(m) {
		return 0
	}
	n := daysIn(y, m)
	all := uint32(1)<<n - 1
	mask := all & d.may
	if mask == 0 {
		return 0 // such as 29 February in most years
	}
	first := DayOf(y, m, 1)
	if d.Stride.Unit != NoStride {
		if mask &= d.Stride.month(y, m, first, n); mask == 0 {
			return 0
		}
	}
	if len(d.Terms) > 0 {
		mask &= union(d.Terms, y, m, first, n)
	}
	if len(d.Except) > 0 && mask != 0 {
		mask &^= union(d.Except, y, m, first, n)
	}
	return mask & all
}

func union(terms []Term, y, m int, first Day, n int) uint32 {
	var mask uint32
	for i := range terms {
		mask |= terms[i].month(y, m, first, n)
	}
	return mask
}

func (s *Stride) month(y, m int, first Day, n int) uint32 {
	fy, fm, _ := s.From.Date()
	var mask uint32
	switch s.Unit {
	case DayUnit:
		for i := floorMod(int(s.From-first), s.Every); i < n; i += s.Every {
			mask |= 1 << i
		}
	case WeekUnit:
		i := -first.Weekday()
		if r := floorMod(first.week()-s.From.week(), s.Every); r != 0 {
			i += (s.Every - r) * 7
		}
		for ; i < n; i += s.Every * 7 {
			mask |= shiftBits(uint32(AnyDay), i)
		}
	case MonthUnit:
		if floorMod((y-fy)*12+m-fm, s.Every) == 0 {
			mask = 1<<31 - 1
		}
	case YearUnit:
		if floorMod(y-fy, s.Every) == 0 {
			mask = 1<<31 - 1
		}
	}
	if s.From > first {
		if s.From >= first+Day(n) {
			return 0
		}
		mask &^= uint32(1)<<(s.From-first) - 1
	}
	return mask & (uint32(1)<<n - 1)
}

// shiftBits moves a mask by i days, later where i is positive.
func shiftBits(mask uint32, i int) uint32 {
	switch {
	case i <= -32 || i >= 32:
		return 0
	case i < 0:
		return mask >> -i
	}
	return mask << i
}

func (t *Term) month(y, m int, first Day, n int) uint32 {
	if t.Shift == 0 && t.Roll == Stay {
		return t.plain(y, m, first, n)
	}
	// Days that are moved may come from other months: look at each month that
	// holds a day which can end up in this one.
	lo, hi := first-Day(t.Shift)-2, first+Day(n-1-t.Shift)+2
	var mask uint32
	for sy, sm, _ := lo.Date(); ; {
		sfirst, sn := DayOf(sy, sm, 1), daysIn(sy, sm)
		if sfirst > hi {
			return mask & (uint32(1)<<n - 1)
		}
		from := t.plain(sy, sm, sfirst, sn)
		base := sfirst + Day(t.Shift)
		if t.Roll == Stay {
			mask |= shiftBits(from, int(base-first))
		} else {
			mask |= t.rolled(from, base, first)
		}
		if sm++; sm > 12 {
			sy, sm = sy+1, 1
		}
	}
}

// rolled moves the days of a mask that begins with base off the weekends and
// returns them as a mask that begins with first.
func (t *Term) rolled(mask uint32, base, first Day) uint32 {
	var out uint32
	for ; mask != 0; mask &= mask - 1 {
		day := base + Day(bits.TrailingZeros32(mask))
		if over := day.Weekday() - 4; over > 0 {
			if t.Roll == NextWeekday {
				day += Day(3 - over)
			} else {
				day -= Day(over)
			}
		}
		out |= shiftBits(1, int(day-first))
	}
	return out
}

// plain is the intersection of the items within one month.
func (t *Term) plain(y, m int, first Day, n int) uint32 {
	mask := uint32(1)<<n - 1
	for i := range t.Items {
		mask &= t.Items[i].month(first, n)
	}
	return mask
}

func (it *Item) month(first Day, n int) uint32 {
	all := uint32(1)<<n - 1
	switch {
	case it.Dates:
		lo, hi := max(it.From, first), min(it.To, first+Day(n-1))
		if lo > hi {
			return 0
		}
		return (uint32(1)<<(hi-first+1) - 1) &^ (uint32(1)<<(lo-first) - 1)
	case it.MonthDays != 0:
		return it.MonthDays & all
	}
	mask := it.Weekdays.month(first) & all
	if it.Nth == 0 {
		return mask
	}
	return nthBit(mask, it.Nth)
}

// month repeats the week over a month that begins with first.
func (w Weekdays) month(first Day) uint32 {
	shift := first.Weekday()
	week := uint64(w)>>shift | uint64(w)<<(7-shift)&0x7f
	return uint32(week * (1 | 1<<7 | 1<<14 | 1<<21 | 1<<28))
}

// nthBit keeps the nth set bit from the low end, or from the high end where n
// is negative.
func nthBit(mask uint32, n int) uint32 {
	if n < 0 {
		n = bits.OnesCount32(mask) + n + 1
	}
	if n < 1 {
		return 0
	}
	for ; n > 1; n-- {
		mask &= mask - 1
	}
	return mask & -mask
}
