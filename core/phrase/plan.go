package phrase

import (
	"cmp"
	"errors"
	"fmt"
	"time"

	"timegate/core/calendar"
)

// Env is what a phrase needs from outside to be computed.
type Env struct {
	// Zone is the workstation's time zone. It is required.
	Zone *calendar.Zone
	// FindZone looks a zone up by its name; its error is shown as it is.
	FindZone func(name string) (*calendar.Zone, error)
	// DaysIn reads a file of days; its error is shown as it is.
	DaysIn func(path string) ([]calendar.Item, error)
	// Host is the workstation's name. Where starts are spread over several
	// machines, each machine's share follows from it.
	Host string
	// Account is whose logon, logoff, lock and unlock are meant where a phrase
	// names nobody; "" is anybody's.
	Account string
}

// Plan is a phrase made ready to compute dues. A due is a moment, which the
// phrase names, or one of the repeats that follow it. Plan is immutable and
// safe for concurrent use.
type Plan struct {
	Phrase *Phrase
	// Rule yields the moments; it is nil where they depend on events or on
	// the success of runs.
	Rule *calendar.Rule
	Zone *calendar.Zone
	// Account is whose logon, logoff, lock or unlock is meant; "" is anybody's.
	Account string

	first calendar.Instant // bounds of moments and of repeats, both included
	last  calendar.Instant
	days  *calendar.Days // on which an event counts
	// spread is how long after what the phrase says every moment comes.
	spread calendar.Instant
}

// Spread returns the plan with every moment later by a span.
func (pl *Plan) Spread(by time.Duration) *Plan {
	later := *pl
	later.spread = calendar.Instant(by.Milliseconds())
	return &later
}

// SpreadOffset is how much later every moment comes than the phrase says.
func (pl *Plan) SpreadOffset() time.Duration { return time.Duration(pl.spread) * time.Millisecond }

// Compile resolves zones and files of days. Its error is an [*Error].
func (q *Phrase) Compile(env Env) (*Plan, error) {
	// Where its words stand is for errors; a plan, of which there may be many,
	// needs it no more.
	kept := *q
	kept.marks = nil
	plan := &Plan{Phrase: &kept, Zone: env.Zone, first: calendar.MinInstant, last: calendar.MaxInstant}
	switch q.Zone {
	case "":
	case "UTC":
		plan.Zone = calendar.UTC
	default:
		zone, err := env.FindZone(q.Zone)
		if err != nil {
			return nil, q.errorAt("zone", err)
		}
		plan.Zone = zone
	}
	except := terms(q.Except)
	if q.ExceptFile != "" {
		items, err := env.DaysIn(q.ExceptFile)
		if err != nil {
			return nil, q.errorAt("except", err)
		}
		for _, it := range items {
			except = append(except, calendar.Term{Items: []calendar.Item{it}})
		}
	}
	if q.Starting != nil {
		plan.first = q.Starting.begin(plan.Zone)
	}
	if q.Ending != nil {
		plan.last = q.Ending.end(plan.Zone)
	}
	if q.Kind == AfterSuccess {
		return plan, nil
	}
	spec := calendar.Spec{
		Zone:  plan.Zone,
		Days:  calendar.Days{Terms: terms(q.On), Months: q.In, Stride: q.Stride, Except: except},
		Limit: q.Limit,
	}
	if q.Kind == Event {
		if q.Event.ofPeople() {
			plan.Account = cmp.Or(q.Event.Account, env.Account)
		}
		plan.days = calendar.NewDays(spec.Days)
		spec.Times, spec.Limit = []int64{0}, 0
		if _, err := calendar.NewRule(spec); err != nil {
			return nil, q.never(spec)
		}
		return plan, nil
	}
	q.fill(&spec, plan)
	rule, err := calendar.NewRule(spec)
	if errors.Is(err, calendar.ErrNever) {
		return nil, q.never(spec)
	}
	if err != nil {
		return nil, err
	}
	plan.Rule = rule
	return plan, nil
}

func (q *Phrase) fill(spec *calendar.Spec, plan *Plan) {
	for _, t := range q.Times {
		spec.Times = append(spec.Times, t.ms())
	}
	spec.Every = q.Every.Milliseconds()
	if q.Window != nil {
		spec.Window = &calendar.Window{From: q.Window.From.ms(), To: q.Window.To.ms()}
	}
	if q.Kind == Since {
		spec.HasSince, spec.Since = true, q.Since.begin(plan.Zone)
	}
	if q.Starting != nil {
		spec.Starting = plan.first
	}
	if q.Ending != nil {
		spec.Ending = plan.last
	}
}

