package ical

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// Opening is what is exported of a gate's opening.
type Opening struct {
	Gate, Name, About string
	ID                string // of the gate, which stays the same when it is renamed; "" for its name
	Plan              *phrase.Plan
}

// Result tells how an opening was said.
type Result struct {
	Opening Opening
	Events  int    // VEVENTs; 0 where nothing falls into the span
	Listed  bool   // one by one, for the span alone
	Why     string // why it could not be said, or only listed
}

// ruleYears is for how long a rule must say exactly the same, and for how long
// the file tells the zone's clock changes.
const ruleYears = 10

// maxListed bounds how many dates are listed for an opening.
const maxListed = 50_000

// Export writes openings as a calendar. from and to are the span for which
// starts are listed where a rule cannot say them; stamp is when it was made.
func Export(w io.Writer, list []Opening, from, to calendar.Instant, stamp time.Time) ([]Result, error) {
	cal := ics.NewCalendar()
	cal.SetProductId("-//Time Gate//Time Gate//EN")
	cal.SetMethod(ics.MethodPublish)
	var results []Result
	zones := map[string]*calendar.Zone{}
	for _, o := range list {
		r := Result{Opening: o}
		switch {
		case o.Plan.Rule == nil:
			r.Why = "its moments come by events"
		default:
			events, why := o.rules(from, to)
			if why != "" {
				events, r.Listed, r.Why = o.listed(from, to), true, why
			}
			if n := o.Plan.Count(from, to); len(events) == 0 && n > maxListed {
				r.Why = fmt.Sprintf("%s, and %d starts in the span are too many to list: choose a shorter one", r.Why, n)
			} else if len(events) == 0 {
				r.Why = "nothing falls into the span"
			}
			for _, e := range events {
				e.add(cal, o, stamp, from, to)
				zones[o.Plan.Zone.Name()] = o.Plan.Zone
			}
			r.Events = len(events)
		}
		results = append(results, r)
	}
	for _, name := range sortedKeys(zones) {
		if name != "UTC" {
			addZone(cal, zones[name], from, to)
		}
	}
	return results, cal.SerializeTo(w, ics.WithNewLine("\r\n"))
}

func sortedKeys(m map[string]*calendar.Zone) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// event is a VEVENT to be.
type event struct {
	key    string // distinguishes the events of an opening
	start  calendar.Instant
	rule   string
	except []calendar.Instant
	dates  []calendar.Instant // further starts
}

// rules says an opening by recurrence rules, or why that cannot be.
func (o Opening) rules(from, to calendar.Instant) ([]event, string) {
	q := o.Plan.Phrase
	if o.Plan.SpreadOffset() != 0 {
		return nil, "rules.spread puts its moments off"
	}
	if q.Repeat != nil {
		return nil, "a rule cannot say repeats that depend on the moment before"
	}
	if q.Kind == phrase.Since {
		return nil, "a rule counts local time, and this is elapsed time"
	}
	parts, onePos, ok := daysRule(q)
	if !ok {
		return nil, "a rule cannot say these days"
	}
	times, ok := timesOf(q)
	if !ok {
		return nil, "a rule cannot say a window over midnight"
	}
	if !o.regular(times, from, max(to, from.Add(ruleYears*366*24*time.Hour))) {
		return nil, "a clock change moves a start, which a rule reads otherwise"
	}
	except, ok := o.exceptions(times)
	if !ok {
		return nil, "a rule cannot say these exceptions"
	}
	if q.Limit > 0 || q.Ending != nil {
		if last, ok := o.Plan.Rule.Prev(calendar.MaxInstant); ok {
			parts = append(parts, "UNTIL="+last.Time().Format("20060102T150405Z"))
		}
	}
	var out []event
	for _, g := range groupTimes(times, onePos) {
		start, ok := o.firstOf(g, from)
		if !ok {
			continue
		}
		e := event{key: fmt.Sprintf("%06d", g.first()/1000), start: start, rule: strings.Join(append(slices.Clone(parts), g.parts()...), ";")}
		for _, x := range except {
			if _, ms := o.Plan.Zone.Local(x); slices.Contains(g.hours, ms/hour) && slices.Contains(g.minutes, ms%hour/minute) {
				e.except = append(e.except, x)
			}
		}
		out = append(out, e)
	}
	return out, ""
}

// firstOf finds the first due of a group of times.
func (o Opening) firstOf(g timeGroup, from calendar.Instant) (calendar.Instant, bool) {
	for at, ok := o.Plan.Rule.Next(from - 1); ok; at, ok = o.Plan.Rule.Next(at) {
		_, ms := o.Plan.Zone.Local(at)
		if slices.Contains(g.hours, ms/hour) && slices.Contains(g.minutes, ms%hour/minute) && ms%minute/1000 == g.second {
			return at, true
		}
	}
	return 0, false
}

// regular reports whether, on the days near a clock change of the span, the
// dues are just the local times, so that a rule reads them alike.
func (o Opening) regular(times []int64, from, to calendar.Instant) bool {
	z := o.Plan.Zone
	for _, change := range z.Changes(from, to) {
		near, _ := z.Local(change)
		for d := near - 1; d <= near+1; d++ {
			begin, exists := z.Start(d)
			end, _ := z.Start(d + 1)
			n := o.Plan.Rule.Count(begin, end-1)
			if n == 0 && exists {
				continue // none of the phrase's days
			}
			if !exists || n != int64(len(times)) {
				return false
			}
			for _, t := range times {
				if _, c := z.Resolve(d, t); c == calendar.Moved {
					return false
				}
			}
		}
	}
	return true
}

