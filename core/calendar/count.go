package calendar

// irregular is how many days before and after a clock change are counted due
// by due. Two would do: a window may reach into the next day.
const irregular = 3

// Count returns how many dues lie within [from, to], without listing them:
// days whose dues follow one unchanged clock are multiplied, only those at
// both ends and near a clock change are looked at one by one.
func (r *Rule) Count(from, to Instant) int64 {
	from, to = max(from, r.first), min(to, r.last)
	if from > to {
		return 0
	}
	if r.kind == elapsedSince {
		return r.countSince(from, to)
	}
	lo, _ := r.zone.Local(from)
	hi, _ := r.zone.Local(to)
	lo, hi = lo-2, hi+2 // overnight windows, clock changes at midnight
	perDay := int64(len(r.times))
	if r.kind == elapsedSteps {
		perDay = (r.hi-r.lo)/r.every + 1
	}
	var n int64
	exactFrom, exactTo := lo, lo+irregular+2
	for _, change := range append(r.zone.Changes(from, to), to) {
		day, _ := r.zone.Local(change)
		if day-irregular > exactTo {
			n += r.countDays(exactFrom, exactTo, from, to)
			n += perDay * r.days.Count(exactTo+1, day-irregular-1)
			exactFrom = day - irregular
		}
		exactTo = day + irregular
	}
	return n + r.countDays(exactFrom, max(exactTo, hi), from, to)
}

// countDays counts the dues within [from, to] that belong to the days from
// first to last, one day after the other.
func (r *Rule) countDays(first, last Day, from, to Instant) int64 {
	var n int64
	if day, ok := r.days.Prev(first - 1); ok && day >= first-irregular {
		from = r.after(day, from)
	}
	for day, ok := r.days.Next(first); ok && day <= last; day, ok = r.days.Next(day + 1) {
		n += r.countOn(day, from, to)
		from = r.after(day, from)
	}
	return n
}

// after returns the first instant from which a due does not meet one of the
// given day.
func (r *Rule) after(day Day, from Instant) Instant {
	if last, ok := r.prevOn(day, MaxInstant); ok {
		return max(from, last+1)
	}
	return from
}

// countOn counts the dues of one day within [from, to].
func (r *Rule) countOn(day Day, from, to Instant) int64 {
	if _, exists := r.zone.Start(day); !exists {
		return 0
	}
	if r.kind == elapsedSteps {
		begin, end := r.window(day)
		return countSteps(begin, min(end, to), from, r.every)
	}
	var n int64
	for _, t := range r.times {
		if due, _ := r.zone.Resolve(day, t); due >= from && due <= to {
			n++
			from = due + 1
		}
	}
	return n
}

// countSteps counts begin, begin+every, … up to end that are not before from.
func countSteps(begin, end, from Instant, every int64) int64 {
	if end < begin || end < from {
		return 0
	}
	n := int64(end-begin)/every + 1
	if from > begin {
		n -= int64(from-begin-1)/every + 1
	}
	return n
}

func (r *Rule) countSince(from, to Instant) int64 {
	n := countSteps(r.since, to, from, r.every)
	if len(r.days.Except) == 0 || n == 0 {
		return n
	}
	// Take out the days in Except, each as a whole.
	out := Days{Terms: r.days.Except}
	out.prepare()
	lo, _ := r.zone.Local(from)
	hi, _ := r.zone.Local(to)
	for day, ok := out.Next(lo); ok && day <= hi; day, ok = out.Next(day + 1) {
		begin, _ := r.zone.Start(day)
		end, _ := r.zone.Start(day + 1)
		n -= countSteps(r.since, min(end-1, to), max(begin, from), r.every)
	}
	return n
}
