package rehearsal

import (
	"cmp"
	"slices"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/core/words"
)

// Played is what came of a day.
type Played struct {
	Decisions []engine.Decision // the first ones, where not all were to be kept
	Count     int64             // how many there were
	Tallies   map[string]*Tally // by gate
	Runs      []Run             // in the order of their starts
	Marks     []Mark            // moments that passed, starts that wait and refusals
	States    []State
	Void      map[int]string // events that changed nothing, by their place in the day: why
	Guessed   []string       // gates that started, and of which nothing says how long they take

	hits    [][]done // what gates did that is expected of them, for each expectation
	most    int      // how many programs ran at once at most
	crowded calendar.Instant
}

// Tally counts what was decided of a gate.
type Tally struct {
	Starts, Waits, Skipped, Missed, Refused int64
	OK, Failed, Stopped, Overran, Lost      int64         // how its runs ended
	Running                                 time.Duration // of its runs that ended, together
}

// Run is a run of a program. Where there are too many to be kept, one stands for runs of
// a gate that follow each other closely.
type Run struct {
	Run          int64
	Gate         string
	Opening      string
	Started, End calendar.Instant // End is 0 where it goes on beyond the day
	Result       engine.Result
}

// Mark is a moment at which something else was decided than a start. Where there are too
// many to be kept, one stands for those of a gate that follow each other closely.
type Mark struct {
	At     calendar.Instant
	Gate   string
	Kind   engine.DecisionKind // Wait, Skip or Refuse
	Result engine.Result       // of Skip and Refuse
}

// State is what holds on the machine for a while.
type State struct {
	From, To  calendar.Instant
	Off       bool
	Asleep    bool
	OnBattery bool
	People    []string // who is logged on
}

// done is something that a gate did.
type done struct {
	at   calendar.Instant
	text string // why, where an expectation asks for that
	rule string
}

// book keeps what comes of a day, in a room that does not grow with it where Most is set.
type book struct {
	plans  map[string]*phrase.Plan // of openings, by GATE/OPENING
	out    *Played
	most   int
	tell   func(*engine.Decision, *State)
	apart  calendar.Instant // runs that are closer together are kept as one, beyond most
	expect []Expectation
	lanes  map[string]*lane
	latest *lane         // that was asked for
	alive  map[int64]int // where the runs are that have not ended
	free   []int         // places of Runs that are not used

	running int
	since   calendar.Instant // when their number has changed
}

// lane is what is known of a gate.
type lane struct {
	gate    string
	tally   Tally
	expects []int // which expectations are about it
	before  int   // where its last run is that has ended; 1 is the first
	mark    Mark  // its last one
	begun   int   // how many of its runs have begun
	guessed bool  // nothing says how long they take
}

// newBook begins a book of a day.
func newBook(d *Day, s *Setup) *book {
	const apart = 1000
	b := &book{out: &Played{hits: make([][]done, len(d.Expect))}, most: s.Most, tell: s.Tell, apart: (d.To - d.From) / apart, expect: d.Expect,
		lanes: map[string]*lane{}, alive: map[int64]int{}, plans: map[string]*phrase.Plan{}}
	for _, def := range s.Gates {
		for _, o := range def.Gate.Opens {
			b.plans[def.Name+"/"+o.Name] = o.Plan
		}
	}
	for i, x := range d.Expect {
		if x.gate != "" {
			l := b.lane(x.gate)
			l.expects = append(l.expects, i)
		}
	}
	return b
}

// lane returns what is known of a gate.
func (b *book) lane(gate string) *lane {
	if l := b.latest; l != nil && l.gate == gate {
		return l
	}
	l := b.lanes[gate]
	if l == nil {
		l = &lane{gate: gate}
		b.lanes[gate] = l
	}
	b.latest = l
	return l
}

// decided enters a decision.
func (b *book) decided(d *engine.Decision) {
	b.out.Count++
	if b.most == 0 || len(b.out.Decisions) < b.most {
		b.out.Decisions = append(b.out.Decisions, *d)
	}
	if b.tell != nil {
		b.tell(d, &b.out.States[len(b.out.States)-1])
	}
	l := b.lane(d.Gate)
	l.tally.count(d)
	at := d.At
	switch d.Kind {
	case engine.Wait, engine.Skip, engine.Refuse:
		if d.Kind == engine.Skip && d.Due != 0 {
			at = d.Due
		}
		m := Mark{at, d.Gate, d.Kind, d.Result}
		if last := l.mark; b.most == 0 || len(b.out.Marks) < b.most || m.Kind != last.Kind || m.Result != last.Result || at-last.At >= b.apart {
			b.out.Marks, l.mark = append(b.out.Marks, m), m
		}
	}
	for _, i := range l.expects {
		x := &b.expect[i]
		if !x.is(d) {
			continue
		}
		it := done{at: at, rule: d.Rule}
		if x.because != "" {
			it.text = words.Reason(d.Reason)
		}
		for _, at := range b.moments(d, at) {
			it.at = at
			b.out.hits[i] = append(b.out.hits[i], it)
		}
	}
}