// exceptions lists the starts that "except" takes out, where it names dates.
func (o Opening) exceptions(times []int64) ([]calendar.Instant, bool) {
	var out []calendar.Instant
	q := o.Plan.Phrase
	if q.ExceptFile != "" {
		return nil, false
	}
	for _, d := range q.Except {
		if len(d.Items) != 1 || !d.Items[0].Dates || d.Shift != 0 || d.Roll != calendar.Stay || d.Items[0].To-d.Items[0].From > 366 {
			return nil, false
		}
		for x := d.Items[0].From; x <= d.Items[0].To; x++ {
			for _, t := range times {
				at, _ := o.Plan.Zone.Resolve(x, t)
				out = append(out, at)
			}
		}
	}
	return out, true
}

// listed says an opening by its dates within the span, unless they are too
// many.
func (o Opening) listed(from, to calendar.Instant) []event {
	var all []calendar.Instant
	if o.Plan.Count(from, to) > maxListed {
		return nil
	}
	for at, _, ok := o.Plan.Next(from - 1); ok && at <= to; at, _, ok = o.Plan.Next(at) {
		all = append(all, at)
	}
	if len(all) == 0 {
		return nil
	}
	return []event{{key: "dates", start: all[0], dates: all[1:]}}
}

// add makes the VEVENT. Its UID stays the same from one export to the next.
func (e event) add(cal *ics.Calendar, o Opening, stamp time.Time, from, to calendar.Instant) {
	v := cal.AddEvent(fmt.Sprintf("%s.%s.%s@timegate", cmp.Or(o.ID, o.Gate), o.Name, e.key))
	v.SetDtStampTime(stamp)
	v.SetSummary(o.Gate)
	text := strings.TrimSpace(o.About + "\n" + o.Plan.Phrase.String())
	if e.rule == "" {
		text += fmt.Sprintf("\nlisted from %s to %s", from.Time().Format(time.RFC3339), to.Time().Format(time.RFC3339))
	}
	v.SetDescription(text)
	z := o.Plan.Zone
	if e.rule == "" || z.Name() == "UTC" {
		v.AddProperty(ics.ComponentPropertyDtStart, utc(e.start))
	} else {
		v.AddProperty(ics.ComponentPropertyDtStart, localStamp(z, e.start), ics.WithTZID(z.Name()))
	}
	if e.rule != "" {
		v.AddProperty(ics.ComponentPropertyRrule, e.rule)
	}
	for _, x := range e.except {
		if z.Name() == "UTC" {
			v.AddProperty(ics.ComponentPropertyExdate, utc(x))
		} else {
			v.AddProperty(ics.ComponentPropertyExdate, localStamp(z, x), ics.WithTZID(z.Name()))
		}
	}
	for chunk := range slices.Chunk(e.dates, 50) {
		var list []string
		for _, at := range chunk {
			list = append(list, utc(at))
		}
		v.AddProperty(ics.ComponentPropertyRdate, strings.Join(list, ","))
	}
}

func utc(at calendar.Instant) string { return at.Time().Format("20060102T150405Z") }

func localStamp(z *calendar.Zone, at calendar.Instant) string {
	return at.Time().In(z.Location()).Format("20060102T150405")
}

// addZone adds a VTIMEZONE with the clock changes of the span and the years
// around it, each kind of change as one list of dates.
func addZone(cal *ics.Calendar, z *calendar.Zone, from, to calendar.Instant) {
	tz := cal.AddTimezone(z.Name())
	const year = 366 * 24 * time.Hour
	type kind struct {
		before, after time.Duration
		name          string
		daylight      bool
	}
	onsets := map[kind][]calendar.Instant{}
	var order []kind
	changes := z.Changes(from.Add(-2*year), to.Add(ruleYears*year))
	if len(changes) == 0 {
		changes = []calendar.Instant{from.Add(-2 * year)}
	}
	for _, c := range changes {
		at := c.Time().In(z.Location())
		name, _ := at.Zone()
		k := kind{z.Offset(c - 1), z.Offset(c), name, at.IsDST()}
		if onsets[k] == nil {
			order = append(order, k)
		}
		onsets[k] = append(onsets[k], c)
	}
	for _, k := range order {
		var base *ics.ComponentBase
		if k.daylight {
			d := &ics.Daylight{}
			tz.Components = append(tz.Components, d)
			base = &d.ComponentBase
		} else {
			base = &tz.AddStandard().ComponentBase
		}
		// The onset is told by the local time before the change.
		local := func(c calendar.Instant) string { return c.Add(k.before).Time().Format("20060102T150405") }
		base.AddProperty(ics.ComponentPropertyDtStart, local(onsets[k][0]))
		base.AddProperty("TZOFFSETFROM", offset(k.before))
		base.AddProperty("TZOFFSETTO", offset(k.after))
		base.AddProperty("TZNAME", k.name)
		for _, c := range onsets[k][1:] {
			base.AddProperty(ics.ComponentPropertyRdate, local(c))
		}
	}
}

// offset prints a UTC offset as RFC 5545 section 3.3.14 has it.
func offset(d time.Duration) string {
	sign := "+"
	if d < 0 {
		sign, d = "-", -d
	}
	s := fmt.Sprintf("%s%02d%02d", sign, d/time.Hour, d%time.Hour/time.Minute)
	if sec := d % time.Minute / time.Second; sec > 0 {
		s += fmt.Sprintf("%02d", sec)
	}
	return s
}
