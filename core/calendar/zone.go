package calendar

import (
	"math"
	"sort"
	"time"
)

// Zone maps local times to instants and back. It is a table of the zone's
// clock changes, taken once from a [time.Location] and never changed after,
// so that it is safe for concurrent use and a look-up costs a binary search.
type Zone struct {
	loc  *time.Location
	segs []segment
	// alike gives, for a kind of year (leap or not, weekday of 1 January), a
	// year of the table whose clock changes fall on the same days. It serves
	// the years after the table. Zero where the zone's changes have ended.
	alike [14]int
}

// A segment is a span of time with one offset from UTC.
type segment struct {
	start    int64 // first instant, ms
	end      int64 // first instant of the next segment, ms
	offset   int64 // local time minus UTC, ms
	localEnd int64 // end on this segment's own local clock, ms
}

// The table ends with tableEnd. Some zones list irregular changes until 2087;
// after that every zone repeats a yearly rule, of which the years from then to
// tableEnd hold all 14 kinds of year: the seven leap years 2104 to 2128 begin
// on seven different days of the week.
const (
	regularFrom = 2088
	tableEnd    = 2129
)

// UTC is Coordinated Universal Time.
var UTC = NewZone(time.UTC)

// NewZone returns the zone with loc's clock changes.
func NewZone(loc *time.Location) *Zone {
	z := &Zone{loc: loc}
	last := time.Date(tableEnd, 1, 1, 0, 0, 0, 0, time.UTC)
	t := time.Unix(math.MinInt64/2000, 0).In(loc)
	start := int64(math.MinInt64 / 4)
	for {
		_, offset := t.Zone()
		_, end := t.ZoneBounds()
		if !end.IsZero() && !end.After(t) {
			// Bounds made from a yearly rule stop short of a leap year's end.
			end = t.AddDate(0, 0, 1)
		}
		seg := segment{start: start, end: math.MaxInt64 / 4, offset: int64(offset) * msPerSecond}
		ends := end.IsZero() || end.After(last)
		if !ends {
			seg.end = end.Unix() * msPerSecond
		}
		seg.localEnd = seg.end + seg.offset
		if n := len(z.segs); n > 0 && z.segs[n-1].offset == seg.offset {
			// Only the name of the time changed.
			z.segs[n-1].end, z.segs[n-1].localEnd = seg.end, seg.localEnd
		} else {
			z.segs = append(z.segs, seg)
		}
		if ends {
			if !end.IsZero() {
				z.findAlike()
			}
			return z
		}
		t, start = end, seg.end
	}
}

func (z *Zone) findAlike() {
	for y := regularFrom; y < tableEnd; y++ {
		z.alike[yearKind(y)] = y
	}
}

// yearKind numbers the 14 kinds of year.
func yearKind(y int) int {
	k := DayOf(y, 1, 1).Weekday() * 2
	if isLeap(y) {
		k++
	}
	return k
}

// Name returns the zone's name in the time zone database.
func (z *Zone) Name() string { return z.loc.String() }

// Location returns the zone as the time package knows it.
func (z *Zone) Location() *time.Location { return z.loc }

// shift returns how far a time (local or not, ms) must be moved to lie in a
// year of the table with the same clock changes: a whole number of weeks.
func (z *Zone) shift(ms int64) int64 {
	const end = int64(tableEnd-1970)*365*msPerDay + 35*msPerDay // before tableEnd
	if ms < end || z.alike[0] == 0 {
		return 0
	}
	y, _, _ := Day(floorDiv(ms, msPerDay)).Date()
	if y < tableEnd {
		return 0
	}
	return int64(DayOf(z.alike[yearKind(y)], 1, 1)-DayOf(y, 1, 1)) * msPerDay
}

// Offset returns local time minus UTC at an instant.
func (z *Zone) Offset(at Instant) time.Duration {
	return time.Duration(z.offset(int64(at))) * time.Millisecond
}