// never explains why a phrase without any due has none.
func (q *Phrase) never(spec calendar.Spec) *Error {
	part := "on"
	bare := spec
	bare.Days.Except = nil
	if _, err := calendar.NewRule(bare); err == nil {
		part = "except"
	} else if bare.Starting, bare.Ending = 0, 0; len(q.On) == 0 {
		part = "ending"
	} else if _, err := calendar.NewRule(bare); err == nil {
		part = "ending"
		if q.Ending == nil {
			part = "starting"
		}
	}
	err := q.errorAt(part, nil)
	err.Problem = fmt.Sprintf("%q can never come", err.Text[err.Pos:err.Pos+err.Len])
	err.Remedy = map[string]string{
		"on":       `no such day exists within 400 years: change "on" or "in"`,
		"except":   "every day that it names is excepted",
		"ending":   "nothing comes between the start and the end",
		"starting": "nothing comes from then on",
	}[part]
	return err
}

// errorAt reports an error at a part of the phrase.
func (q *Phrase) errorAt(part string, cause error) *Error {
	e := &Error{Text: q.text, Len: len(q.text)}
	if t, ok := q.marks[part]; ok {
		e.Pos, e.Len = t.pos, t.end-t.pos
		if part == "on" && len(q.On) > 0 && q.On[len(q.On)-1].end > t.end {
			e.Len = q.On[len(q.On)-1].end - t.pos
		}
	}
	if cause != nil {
		e.Problem = cause.Error()
	}
	return e
}

func terms(list []Days) []calendar.Term {
	var out []calendar.Term
	for _, d := range list {
		out = append(out, d.Term)
	}
	return out
}

func (t Time) ms() int64 { return int64(t) * 1000 }

// begin is the first instant of a date, or of its time.
func (d DateTime) begin(z *calendar.Zone) calendar.Instant {
	at, _ := z.Resolve(d.Day, d.Time.ms())
	return at
}

// end is the last instant of a date, or its time.
func (d DateTime) end(z *calendar.Zone) calendar.Instant {
	if d.HasTime {
		return d.begin(z)
	}
	next, _ := z.Start(d.Day + 1)
	return next - 1
}

// Allows reports whether a moment may lie at an instant, as "starting" and
// "ending" say.
func (pl *Plan) Allows(at calendar.Instant) bool {
	at -= pl.spread
	return at >= pl.first && at <= pl.last
}

// Occurs reports whether an event at an instant counts: whether its day, and
// its window where there is one, are the phrase's.
func (pl *Plan) Occurs(at calendar.Instant) bool {
	d, _ := pl.Zone.Local(at)
	w := pl.Phrase.Window
	if w == nil {
		return pl.days.Has(d)
	}
	to := w.To.ms()
	if w.To <= w.From {
		to += day.Milliseconds()
	}
	for _, d := range []calendar.Day{d - 1, d} { // a window over midnight is its first day's
		begin, _ := pl.Zone.Resolve(d, w.From.ms())
		end, _ := pl.Zone.Resolve(d, to)
		if at >= begin && at <= end && pl.days.Has(d) {
			return true
		}
	}
	return false
}

// SamePeriod reports whether two instants lie in the same day or ISO week, as
// "first … of the day" or "of the week" asks.
func (pl *Plan) SamePeriod(a, b calendar.Instant) bool {
	x, _ := pl.Zone.Local(a)
	y, _ := pl.Zone.Local(b)
	if pl.Phrase.Event.Period == "week" {
		return x-calendar.Day(x.Weekday()) == y-calendar.Day(y.Weekday())
	}
	return x == y
}

// NextMoment returns the first moment after an instant. An event has none
// that could be foretold.
func (pl *Plan) NextMoment(after calendar.Instant) (calendar.Instant, bool) {
	if pl.Rule == nil {
		return 0, false
	}
	due, ok := pl.Rule.Next(after - pl.spread)
	return due + pl.spread, ok
}

// prevMoment returns the last moment before an instant.
func (pl *Plan) prevMoment(before calendar.Instant) (calendar.Instant, bool) {
	due, ok := pl.Rule.Prev(before - pl.spread)
	return due + pl.spread, ok
}

// lastRepeat is the last instant at which a repeat may lie.
func (pl *Plan) lastRepeat() calendar.Instant {
	if pl.last == calendar.MaxInstant {
		return pl.last
	}
	return pl.last + pl.spread
}

// Explain says what a clock change has done to a moment, or "".
func (pl *Plan) Explain(due calendar.Instant) string { return pl.Rule.Explain(due - pl.spread) }