// mostMoments is how many moments of one decision are told apart.
const mostMoments = 10_000

// moments returns when something was decided about: each moment, where one decision
// stands for several that passed.
func (b *book) moments(d *engine.Decision, at calendar.Instant) []calendar.Instant {
	plan := b.plans[d.Gate+"/"+d.Opening]
	if d.Kind != engine.Skip || d.Count < 2 || plan == nil {
		return []calendar.Instant{at}
	}
	var out []calendar.Instant
	last := d.Due
	for after := last.Add(-time.Duration(d.Args.Span)) - 1; int64(len(out)) < min(d.Count, mostMoments); {
		next, _, ok := plan.Next(after)
		if !ok || next > last {
			break
		}
		out, after = append(out, next), next
	}
	if int64(len(out)) != min(d.Count, mostMoments) { // such as repeats after an event
		return []calendar.Instant{at}
	}
	return out
}

func (t *Tally) count(d *engine.Decision) {
	switch {
	case d.Starts():
		t.Starts++
	case d.Kind == engine.Wait:
		t.Waits++
	case d.Kind == engine.Skip && d.Result == engine.ResultMissed:
		t.Missed += max(d.Count, 1)
	case d.Kind == engine.Skip:
		t.Skipped += max(d.Count, 1)
	case d.Kind == engine.Refuse:
		t.Refused++
	case d.Kind == engine.End:
		switch d.Result {
		case engine.ResultOK:
			t.OK++
		case engine.ResultFailed:
			t.Failed++
		case engine.ResultStopped:
			t.Stopped++
		case engine.ResultOverran:
			t.Overran++
		case engine.ResultLost:
			t.Lost++
		}
	}
}

// Bad is how many runs did not end well.
func (t *Tally) Bad() int64 { return t.Failed + t.Stopped + t.Overran + t.Lost }

// started enters a run.
func (b *book) started(r Run) {
	i := len(b.out.Runs)
	if n := len(b.free); n > 0 {
		i, b.free = b.free[n-1], b.free[:n-1]
		b.out.Runs[i] = r
	} else {
		b.out.Runs = append(b.out.Runs, r)
	}
	b.alive[r.Run] = i
	b.crowd(r.Started, 1)
}

// ended enters how a run has ended.
func (b *book) ended(run int64, at calendar.Instant, result engine.Result) {
	i, known := b.alive[run]
	if !known {
		return
	}
	delete(b.alive, run)
	r := &b.out.Runs[i]
	if r.Result = result; r.End == 0 { // else the machine went down with it
		r.End = at
		b.crowd(at, -1)
	}
	l := b.lane(r.Gate)
	l.tally.Running += r.End.Sub(r.Started)
	if last := l.before; last > 0 && b.most > 0 && len(b.out.Runs) > b.most {
		p := &b.out.Runs[last-1]
		if r.Started-p.End < b.apart && (p.Result == engine.ResultOK) == (result == engine.ResultOK) {
			p.End = max(p.End, r.End)
			*r = Run{}
			b.free = append(b.free, i)
			return
		}
	}
	l.before = i + 1
}

// cut ends all runs with the machine.
func (b *book) cut(at calendar.Instant) {
	for _, i := range b.alive {
		if r := &b.out.Runs[i]; r.End == 0 {
			r.End, r.Result = at, engine.ResultLost // as the next keeper will find
			b.crowd(at, -1)
		}
	}
}

// crowd notes that more programs run from an instant on, or fewer.
func (b *book) crowd(at calendar.Instant, by int) {
	if at > b.since && b.running > b.out.most {
		b.out.most, b.out.crowded = b.running, b.since
	}
	b.since = max(b.since, at)
	b.running += by
}

// close ends the book.
func (b *book) close() *Played {
	b.crowd(calendar.MaxInstant, 0)
	b.out.Tallies = map[string]*Tally{}
	for name, l := range b.lanes {
		if l.tally != (Tally{}) {
			b.out.Tallies[name] = &l.tally
		}
		if l.guessed {
			b.out.Guessed = append(b.out.Guessed, name)
		}
	}
	slices.Sort(b.out.Guessed)
	if len(b.free) > 0 {
		b.out.Runs = slices.DeleteFunc(b.out.Runs, func(r Run) bool { return r.Run == 0 })
	}
	slices.SortStableFunc(b.out.Runs, func(x, y Run) int { return cmp.Or(cmp.Compare(x.Started, y.Started), cmp.Compare(x.Run, y.Run)) })
	return b.out
}
