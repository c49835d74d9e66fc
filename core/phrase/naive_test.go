package phrase

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"timegate/core/calendar"
	"timegate/core/coretest"
)

// This is a second implementation of what clock and interval phrases mean. It
// walks the calendar minute by minute with the time package alone and shares
// no code with the first: a phrase is described by a naive value, which is
// both written as text, for the real parser, and walked.

// naive is a phrase whose meaning can be looked up day by day.
type naive struct {
	times    []int // minutes of the day
	every    int   // minutes
	from, to int   // window; from < 0 for none
	on       []naiveDay
	months   []time.Month
	stride   int
	unit     string
	anchor   civil
	except   []naiveDay
	starting civil // zero for none
	ending   civil
	repeat   [2]int // every, for, in minutes
}

// civil is a date without a zone.
type civil struct{ y, m, d int }

func (c civil) time() time.Time { return time.Date(c.y, time.Month(c.m), c.d, 12, 0, 0, 0, time.UTC) }
func (c civil) String() string  { return c.time().Format(time.DateOnly) }
func civilOf(t time.Time) civil { return civil{t.Year(), int(t.Month()), t.Day()} }
func (c civil) add(n int) civil { return civilOf(c.time().AddDate(0, 0, n)) }

// naiveDay is an entry of a list of days: its text and its meaning.
type naiveDay struct {
	text string
	has  func(civil) bool
}

func shifted(d naiveDay, n int) naiveDay {
	return naiveDay{fmt.Sprintf("%s %+dd", d.text, n), func(c civil) bool { return d.has(c.add(-n)) }}
}

func rolled(d naiveDay, next bool) naiveDay {
	text, back := " or previous weekday", -1
	if next {
		text, back = " or next weekday", 1
	}
	return naiveDay{d.text + text, func(c civil) bool {
		for i := 0; i <= 2; i++ {
			// The day from which a weekend was left for c.
			from := c.add(-back * i)
			to := from
			for w := to.time().Weekday(); w == time.Saturday || w == time.Sunday; w = to.time().Weekday() {
				to = to.add(back)
			}
			if to == c && d.has(from) {
				return true
			}
		}
		return false
	}}
}

// nth is the nth day of its month that a condition holds for, from the end
// where n is negative.
func nth(text string, n int, is func(time.Weekday) bool) naiveDay {
	return naiveDay{text, func(c civil) bool {
		var days []int
		for d := 1; d <= 31; d++ {
			t := time.Date(c.y, time.Month(c.m), d, 12, 0, 0, 0, time.UTC)
			if int(t.Month()) == c.m && is(t.Weekday()) {
				days = append(days, d)
			}
		}
		i := n - 1
		if n < 0 {
			i = len(days) + n
		}
		return i >= 0 && i < len(days) && days[i] == c.d
	}}
}

func weekdayIn(days ...time.Weekday) func(civil) bool {
	return func(c civil) bool { return slices.Contains(days, c.time().Weekday()) }
}

func anyOf(days []naiveDay, c civil) bool {
	return slices.ContainsFunc(days, func(d naiveDay) bool { return d.has(c) })
}

// has reports whether the phrase names a day.
func (n *naive) has(c civil) bool {
	if len(n.on) > 0 && !anyOf(n.on, c) || len(n.months) > 0 && !slices.Contains(n.months, time.Month(c.m)) || anyOf(n.except, c) {
		return false
	}
	if n.stride == 0 {
		return true
	}
	if c.time().Before(n.anchor.time()) {
		return false
	}
	days := int(c.time().Sub(n.anchor.time()).Hours() / 24)
	switch n.unit {
	case "day":
		return days%n.stride == 0
	case "week":
		monday := func(c civil) civil { return c.add(-(int(c.time().Weekday()) + 6) % 7) }
		weeks := int(monday(c).time().Sub(monday(n.anchor).time()).Hours() / 24 / 7)
		return weeks%n.stride == 0
	case "month":
		return ((c.y-n.anchor.y)*12+c.m-n.anchor.m)%n.stride == 0
	}
	return (c.y-n.anchor.y)%n.stride == 0
}

func hhmm(m int) string { return fmt.Sprintf("%02d:%02d", m/60, m%60) }

func joinDays(days []naiveDay) string {
	var out []string
	for _, d := range days {
		out = append(out, d.text)
	}
	return strings.Join(out, ", ")
}

