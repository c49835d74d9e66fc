// Package watch is the live view of a keeper: what runs, what comes, what happened. What it
// knows is a state that is told the time and drawn as text; a terminal program keeps it up
// to date from the keeper's stream of events.
package watch

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/words"
	"timegate/journal"
)

// Gate is what is known of a gate from its file.
type Gate struct {
	Name    string
	About   string
	Enabled bool
	Broken  string             // what is wrong with its file
	Dues    []calendar.Instant // of the day on which it was read
	Usual   journal.Cost       // what its runs take
}

// Loaded is what is read when the view begins, and when gates have changed.
type Loaded struct {
	Day   calendar.Day
	Gates []Gate
	Past  []journal.Entry // newest first: of the day, and some before it
}

// Activity is what a run does.
type Activity struct {
	Processor time.Duration // used so far
	Memory    int64         // bytes
	Output    int64         // bytes printed
	LastLine  string
}

// running is a run that has not ended.
type running struct {
	run     int64
	gate    string
	since   time.Time
	latest  Activity
	looked  time.Time
	shares  []float64 // of a processor, between looks; the newest last
	watched bool      // it was looked at
}

// mostShares is of how many looks the curve of a run is.
const mostShares = 12

// event is a line of what happened.
type event struct {
	at     time.Time
	gate   string
	run    int64
	what   string // a word: a result, or what was decided
	why    string
	result engine.Result
}

// mostEvents is how many lines are kept.
const mostEvents = 300

// span is a time in which a gate's program ran, or a moment that passed without.
type span struct {
	from, to calendar.Instant // to is 0 while it runs
	result   engine.Result
}

// state is all that is known.
type state struct {
	zone   *calendar.Zone
	host   string
	now    time.Time
	status control.Status
	gone   string // why no keeper answers; "" while one does
	loaded bool
	found  []string // what is wrong or unwise about gates

	day    calendar.Day
	gates  []Gate
	runs   []*running // in the order of their starts
	events []event    // newest first
	spans  map[string][]span
	last   map[string]event // how the last run of a gate ended
}

// load puts in place what was read, beside what the keeper says.
func (s *state) load(status control.Status, l *Loaded) {
	s.gone, s.loaded, s.day, s.gates = "", true, l.Day, l.Gates
	s.events, s.spans, s.last, s.runs = nil, map[string][]span{}, map[string]event{}, nil
	for i := range l.Past {
		e := &l.Past[i]
		if e.Run != 0 && e.Ended == 0 {
			s.begin(e.Run, e.Gate, cmp.Or(e.Started, e.Decided).Time())
		}
		s.passed(e)
	}
	slices.SortFunc(s.runs, func(a, b *running) int { return cmp.Compare(a.run, b.run) })
	slices.SortStableFunc(s.events, func(a, b event) int { return b.at.Compare(a.at) })
	s.refresh(status)
}

// passed enters a line of the history.
func (s *state) passed(e *journal.Entry) {
	x := event{at: cmp.Or(e.Ended, e.Decided).Time(), gate: e.Gate, run: e.Run, what: string(e.Result), why: words.Reason(e.Reason), result: e.Result}
	if e.Outcome.Code != "" {
		x.why = words.Reason(e.Outcome)
	}
	if e.Run != 0 && e.Ended == 0 {
		x.what = "started"
	}
	if len(s.events) < mostEvents {
		s.events = append(s.events, x)
	}
	if _, known := s.last[e.Gate]; !known && e.Run != 0 && e.Ended != 0 {
		s.last[e.Gate] = x
	}
	from, to := cmp.Or(e.Started, e.Decided), e.Ended
	if e.Run == 0 {
		from, to = e.Due, e.Due
	}
	s.spans[e.Gate] = append(s.spans[e.Gate], span{from, to, e.Result})
}

// refresh takes what the keeper says now.
func (s *state) refresh(status control.Status) {
	s.status, s.gone = status, ""
	s.now = status.Now
	alive := map[int64]bool{}
	for _, g := range status.Gates {
		for _, run := range g.Running {
			alive[run] = true
		}
	}
	s.runs = slices.DeleteFunc(s.runs, func(r *running) bool { return !alive[r.run] })
}