// NextRepeat returns the first repeat after an instant of the moment at base,
// whatever moments come in between.
func (pl *Plan) NextRepeat(base, after calendar.Instant) (calendar.Instant, bool) {
	r := pl.Phrase.Repeat
	if r == nil {
		return 0, false
	}
	every := calendar.Instant(r.Every.Milliseconds())
	due := base + (max(after-base, 0)/every+1)*every
	if due > pl.lastRepeat() || !r.Ever && due > base.Add(r.For) {
		return 0, false
	}
	return due, true
}

// Next returns the first due after an instant, a moment or a repeat, provided
// that every moment comes to pass.
func (pl *Plan) Next(after calendar.Instant) (due calendar.Instant, repeat, ok bool) {
	due, ok = pl.NextMoment(after)
	if pl.Phrase.Repeat == nil || pl.Rule == nil {
		return due, false, ok
	}
	if base, had := pl.prevMoment(after + 1); had {
		if again, more := pl.NextRepeat(base, after); more && (!ok || again < due) {
			return again, true, true
		}
	}
	return due, false, ok
}

// Prev returns the last due before an instant, a moment or a repeat, provided
// that every moment comes to pass.
func (pl *Plan) Prev(before calendar.Instant) (due calendar.Instant, repeat, ok bool) {
	if pl.Rule == nil {
		return 0, false, false
	}
	base, ok := pl.prevMoment(before)
	r := pl.Phrase.Repeat
	if !ok || r == nil {
		return base, false, ok
	}
	every := calendar.Instant(r.Every.Milliseconds())
	last := min(before-1, pl.lastRepeat())
	if !r.Ever {
		last = min(last, base.Add(r.For))
	}
	if n := (last - base) / every; n > 0 {
		return base + n*every, true, true
	}
	return base, false, true
}

// Count returns how many dues lie within [from, to].
func (pl *Plan) Count(from, to calendar.Instant) int64 {
	if pl.Rule == nil {
		return 0
	}
	n := pl.Rule.Count(from-pl.spread, to-pl.spread)
	r := pl.Phrase.Repeat
	if r == nil {
		return n
	}
	every := int64(r.Every.Milliseconds())
	base, ok := pl.prevMoment(from + 1)
	if !ok {
		base, ok = pl.NextMoment(from)
	}
	for ok && base <= to {
		next, more := pl.NextMoment(base)
		last := min(to, pl.lastRepeat())
		if !r.Ever {
			last = min(last, base.Add(r.For))
		}
		if more {
			last = min(last, next-1)
		}
		if last > base {
			n += int64(last-base) / every
			if from > base+1 {
				n -= min(int64(from-1-base), int64(last-base)) / every
			}
		}
		base, ok = next, more
	}
	return n
}

// SinceSuccess returns when a phrase "every D after success" is due, given
// the end of the last good run, or at once where there was none.
func (pl *Plan) SinceSuccess(lastGood calendar.Instant, had bool, now calendar.Instant) (calendar.Instant, bool) {
	due := now
	if had {
		due = lastGood.Add(pl.Phrase.Every)
	}
	due = max(due, pl.first)
	return due, due <= pl.last
}

// Warning returns what is unwise about a phrase that is right, or "".
func (q *Phrase) Warning() string {
	if q.Kind == Since && q.Every%day == 0 {
		offer := Phrase{Kind: Clock, Times: []Time{q.Since.Time}, Zone: q.Zone,
			Stride: calendar.Stride{Every: int(q.Every / day), Unit: calendar.DayUnit, From: q.Since.Day}}
		return fmt.Sprintf("%s is elapsed time and moves by an hour when the clocks change; for the same hour every day write %q",
			FormatSpan(q.Every), offer.String())
	}
	return ""
}

// Dead returns the entries of the lists after "on" and "in" that can never
// come, while others do.
func (pl *Plan) Dead() []string {
	q := pl.Phrase
	if pl.Rule == nil {
		return nil
	}
	never := func(days calendar.Days) bool {
		spec := calendar.Spec{Zone: pl.Zone, Days: days}
		bare := *q
		bare.Starting, bare.Ending = nil, nil // what is over is not what can never come
		bare.fill(&spec, pl)
		_, err := calendar.NewRule(spec)
		return errors.Is(err, calendar.ErrNever)
	}
	days := calendar.Days{Terms: terms(q.On), Months: q.In, Stride: q.Stride}
	var out []string
	for i := range q.On {
		one := days
		if one.Terms = days.Terms[i : i+1]; len(q.On) > 1 && never(one) {
			out = append(out, q.On[i].String())
		}
	}
	for m := range 12 {
		one := days
		if one.Months = 1 << m; q.In != one.Months && q.In>>m&1 == 1 && never(one) {
			out = append(out, short(monthNames)[m])
		}
	}
	return out
}