// String writes the phrase.
func (n *naive) String() string {
	var b strings.Builder
	if n.every > 0 {
		fmt.Fprintf(&b, "every %dm", n.every)
		if n.from >= 0 {
			fmt.Fprintf(&b, " from %s to %s", hhmm(n.from), hhmm(n.to))
		}
	} else {
		var times []string
		for _, m := range n.times {
			times = append(times, hhmm(m))
		}
		b.WriteString("at " + strings.Join(times, ", "))
	}
	if len(n.on) > 0 {
		b.WriteString(" on " + joinDays(n.on))
	}
	if len(n.months) > 0 {
		var names []string
		for _, m := range n.months {
			names = append(names, strings.ToLower(m.String()[:3]))
		}
		b.WriteString(" in " + strings.Join(names, ", "))
	}
	if n.stride > 0 {
		fmt.Fprintf(&b, " every %d %ss from %s", n.stride, n.unit, n.anchor)
	}
	if n.repeat[0] > 0 {
		fmt.Fprintf(&b, ", then every %dm for %dm", n.repeat[0], n.repeat[1])
	}
	if n.starting != (civil{}) {
		fmt.Fprintf(&b, ", starting %s", n.starting)
	}
	if n.ending != (civil{}) {
		fmt.Fprintf(&b, ", ending %s", n.ending)
	}
	if len(n.except) > 0 {
		b.WriteString(", except " + joinDays(n.except))
	}
	return b.String()
}

// span is a stretch of real minutes with their local times, walked once.
type walked struct {
	start time.Time
	local []int64 // local minute number of each real minute
	first map[int64]int
}

func minuteNumber(t time.Time) int64 {
	y, m, d := t.Date()
	return time.Date(y, m, d, t.Hour(), t.Minute(), 0, 0, time.UTC).Unix() / 60
}

func walk(loc *time.Location, from, to time.Time) *walked {
	w := &walked{start: from, first: map[int64]int{}}
	for i, t := 0, from; t.Before(to); i, t = i+1, t.Add(time.Minute) {
		l := minuteNumber(t.In(loc))
		w.local = append(w.local, l)
		if _, seen := w.first[l]; !seen {
			w.first[l] = i
		}
	}
	return w
}

// at returns the real minute of a local one: its first, or the first minute
// after the gap that swallows it; -1 outside the walk.
func (w *walked) at(local int64) int {
	if i, ok := w.first[local]; ok {
		return i
	}
	return slices.IndexFunc(w.local, func(l int64) bool { return l > local })
}

// dues lists the real minutes at which the phrase is due, by walking.
func (n *naive) dues(w *walked) []time.Time {
	seen := map[int]bool{}
	moments := []int{}
	note := func(i int) {
		if i >= 0 && !seen[i] {
			seen[i] = true
			moments = append(moments, i)
		}
	}
	day0 := w.local[0]/1440 + 1
	last := w.local[len(w.local)-1]/1440 - 1
	for day := day0; day <= last; day++ {
		c := civilOf(time.Unix(day*86400+43200, 0).UTC())
		if !n.has(c) || !w.hasDay(day) {
			continue
		}
		for _, i := range n.onDay(w, day*1440) {
			note(i)
		}
	}
	slices.Sort(moments)
	return n.bounded(w, moments)
}

func (w *walked) hasDay(day int64) bool {
	for m := day * 1440; m < day*1440+1440; m++ {
		if _, ok := w.first[m]; ok {
			return true
		}
	}
	return false
}

// onDay lists the minutes of one day, which begins at a local minute.
func (n *naive) onDay(w *walked, midnight int64) []int {
	var out []int
	switch {
	case n.every == 0:
		for _, m := range n.times {
			out = append(out, w.at(midnight+int64(m)))
		}
	case n.every <= 60:
		begin, end := w.at(midnight), w.at(midnight+1440)-1
		if n.from >= 0 {
			begin, end = w.at(midnight+int64(n.from)), w.at(midnight+int64(n.windowEnd()))
		}
		for i := begin; i >= 0 && i <= end; i += n.every {
			out = append(out, i)
		}
	case n.from >= 0:
		for m := n.from; m <= n.windowEnd(); m += n.every {
			out = append(out, w.at(midnight+int64(m)))
		}
	default:
		for m := 0; m < 1440; m += n.every {
			out = append(out, w.at(midnight+int64(m)))
		}
	}
	return out
}

func (n *naive) windowEnd() int {
	if n.to <= n.from {
		return n.to + 1440
	}
	return n.to
}

// bounded applies starting, ending and the repeats.
func (n *naive) bounded(w *walked, moments []int) []time.Time {
	first, last := 0, len(w.local)
	if n.starting != (civil{}) {
		first = w.at(n.starting.time().Unix() / 86400 * 1440)
	}
	if n.ending != (civil{}) {
		last = w.at((n.ending.time().Unix()/86400 + 1) * 1440)
	}
	if first < 0 {
		first = len(w.local)
	}
	if last < 0 {
		last = len(w.local)
	}
	moments = slices.DeleteFunc(moments, func(i int) bool { return i < first || i >= last })
	var out []time.Time
	for k, i := range moments {
		next := last
		if k+1 < len(moments) {
			next = moments[k+1]
		}
		out = append(out, w.start.Add(time.Duration(i)*time.Minute))
		if n.repeat[0] == 0 {
			continue
		}
		for j := i + n.repeat[0]; j <= i+n.repeat[1] && j < next && j < last; j += n.repeat[0] {
			out = append(out, w.start.Add(time.Duration(j)*time.Minute))
		}
	}
	return out
}

