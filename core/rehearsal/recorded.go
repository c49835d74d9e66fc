package rehearsal

import (
	"cmp"
	"container/heap"
	"context"
	"slices"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
)

// Recorded is what was recorded of a span of time.
type Recorded struct {
	From, To calendar.Instant
	Zone     *calendar.Zone
	Host     string
	Engine   *engine.Engine    // as it was at the beginning; it is used up
	Events   []engine.Event    // from then on
	Actual   []engine.Decision // what was decided then
}

// course is how a recorded run went.
type course struct {
	decided calendar.Instant
	shift   calendar.Instant // by how much the clock had been set before, since the beginning
	took    calendar.Instant // 0 where it did not end
	ended   *engine.RunEnded
	instead engine.Body // what was told in the place of a start
	cut     bool        // it was ended, and nobody knows how long it would have run
}

// names gives the gates that are called otherwise now the names that they have. A name that
// another gate has is that one's.
func names(defs []engine.Definition) func(string) string {
	now := map[string]string{}
	for _, d := range defs {
		for _, was := range d.Gate.Was {
			if !slices.ContainsFunc(defs, func(o engine.Definition) bool { return o.Name == was }) {
				now[was] = d.Name
			}
		}
	}
	return func(name string) string { return cmp.Or(now[name], name) }
}

// courses returns how the runs of each gate went, in the order of their starts.
func (r *Recorded) courses(named func(string) string) map[string][]*course {
	out := map[string][]*course{}
	byRun := map[int64]*course{}
	for i := range r.Actual {
		switch d := &r.Actual[i]; {
		case d.Starts():
			c := &course{decided: d.At}
			byRun[d.Run] = c
			name := named(d.Gate)
			out[name] = append(out[name], c)
		case d.Kind == engine.End && d.Result == engine.ResultOverran:
			if c := byRun[d.Run]; c != nil {
				c.cut = true
			}
		}
	}
	shift := calendar.Instant(0)
	over := func(e *engine.RunEnded) {
		if c := byRun[e.Run]; c != nil {
			c.took, c.ended = max(e.EndedAt-c.decided-(shift-c.shift), 1), e
		}
	}
	for _, ev := range r.Events {
		switch b := ev.Body.(type) {
		case *engine.ClockSet:
			shift += b.By
		case *engine.RunStarted:
			if c := byRun[b.Run]; c != nil {
				c.shift = shift
			}
		case *engine.RunEnded:
			over(b)
		case *engine.Begin:
			for i := range b.Ended {
				over(&b.Ended[i])
			}
		case *engine.StartFailed:
			if c := byRun[b.Run]; c != nil {
				c.instead = b
			}
		case *engine.StartUnsafe:
			if c := byRun[b.Run]; c != nil {
				c.instead = b
			}
		}
	}
	return out
}

// Replay plays what was recorded through the gates of a setup, as if they had been in
// force then. What happened on the machine is as it was recorded; programs take what they
// took, or what the run of their gate took that was nearest in time.
func Replay(ctx context.Context, r *Recorded, s Setup) (*Played, error) {
	d := &Day{From: r.From, To: r.To, Zone: r.Zone, Host: r.Host}
	w := newWorld(ctx, d, s, r.Engine)
	w.courses = r.courses(names(s.Gates))
	w.book.out.Decisions = make([]engine.Decision, 0, len(r.Actual)) // as many, more or less
	w.asleep = r.slept()
	for _, run := range w.engine.AliveRuns() {
		w.book.started(Run{Run: run.ID, Gate: run.Gate, Started: w.now, Result: engine.ResultRunning})
		w.schedule(run.ID, run.Gate)
	}
	w.replaceGates()
	for _, ev := range r.Events {
		for _, at := range between(ev) {
			if err := w.advance(at); err != nil {
				return nil, err
			}
			one := *ev.Body.(*engine.Occurred)
			one.From, one.Count, one.Distinct = 0, 1, nil
			w.recorded(&one)
		}
		at := ev.At
		set, isSet := ev.Body.(*engine.ClockSet)
		if isSet { // until then it told another time
			at -= set.By
		}
		if err := w.advance(at); err != nil {
			return nil, err
		}
		if isSet {
			w.setClock(set.By)
		}
		w.recorded(ev.Body)
	}
	if err := w.advance(r.To); err != nil {
		return nil, err
	}
	return w.end(), nil
}

// setClock sets the clock of the machine. Programs take as long as they take.
func (w *world) setClock(by calendar.Instant) {
	w.now += by
	for i := range w.ends {
		w.ends[i].at += by
	}
}