func (z *Zone) offset(at int64) int64 {
	at += z.shift(at)
	lo, hi := 0, len(z.segs)-1
	for lo < hi {
		mid := int(uint(lo+hi) >> 1)
		if at < z.segs[mid].end {
			hi = mid
		} else {
			lo = mid + 1
		}
	}
	return z.segs[lo].offset
}

// Local returns the civil day and the milliseconds since its midnight on the
// local clock.
func (z *Zone) Local(at Instant) (Day, int64) {
	local := int64(at) + z.offset(int64(at))
	day := floorDiv(local, msPerDay)
	return Day(day), local - day*msPerDay
}

// Change says what a clock change made of a local time.
type Change int

// What can become of a local time.
const (
	Unchanged Change = iota // it comes once
	Moved                   // it is left out; the first instant after the gap stands for it
	Doubled                 // it comes twice; the first stands for it
	Dropped                 // its whole day is left out
)

// Resolve returns the instant of a local time, given as a day and the
// milliseconds since its midnight (which may reach into the next days).
func (z *Zone) Resolve(day Day, ms int64) (Instant, Change) {
	local := int64(day)*msPerDay + ms
	shift := z.shift(local)
	local += shift
	s := z.at(local)
	if before := z.localStart(s); local < before {
		return Instant(z.segs[s].start - shift), Moved
	}
	at := local - z.segs[s].offset
	change := Unchanged
	if s+1 < len(z.segs) && local >= z.localStart(s+1) {
		change = Doubled
	}
	return Instant(at - shift), change
}

// at returns the first segment that ends after a local time.
func (z *Zone) at(local int64) int {
	lo, hi := 0, len(z.segs)-1
	for lo < hi {
		mid := int(uint(lo+hi) >> 1)
		if local < z.segs[mid].localEnd {
			hi = mid
		} else {
			lo = mid + 1
		}
	}
	return lo
}

func (z *Zone) localStart(s int) int64 { return z.segs[s].start + z.segs[s].offset }

// Start returns the first instant of a day, and whether the zone has that day
// at all.
func (z *Zone) Start(day Day) (Instant, bool) {
	first, change := z.Resolve(day, 0)
	if change != Moved {
		return first, true
	}
	next, _ := z.Resolve(day+1, 0)
	return first, next > first
}

// steady reports whether no clock change touches the local times from lo to hi
// (ms since 1970-01-01T00:00 local), and by how much they then lead UTC.
func (z *Zone) steady(lo, hi int64) (offset int64, ok bool) {
	shift := z.shift(hi)
	if shift != z.shift(lo) {
		return 0, false
	}
	lo, hi = lo+shift, hi+shift
	s := z.at(lo)
	return z.segs[s].offset, lo >= z.localStart(s) && hi < z.segs[s].localEnd &&
		(s+1 == len(z.segs) || hi < z.localStart(s+1))
}

// Changes returns the instants within [from, to] at which the zone's offset
// changes, in order.
func (z *Zone) Changes(from, to Instant) []Instant {
	var out []Instant
	for at := from - 1; ; {
		next, ok := z.nextChange(at)
		if !ok || next > to {
			return out
		}
		out = append(out, next)
		at = next
	}
}

// nextChange returns the first clock change after an instant.
func (z *Zone) nextChange(after Instant) (Instant, bool) {
	shift := z.shift(int64(after))
	at := int64(after) + shift
	s := sort.Search(len(z.segs), func(i int) bool { return at < z.segs[i].end })
	if s+1 < len(z.segs) {
		next := Instant(z.segs[s].end - shift)
		if shift == 0 || yearOf(next) == yearOf(after) {
			return next, true
		}
	}
	if z.alike[0] == 0 {
		return 0, false
	}
	// No further change in this year: go on with the next.
	return z.nextChange(Instant(DayOf(max(yearOf(after)+1, tableEnd), 1, 1)) * msPerDay)
}

func yearOf(at Instant) int {
	y, _, _ := Day(floorDiv(int64(at), msPerDay)).Date()
	return y
}