// take takes what the keeper has just committed.
func (s *state) take(it control.Item) {
	if it.At.After(s.now) {
		s.now = it.At
	}
	for i := range it.Decisions {
		s.decided(&it.Decisions[i])
	}
}

func (s *state) decided(d *control.Decision) {
	x := event{at: d.At, gate: d.Gate, run: d.Run, what: d.Decision, why: d.Reason, result: engine.Result(d.Result)}
	at := calendar.InstantOf(d.At)
	switch kind := engine.DecisionKind(d.Decision); {
	case d.Starts():
		x.what = "started"
		s.begin(d.Run, d.Gate, d.At)
		s.spans[d.Gate] = append(s.spans[d.Gate], span{from: at})
	case kind == engine.End, kind == engine.Refuse:
		x.what = d.Result
		s.runs = slices.DeleteFunc(s.runs, func(r *running) bool { return r.run == d.Run })
		list := s.spans[d.Gate]
		for i := len(list) - 1; i >= 0; i-- {
			if list[i].to == 0 {
				list[i].to, list[i].result = at, engine.Result(d.Result)
				break
			}
		}
		s.last[d.Gate] = x
	case kind == engine.Skip:
		x.what = d.Result
		due := at
		if d.Due != nil {
			due = calendar.InstantOf(*d.Due)
		}
		s.spans[d.Gate] = append(s.spans[d.Gate], span{due, due, engine.Result(d.Result)})
	case kind == engine.StopRun:
		x.what = "asked to end"
	case kind == engine.Release:
		return
	}
	s.events = slices.Insert(s.events, 0, x)
	if len(s.events) > mostEvents {
		s.events = s.events[:mostEvents]
	}
}

func (s *state) begin(run int64, gate string, at time.Time) {
	if !slices.ContainsFunc(s.runs, func(r *running) bool { return r.run == run }) {
		s.runs = append(s.runs, &running{run: run, gate: gate, since: at})
	}
}

// look takes what a run does.
func (s *state) look(run int64, a Activity, at time.Time) {
	for _, r := range s.runs {
		if r.run != run {
			continue
		}
		if r.watched && at.After(r.looked) {
			share := float64(a.Processor-r.latest.Processor) / float64(at.Sub(r.looked))
			if r.shares = append(r.shares, max(share, 0)); len(r.shares) > mostShares {
				r.shares = r.shares[1:]
			}
		}
		r.latest, r.looked, r.watched = a, at, true
	}
}

// gate returns what is known of a gate, and whether that is anything.
func (s *state) gate(name string) (Gate, bool) {
	i := slices.IndexFunc(s.gates, func(g Gate) bool { return g.Name == name })
	if i < 0 {
		return Gate{}, false
	}
	return s.gates[i], true
}

// rows returns the gates that fit a filter: those that run or wait first, then by what comes
// next, then those of which nothing comes.
func (s *state) rows(filter string) []Gate {
	var out []Gate
	for _, g := range s.gates {
		if filter == "" || strings.Contains(strings.ToLower(g.Name+" "+g.About), strings.ToLower(filter)) {
			out = append(out, g)
		}
	}
	rank := func(g *Gate) (int, int64) {
		st := s.status.Gates[g.Name]
		switch {
		case g.Broken != "":
			return 0, 0
		case len(st.Running) > 0:
			return 1, 0
		case st.Waiting != "":
			return 1, 1
		case st.Next != nil:
			return 2, st.Next.UnixMilli()
		case g.Enabled:
			return 3, 0
		}
		return 4, 0
	}
	slices.SortStableFunc(out, func(a, b Gate) int {
		ra, na := rank(&a)
		rb, nb := rank(&b)
		return cmp.Or(cmp.Compare(ra, rb), cmp.Compare(na, nb), cmp.Compare(a.Name, b.Name))
	})
	return out
}
