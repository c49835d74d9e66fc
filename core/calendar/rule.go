package calendar

import "errors"

// A Window bounds an interval within a day. Both ends are local times in
// milliseconds since midnight and both are included; a To that is not after
// From is the next day's.
type Window struct{ From, To int64 }

// end returns To, counted from the midnight before From.
func (w Window) end() int64 {
	if w.To <= w.From {
		return w.To + msPerDay
	}
	return w.To
}

// Spec describes a [Rule]. One of Times and Every must be set.
type Spec struct {
	Zone  *Zone
	Days  Days
	Times []int64 // local times of the day, ms since midnight, ascending

	// Every is an interval in ms. With Window it counts from the window's
	// beginning, otherwise from midnight or, where HasSince, from Since.
	// Up to an hour it is elapsed time, longer it names local times; from
	// Since it is always elapsed time.
	Every    int64
	Window   *Window
	HasSince bool
	Since    Instant

	Starting Instant // nothing before; 0 for no bound
	Ending   Instant // nothing after; 0 for no bound
	Limit    int64   // at most so many dues from the beginning; 0 for no limit
}

// A Rule yields dues: strictly ascending instants. It is immutable and safe
// for concurrent use.
type Rule struct {
	zone   *Zone
	days   Days
	times  []int64
	every  int64
	lo, hi int64 // local span within which a day's dues lie, ms since its midnight
	kind   ruleKind
	since  Instant
	first  Instant // bounds, both included
	last   Instant
}

type ruleKind int

const (
	clockTimes   ruleKind = iota // Times
	clockSteps                   // Every over an hour: local times
	elapsedSteps                 // Every up to an hour: elapsed within the day or window
	elapsedSince                 // Every since an instant
)

// ErrNever is returned for a rule that has no due within 400 years.
var ErrNever = errors.New("it can never come")

// NewRule prepares a rule. Its error is [ErrNever] where no due exists.
func NewRule(s Spec) (*Rule, error) {
	r := &Rule{zone: s.Zone, days: s.Days, times: s.Times, every: s.Every, since: s.Since, first: MinInstant, last: MaxInstant}
	r.days.prepare()
	if s.Starting != 0 {
		r.first = s.Starting
	}
	if s.Ending != 0 {
		r.last = s.Ending
	}
	switch {
	case s.HasSince:
		r.kind, r.first = elapsedSince, max(r.first, s.Since)
	case s.Every > 0:
		r.lo, r.hi = 0, msPerDay
		if s.Window != nil {
			r.lo, r.hi = s.Window.From, s.Window.end()
		}
		if r.kind = elapsedSteps; s.Every > msPerHour {
			r.kind = clockSteps
			n := (r.hi - r.lo) / s.Every
			if s.Window == nil {
				n--
			}
			for k := range n + 1 {
				r.times = append(r.times, r.lo+k*s.Every)
			}
		} else if s.Window == nil {
			r.hi-- // the next midnight is the next day's
		}
	default:
		r.lo, r.hi = s.Times[0], s.Times[len(s.Times)-1]
	}
	beginning, ok := r.Next(r.searchStart() - 1)
	if !ok {
		return nil, ErrNever
	}
	if s.Limit > 0 {
		r.limit(beginning, s.Limit)
	}
	return r, nil
}

// searchStart is where the judgement whether a rule ever comes begins.
func (r *Rule) searchStart() Instant {
	lo := max(r.first, Instant(r.days.lo-1)*msPerDay)
	if lo <= Instant(MinDay)*msPerDay {
		return Instant(DayOf(1900, 1, 1)) * msPerDay
	}
	return lo
}

// limit moves the last bound to the nth due from the beginning.
func (r *Rule) limit(beginning Instant, n int64) {
	lo, hi := beginning, beginning
	for step := Instant(msPerDay); hi < r.last && r.Count(beginning, hi) < n; step *= 2 {
		lo, hi = hi, min(hi+step, r.last)
	}
	for lo < hi {
		mid := lo + (hi-lo)/2
		if r.Count(beginning, mid) >= n {
			hi = mid
		} else {
			lo = mid + 1
		}
	}
	r.last = lo
}

// Zone returns the zone in which the rule is read.
func (r *Rule) Zone() *Zone { return r.zone }

// Next returns the first due after an instant.
func (r *Rule) Next(after Instant) (Instant, bool) {
	if after < r.first {
		after = r.first - 1
	}
	if after >= r.last {
		return 0, false
	}
	if r.kind == elapsedSince {
		return r.nextSince(after)
	}
	from, _ := r.zone.Local(after)
	if r.hi >= msPerDay {
		from-- // a window of the day before may still be open
	}
	for day, ok := r.days.Next(from); ok; day, ok = r.days.Next(day + 1) {
		if due, ok := r.nextOn(day, after); ok {
			return due, due <= r.last
		}
		if start, _ := r.zone.Start(day); start > r.last {
			break
		}
	}
	return 0, false
}