// slept returns when the machine slept, as pairs of since when and until when. Of a sleep
// from which it had not returned by the end nothing is recorded but that it came.
func (r *Recorded) slept() (out []calendar.Instant) {
	last, sleeps := r.From, false
	for i := range r.Events {
		ev := &r.Events[i]
		last = max(last, ev.At)
		switch b := ev.Body.(type) {
		case *engine.Slept:
			out = append(out, ev.At-b.For, ev.At)
			sleeps = false
		case *engine.Occurred:
			sleeps = b.Event == phrase.Sleep || sleeps && b.Event != phrase.Resume
		case *engine.Begin:
			sleeps = false
		}
	}
	if sleeps {
		for i := range r.Actual { // what still came before it
			last = max(last, r.Actual[i].At)
		}
		out = append(out, last, r.To+1)
	}
	return out
}

// between returns instants at which files were still changing, where one event was recorded
// for all of their changes: none of them was quiet for long enough.
func between(ev engine.Event) []calendar.Instant {
	o, is := ev.Body.(*engine.Occurred)
	if !is || o.Event != phrase.Change || o.From == 0 || o.From >= ev.At {
		return nil
	}
	const most, least = 200, 100 // steps, and how long they are at least, ms
	step := max((ev.At-o.From)/most, least)
	var out []calendar.Instant
	for at := o.From; at < ev.At; at += step {
		out = append(out, at)
	}
	return out
}

// replaceGates puts the gates of the setup into force.
func (w *world) replaceGates() {
	state := w.engine.Snapshot()
	change := &engine.GatesChanged{}
	wanted := map[string]bool{}
	for _, def := range w.setup.Gates {
		wanted[def.Name] = true
		if g, known := state.Gates[def.Name]; !known || g.Version != def.Version || g.Gone {
			change.Set = append(change.Set, def)
		}
	}
	for name := range state.Gates {
		if !wanted[name] {
			change.Removed = append(change.Removed, name)
		}
	}
	slices.Sort(change.Removed)
	if len(change.Set)+len(change.Removed) > 0 {
		w.handle(change)
	}
}

// recorded lets something happen that was recorded. What followed from the gates as they
// were then (ticks, starts and ends of runs) does not.
func (w *world) recorded(body engine.Body) {
	defer func() { w.mark(w.now) }()
	switch b := body.(type) {
	case *engine.Tick, *engine.RunStarted, *engine.StartFailed, *engine.StartUnsafe, *engine.RunEnded, *engine.RunLost, *engine.Slept, *engine.Settled:
	case *engine.GatesChanged:
		if b.Facts != nil {
			w.facts = b.Facts.Clone()
			w.handle(&engine.FactsChanged{Facts: w.facts.Clone()})
		}
	case *engine.Ended:
		w.off = true
		w.handle(b)
	case *engine.Begin:
		w.beginAgain(b)
	case *engine.Occurred:
		c := *b
		if c.Facts != nil {
			w.facts = c.Facts.Clone()
		}
		if c.Event == phrase.Sleep || c.Event == phrase.Shutdown {
			c.Holds = false // when it went down is recorded
		}
		if w.handle(&c); c.Event == phrase.Sleep || c.Event == phrase.Resume {
			w.dozes = c.Event == phrase.Sleep
		}
		return
	case *engine.FactsChanged:
		w.facts = b.Facts.Clone()
		w.handle(b)
	case *engine.Booted:
		w.facts = b.Facts.Clone()
		w.handle(b)
	default:
		w.handle(body)
	}
}

// beginAgain lets a keeper begin, with the gates of the setup: what has ended meanwhile has
// ended, and of what a boot has ended nobody knows how.
func (w *world) beginAgain(b *engine.Begin) {
	c := *b
	w.off, w.dozes = false, false
	w.facts = b.Facts.Clone()
	c.Gates, c.Gone, c.Ended, c.Lost = w.setup.Gates, nil, nil, nil
	booted := w.engine.BootID != b.BootID
	for len(w.ends) > 0 && (w.ends[0].at <= w.now || booted) {
		e := heap.Pop(&w.ends).(end)
		if e.at <= w.now {
			c.Ended = append(c.Ended, engine.RunEnded{Run: e.run, EndedAt: e.at, Exit: e.exit, Signal: e.signal})
		} else {
			c.Lost = append(c.Lost, e.run)
		}
	}
	w.handle(&c)
}

// nearest returns how the recorded run of a gate went that was nearest to now, or nil.
func (w *world) nearest(name string) *course {
	list := w.courses[name] // in the order of their starts
	if len(list) == 0 {
		return nil
	}
	i, _ := slices.BinarySearchFunc(list, w.now, func(c *course, at calendar.Instant) int { return cmp.Compare(c.decided, at) })
	if i == len(list) || i > 0 && w.now-list[i-1].decided <= list[i].decided-w.now {
		i--
	}
	return list[i]
}

