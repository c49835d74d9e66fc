package calendar

import (
	"fmt"
	"time"
)

// Day is a civil day: days since 1970-01-01 in the proleptic Gregorian
// calendar, without a zone.
type Day int32

// The days that a date in a phrase can name: 0001-01-01 to 9999-12-31.
const (
	MinDay Day = -719162
	MaxDay Day = 2932896
)

const (
	msPerSecond = 1000
	msPerHour   = 3600 * msPerSecond
	msPerDay    = 24 * msPerHour
)

// DayOf returns the day of a civil date. month is 1 to 12; day may lie
// outside the month and is then carried over.
func DayOf(year, month, day int) Day {
	// Years are counted from March, so that the leap day comes last.
	y := year
	if month <= 2 {
		y--
	}
	era := floorDiv(y, 400)
	yoe := y - era*400
	mp := (month + 9) % 12
	doy := (153*mp+2)/5 + day - 1
	doe := yoe*365 + yoe/4 - yoe/100 + doy
	return Day(era*146097 + doe - 719468)
}

// Date returns the year, the month (1 to 12) and the day of the month.
func (d Day) Date() (year, month, day int) {
	z := int(d) + 719468
	era := floorDiv(z, 146097)
	doe := z - era*146097
	yoe := (doe - doe/1460 + doe/36524 - doe/146096) / 365
	doy := doe - (365*yoe + yoe/4 - yoe/100)
	mp := (5*doy + 2) / 153
	day = doy - (153*mp+2)/5 + 1
	month = mp + 3
	if month > 12 {
		month -= 12
	}
	year = yoe + era*400
	if month <= 2 {
		year++
	}
	return year, month, day
}

// Weekday returns the day of the week counted from Monday = 0, as in ISO 8601.
func (d Day) Weekday() int { return floorMod(int(d)+3, 7) }

// week returns the number of the day's ISO week, counted from the one that
// holds 1970-01-01.
func (d Day) week() int { return floorDiv(int(d)+3, 7) }

// String returns the date as YYYY-MM-DD.
func (d Day) String() string {
	y, m, dd := d.Date()
	return fmt.Sprintf("%04d-%02d-%02d", y, m, dd)
}

// ParseDay reads a date written as YYYY-MM-DD.
func ParseDay(s string) (Day, error) {
	t, err := time.Parse(time.DateOnly, s)
	if err != nil || t.Year() < 1 {
		return 0, fmt.Errorf("%q is not a date written as YYYY-MM-DD", s)
	}
	return DayOf(t.Year(), int(t.Month()), t.Day()), nil
}

// daysIn returns the length of a month.
func daysIn(year, month int) int {
	switch month {
	case 2:
		if isLeap(year) {
			return 29
		}
		return 28
	case 4, 6, 9, 11:
		return 30
	}
	return 31
}

func isLeap(year int) bool { return year%4 == 0 && (year%100 != 0 || year%400 == 0) }

// Instant is a point in time: milliseconds since 1970-01-01T00:00:00Z.
type Instant int64

// The instants of the days that a phrase can name, with room for every zone.
const (
	MinInstant = Instant(MinDay-2) * msPerDay
	MaxInstant = Instant(MaxDay+2) * msPerDay
)

// InstantOf returns the millisecond in which t lies.
func InstantOf(t time.Time) Instant {
	return Instant(t.Unix()*msPerSecond + int64(t.Nanosecond()/1e6))
}

// Time returns the instant as a time in UTC.
func (i Instant) Time() time.Time { return time.UnixMilli(int64(i)).UTC() }

// Add returns the instant d later; a part of a millisecond is dropped.
func (i Instant) Add(d time.Duration) Instant { return i + Instant(d/time.Millisecond) }

// Sub returns the elapsed time from o to i.
func (i Instant) Sub(o Instant) time.Duration { return time.Duration(i-o) * time.Millisecond }

func floorDiv[T int | int64](a, b T) T {
	q := a / b
	if a%b != 0 && (a < 0) != (b < 0) {
		q--
	}
	return q
}

func floorMod[T int | int64](a, b T) T { return a - floorDiv(a, b)*b }

// Noon returns noon of the day in UTC, for formatting the date.
func (d Day) Noon() time.Time { return time.Unix(int64(d)*86400+43200, 0).UTC() }