// changes are days with a clock change, or the like, in a dozen zones.
var changes = []struct{ zone, date string }{
	{"Europe/London", "2026-03-29"}, {"Europe/London", "2026-10-25"}, {"Europe/Dublin", "2026-03-29"},
	{"America/New_York", "2027-03-14"}, {"America/New_York", "2027-11-07"}, {"America/St_Johns", "2010-11-07"},
	{"America/Sao_Paulo", "2018-11-04"}, {"Australia/Lord_Howe", "2026-10-04"}, {"Australia/Lord_Howe", "2027-04-04"},
	{"Pacific/Apia", "2011-12-30"}, {"Africa/Casablanca", "2026-02-15"}, {"Asia/Beirut", "2026-03-29"},
	{"Africa/Cairo", "2026-04-24"}, {"America/Havana", "2026-11-01"}, {"Asia/Kolkata", "2026-12-31"},
	{"Antarctica/Troll", "2026-03-29"}, {"Europe/London", "2030-12-31"}, {"America/New_York", "2150-03-08"},
}

// compareNaive compares both implementations on one phrase.
func compareNaive(t *testing.T, n *naive, loc *time.Location, zone *calendar.Zone, w *walked) {
	t.Helper()
	text := n.String()
	p, err := Parse(text)
	if err != nil {
		t.Fatalf("Parse(%q): %v", text, err)
	}
	want := n.dues(w)
	plan, err := p.Compile(Env{Zone: zone})
	if err != nil {
		if len(want) > 0 {
			t.Errorf("%s in %s: %v, but walking finds %s", text, loc, err, want[0].In(loc))
		}
		return
	}
	// Away from the ends of the walk, where neighbours are cut off.
	from, to := calendar.InstantOf(w.start.Add(72*time.Hour)), calendar.InstantOf(w.start.Add(time.Duration(len(w.local))*time.Minute-72*time.Hour))
	want = slices.DeleteFunc(want, func(at time.Time) bool { return calendar.InstantOf(at) < from || calendar.InstantOf(at) > to })
	var got []time.Time
	for at, _, ok := plan.Next(from - 1); ok && at <= to; at, _, ok = plan.Next(at) {
		got = append(got, at.Time())
	}
	if !slices.EqualFunc(got, want, time.Time.Equal) {
		t.Errorf("%s in %s:\n got %s\nwant %s", text, loc, inZone(got, loc), inZone(want, loc))
		return
	}
	if n := plan.Count(from, to); n != int64(len(got)) {
		t.Errorf("%s in %s: Count = %d, want %d", text, loc, n, len(got))
	}
	var back []time.Time
	for at, _, ok := plan.Prev(to + 1); ok && at >= from; at, _, ok = plan.Prev(at) {
		back = append(back, at.Time())
	}
	slices.Reverse(back)
	if !slices.EqualFunc(back, got, time.Time.Equal) {
		t.Errorf("%s in %s: backwards\n got %s\nwant %s", text, loc, inZone(back, loc), inZone(got, loc))
	}
	if again, err := Parse(p.String()); err != nil || again.String() != p.String() {
		t.Errorf("canonical form of %q is %q, which reads as %v, %v", text, p, again, err)
	}
}

func inZone(list []time.Time, loc *time.Location) string {
	var out []string
	for i, t := range list {
		if i == 12 {
			out = append(out, fmt.Sprintf("… %d in all", len(list)))
			break
		}
		out = append(out, t.In(loc).Format("Mon 2006-01-02 15:04 -0700"))
	}
	return strings.Join(out, ", ")
}

func TestAgainstWalking(t *testing.T) {
	perChange := coretest.Size(150, 40, 20)
	for i, ch := range changes {
		t.Run(ch.zone+" "+ch.date, func(t *testing.T) {
			t.Parallel()
			loc, err := time.LoadLocation(ch.zone)
			if err != nil {
				t.Fatal(err)
			}
			mid, _ := time.Parse(time.DateOnly, ch.date)
			zone, w := calendar.NewZone(loc), walk(loc, mid.AddDate(0, 0, -7), mid.AddDate(0, 0, 8))
			r := rand.New(rand.NewPCG(uint64(i), 20261123))
			for range perChange {
				compareNaive(t, randomNaive(r, civilOf(mid)), loc, zone, w)
			}
		})
	}
}

func FuzzAgainstWalking(f *testing.F) {
	f.Add(uint64(1), uint8(0))
	f.Add(uint64(7), uint8(9))
	f.Fuzz(func(t *testing.T, seed uint64, which uint8) {
		ch := changes[int(which)%len(changes)]
		loc, err := time.LoadLocation(ch.zone)
		if err != nil {
			t.Fatal(err)
		}
		mid, _ := time.Parse(time.DateOnly, ch.date)
		r := rand.New(rand.NewPCG(seed, uint64(which)))
		compareNaive(t, randomNaive(r, civilOf(mid)), loc, calendar.NewZone(loc), walk(loc, mid.AddDate(0, 0, -7), mid.AddDate(0, 0, 8)))
	})
}