// Difference is a start that is otherwise than it was.
type Difference struct {
	What    string // new, lost, moved, or result
	Gate    string
	Opening string
	Was, Is calendar.Instant // 0 for not at all
	// How the run turned out, where that is another result.
	WasResult, IsResult engine.Result
}

// moved is how far apart two starts may be that are one which was moved.
const moved = calendar.Instant(12 * 60 * 60 * 1000)

// sameTime is what two starts may differ by and still be at the same time: how long a
// machine took to do something is not recorded to the millisecond.
const sameTime = calendar.Instant(2000)

// start is a start that was decided, and how its run turned out.
type start struct {
	gate, opening string
	due, at       calendar.Instant
	result        engine.Result
}

func startsOf(decisions []engine.Decision) []start {
	var out []start
	at := map[int64]int{}
	for i := range decisions {
		d := &decisions[i]
		switch {
		case d.Starts():
			at[d.Run] = len(out)
			out = append(out, start{d.Gate, d.Opening, d.Due, d.At, engine.ResultRunning})
		case d.Kind == engine.End, d.Kind == engine.Refuse:
			if n, known := at[d.Run]; known {
				out[n].result = d.Result
			}
		}
	}
	return out
}

// Compare returns how starts of gates differ from what they were, in the order of time, and
// how many are as they were. A gate goes by the name that it has now.
func Compare(was, is []engine.Decision, gates []engine.Definition) (out []Difference, same int) {
	old, now := startsOf(was), startsOf(is)
	named := names(gates)
	for i := range old {
		old[i].gate = named(old[i].gate)
	}
	taken := make([]bool, len(now))
	partner := pair(old, now, taken)
	for i := range old {
		s := &old[i]
		if partner[i] < 0 {
			out = append(out, Difference{What: "lost", Gate: s.gate, Opening: s.opening, Was: s.at, WasResult: s.result})
			continue
		}
		o := &now[partner[i]]
		d := Difference{Gate: s.gate, Opening: s.opening, Was: s.at, Is: o.at, WasResult: s.result, IsResult: o.result}
		switch {
		case abs(o.at-s.at) > sameTime:
			d.What = "moved"
		case o.result != s.result && o.result != engine.ResultRunning && s.result != engine.ResultRunning:
			d.What = "result"
		default:
			same++
			continue
		}
		out = append(out, d)
	}
	for i, o := range now {
		if !taken[i] {
			out = append(out, Difference{What: "new", Gate: o.gate, Opening: o.opening, Is: o.at, IsResult: o.result})
		}
	}
	slices.SortStableFunc(out, func(a, b Difference) int { return int(max(a.Was, a.Is) - max(b.Was, b.Is)) })
	return out, same
}

// pair finds for each start that was the one that is in its place, and marks it as taken:
// that of the same due at the same time, else that of the same due, else the nearest of the
// same opening. It is -1 where there is none.
func pair(old, now []start, taken []bool) []int {
	type opening struct{ gate, opening string }
	type moment struct {
		opening
		due calendar.Instant
	}
	byDue, byOpening := map[moment][]int{}, map[opening][]int{}
	for i := range now {
		o := opening{now[i].gate, now[i].opening}
		byDue[moment{o, now[i].due}] = append(byDue[moment{o, now[i].due}], i)
		byOpening[o] = append(byOpening[o], i) // in the order of time
	}
	partner := make([]int, len(old))
	nearest := func(s *start, among []int, within calendar.Instant) int {
		best := -1
		for _, i := range among {
			if gap := abs(now[i].at - s.at); !taken[i] && gap <= within && (best < 0 || gap < abs(now[best].at-s.at)) {
				best = i
			}
		}
		if best >= 0 {
			taken[best] = true
		}
		return best
	}
	for i := range old {
		s := &old[i]
		partner[i] = nearest(s, byDue[moment{opening{s.gate, s.opening}, s.due}], sameTime)
	}
	for i := range old {
		if s := &old[i]; partner[i] < 0 {
			partner[i] = nearest(s, byDue[moment{opening{s.gate, s.opening}, s.due}], calendar.MaxInstant)
		}
	}
	for i := range old {
		if s := &old[i]; partner[i] < 0 {
			list := byOpening[opening{s.gate, s.opening}]
			after := func(at calendar.Instant) int {
				n, _ := slices.BinarySearchFunc(list, at, func(i int, at calendar.Instant) int { return cmp.Compare(now[i].at, at) })
				return n
			}
			partner[i] = nearest(s, list[after(s.at-moved+1):after(s.at+moved)], moved-1)
		}
	}
	return partner
}

func abs(i calendar.Instant) calendar.Instant { return max(i, -i) }