// Prev returns the last due before an instant.
func (r *Rule) Prev(before Instant) (Instant, bool) {
	if before > r.last {
		before = r.last + 1
	}
	if before <= r.first {
		return 0, false
	}
	if r.kind == elapsedSince {
		return r.prevSince(before)
	}
	from, _ := r.zone.Local(before)
	for day, ok := r.days.Prev(from + 1); ok; day, ok = r.days.Prev(day - 1) {
		if due, ok := r.prevOn(day, before); ok {
			return due, due >= r.first
		}
	}
	return 0, false
}

// nextOn returns the first due of one day after an instant.
func (r *Rule) nextOn(day Day, after Instant) (Instant, bool) {
	base := int64(day) * msPerDay
	if offset, ok := r.zone.steady(base+r.lo, base+r.hi); ok {
		// The usual day: local times lead UTC by one offset throughout.
		midnight := Instant(base - offset)
		if r.kind == elapsedSteps {
			return step(midnight+Instant(r.lo), midnight+Instant(r.hi), after, r.every)
		}
		for _, t := range r.times {
			if due := midnight + Instant(t); due > after {
				return due, true
			}
		}
		return 0, false
	}
	if _, exists := r.zone.Start(day); !exists {
		return 0, false
	}
	if r.kind == elapsedSteps {
		begin, end := r.window(day)
		return step(begin, end, after, r.every)
	}
	for _, t := range r.times {
		if due, _ := r.zone.Resolve(day, t); due > after {
			return due, true
		}
	}
	return 0, false
}

// prevOn returns the last due of one day before an instant.
func (r *Rule) prevOn(day Day, before Instant) (Instant, bool) {
	base := int64(day) * msPerDay
	if offset, ok := r.zone.steady(base+r.lo, base+r.hi); ok && r.kind != elapsedSteps {
		midnight := Instant(base - offset)
		for i := len(r.times) - 1; i >= 0; i-- {
			if due := midnight + Instant(r.times[i]); due < before {
				return due, true
			}
		}
		return 0, false
	}
	if _, exists := r.zone.Start(day); !exists {
		return 0, false
	}
	if r.kind == elapsedSteps {
		begin, end := r.window(day)
		if before > end {
			before = end + 1
		}
		if before <= begin {
			return 0, false
		}
		return begin + (before-1-begin)/Instant(r.every)*Instant(r.every), true
	}
	for i := len(r.times) - 1; i >= 0; i-- {
		if due, _ := r.zone.Resolve(day, r.times[i]); due < before {
			return due, true
		}
	}
	return 0, false
}

// window returns the first and the last instant of a day's span of steps.
func (r *Rule) window(day Day) (begin, end Instant) {
	begin, _ = r.zone.Resolve(day, r.lo)
	if r.hi == msPerDay-1 && r.lo == 0 {
		end, _ = r.zone.Resolve(day, msPerDay)
		return begin, end - 1
	}
	end, _ = r.zone.Resolve(day, r.hi)
	return begin, end
}

// step returns the first of begin, begin+every, … up to end after an instant.
func step(begin, end, after Instant, every int64) (Instant, bool) {
	if after < begin {
		return begin, begin <= end
	}
	due := begin + ((after-begin)/Instant(every)+1)*Instant(every)
	return due, due <= end
}

func (r *Rule) nextSince(after Instant) (Instant, bool) {
	for {
		due, ok := step(r.since, r.last, after, r.every)
		if !ok {
			return 0, false
		}
		day, _ := r.zone.Local(due)
		if r.days.Has(day) {
			return due, true
		}
		// Leap to the first day that is not taken out.
		next, ok := r.days.Next(day + 1)
		if !ok {
			return 0, false
		}
		start, _ := r.zone.Start(next)
		after = max(due, start-1)
	}
}

func (r *Rule) prevSince(before Instant) (Instant, bool) {
	for before > r.first {
		due := r.since + (before-1-r.since)/Instant(r.every)*Instant(r.every)
		if due < r.first {
			break
		}
		day, _ := r.zone.Local(due)
		if r.days.Has(day) {
			return due, true
		}
		prev, ok := r.days.Prev(day - 1)
		if !ok {
			break
		}
		end, _ := r.zone.Start(prev + 1)
		before = min(due, end)
	}
	return 0, false
}
