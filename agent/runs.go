package agent

import (
	"bufio"
	"context"
	"errors"
	"maps"
	"math"
	"os"
	"slices"
	"time"

	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/launch"
	"timegate/workstation"
	"timegate/workstation/here"
)

// run is a run that an agent holds. The server's mutex guards it.
type run struct {
	id       int64
	readings measuring
	unfound  unfound
	proc     workstation.Process // nil until it has started
	signal   string              // to be sent then
	ahead    chan bool           // whether it is to start; nil once that is said
	dropped  bool                // it is not to start, and is let go as soon as may be
	out      *held
	paced    time.Time // when its output was told last

	longest, grace time.Duration // what it may take, 0 for any time, and has to end then
	overran        bool          // it was ended for that here, where no keeper said so

	// What became of it, each nil until it did.
	started            *started
	failed             *engine.StartFailed
	unsafe             *engine.StartUnsafe
	ended              *ended
	lost               *lost
	startedAt, endedAt time.Time

	marked             bool // it is among the dirty ones
	toldStart, toldEnd bool // in this conversation
}

// over reports whether nothing more will come of a run.
func (r *run) over() bool {
	return r.failed != nil || r.unsafe != nil || r.ended != nil || r.lost != nil
}

// drop lets a run go that was prepared and not started.
func (r *run) drop() {
	if r.ahead != nil {
		r.ahead <- false
		r.ahead, r.dropped = nil, true
	}
}

func sortedRuns(runs map[int64]*run) []int64 { return slices.Sorted(maps.Keys(runs)) }

// mark notes that there is something to tell of a run.
func (s *server) mark(r *run) {
	if !r.marked || !slices.Contains(s.dirty, r.id) {
		r.marked = true
		s.dirty = append(s.dirty, r.id)
	}
	s.wake()
}

// has reports whether there is a run that will be told of. One that was dropped will not.
func (s *server) has(id int64) bool { r := s.runs[id]; return r != nil && !r.dropped }

// prepare makes a run ready to start. It starts, or is let go, when the keeper
// says so.
func (s *server) prepare(j *Job) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.has(j.Run) {
		return // it is started at most once
	}
	ahead := make(chan bool, 1)
	r := &run{id: j.Run, ahead: ahead, out: newHeld(j.Gate.Limits.Output), readings: measuring{names: j.Gate.Measure}, longest: j.Longest, grace: j.Grace}
	s.runs[j.Run] = r
	l := s.launch
	go s.bring(r, j, &l, ahead)
}

func (s *server) goAhead(id int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.runs[id]; r != nil && r.ahead != nil {
		r.ahead <- true
		r.ahead = nil
	}
}

func (s *server) letGo(id int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.runs[id]; r != nil {
		r.drop()
	}
}

// mostReady is how many runs are prepared at a time, unless they take too long.
const (
	mostReady     = 16
	placePatience = 100 * time.Millisecond
)

// bring prepares a run and starts it once that is said. It may block.
func (s *server) bring(r *run, j *Job, l *launch.Launcher, ahead <-chan bool) {
	told := make(chan struct{}) // closed when it is known that it has started
	// What is made ready costs descriptors, which each start costs in turn. What
	// hangs keeps nobody waiting.
	select {
	case s.places <- struct{}{}:
		defer func() { <-s.places }()
	case <-time.After(placePatience):
	}
	o, before, failed, unsafe := prepareOrder(l, j)
	r.readings.env, r.readings.folder = o.Env, o.Folder
	var ready workstation.Ready
	var err error
	if failed == nil && unsafe == nil {
		o.Print = s.print(r)
		o.Done = func(x workstation.Exit) { <-told; s.done(r, l, x) }
		ready, err = s.starter.Ready(o)
	}
	if !<-ahead {
		if ready != nil {
			ready.Drop()
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.runs[r.id] == r { // else a later keeper has asked for it anew
			removeFiles(l, j.Run)
			delete(s.runs, r.id)
		}
		s.endIfIdle()
		return
	}
	if ready != nil {
		var p workstation.Process
		if p, err = ready.Start(); err == nil {
			s.begun(r, p, before)
			close(told)
			return
		}
	}
	if err != nil {
		failed = &engine.StartFailed{Run: r.id, Detail: err.Error()}
	}
	removeFiles(l, j.Run)
	s.mu.Lock()
	defer s.mu.Unlock()
	r.failed, r.unsafe = failed, unsafe
	s.mark(r)
}

// begun notes that a run has started.
func (s *server) begun(r *run, p workstation.Process, before map[string]float64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r.proc = p
	r.startedAt = time.Now()
	r.started = &started{Run: r.id, PID: p.PID(), Born: p.Born(), Note: joined(s.note, p.Note()), Readings: before}
	if r.signal != "" {
		go p.End(r.signal)
	}
	s.mark(r)
}

// joined puts two notes together, each of which may be "".
func joined(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "; " + b
}

// prepareOrder makes ready what a job starts. It may block.
func prepareOrder(l *launch.Launcher, j *Job) (o workstation.Order, before map[string]float64, failed *engine.StartFailed, unsafe *engine.StartUnsafe) {
	g := j.Gate
	for _, file := range j.Days {
		g.Opens = append(g.Opens, gate.Opening{Plan: &phrase.Plan{Phrase: &phrase.Phrase{ExceptFile: file}}})
	}
	l.Sessions = here.Sessions
	if j.Told {
		l.Sessions = func(uid int) []workstation.Session {
			return slices.DeleteFunc(slices.Clone(j.Sessions), func(s workstation.Session) bool { return uid >= 0 && s.UID != uid })
		}
	}
	o, err := l.Order(&g, &j.Decision)
	if hazard, ok := errors.AsType[*launch.UnsafeError](err); ok {
		return o, nil, nil, &engine.StartUnsafe{Run: j.Run, Hazard: hazard.Hazard}
	}
	if err == nil {
		err = launch.TellFiles(l.Home, &j.Decision, j.Files, &o)
	}
	if err == nil {
		err = launch.Reach(&o)
	}
	if err != nil {
		return o, nil, &engine.StartFailed{Run: j.Run, Detail: err.Error()}, nil
	}
	o.Mark, o.Rest = j.Mark, j.Rest
	return o, (&measuring{g.Measure, o.Env, o.Folder}).take(), nil, nil
}

// removeFiles removes the list of files that had changed, which is there only
// where some had.
func removeFiles(l *launch.Launcher, run int64) { os.Remove(l.Home.ChangedFiles(os.Getuid(), run)) }

// outputPace is how long output is gathered after some was told.
const outputPace = 100 * time.Millisecond

// print takes what a run prints.
func (s *server) print(r *run) func([]byte) {
	return func(b []byte) {
		s.mu.Lock()
		defer s.mu.Unlock()
		r.out.add(b)
		r.unfound.add(b)
		if !s.linked || r.out.flying {
			return
		}
		r.out.flying = true
		if wait := time.Until(r.paced.Add(outputPace)); wait > 0 {
			time.AfterFunc(wait, func() {
				s.mu.Lock()
				defer s.mu.Unlock()
				s.mark(r)
			})
			return
		}
		s.mark(r)
	}
}

// done notes that a run has ended.
func (s *server) done(r *run, l *launch.Launcher, x workstation.Exit) {
	at := x.At
	if at.IsZero() {
		at = time.Now()
	}
	after := r.readings.take()
	removeFiles(l, r.id)
	s.mu.Lock()
	defer s.mu.Unlock()
	r.endedAt = at
	if why := lostWhy(x); why != "" {
		r.lost = &lost{Run: r.id, Why: why, Usage: x.Usage}
	} else {
		r.ended = &ended{Run: r.id, Exit: x.Status, Signal: x.Signal, Usage: x.Usage, Readings: after, Overran: r.overran, Unfound: r.unfound.found}
	}
	s.mark(r)
	if !s.linked {
		s.endIfIdle()
	}
}

// keepLimit ends a run that takes longer than it may, as long as no keeper is there to do
// it.
func (s *server) keepLimit(r *run) {
	if r.longest == 0 || r.proc == nil || r.over() {
		return
	}
	alone := func(after time.Duration, signal string) {
		time.AfterFunc(after, func() {
			s.mu.Lock()
			defer s.mu.Unlock()
			if !s.linked && !r.over() {
				r.overran = true
				go r.proc.End(signal)
			}
		})
	}
	left := max(time.Until(r.startedAt.Add(r.longest)), 0)
	alone(left, "TERM")
	alone(left+r.grace, "KILL")
}

// adopt takes over a run that another agent has started.
func (s *server) adopt(a *Alive) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.has(a.Run) {
		return // it is told of anyway
	}
	r := &run{id: a.Run, out: newHeld(a.Keep), readings: measuring{a.Readings, os.Environ(), "/"}}
	s.runs[a.Run] = r
	l := s.launch
	go func() {
		told := make(chan struct{})
		o := workstation.Order{Mark: a.Mark, Rest: a.Rest, Print: s.print(r), Done: func(x workstation.Exit) { <-told; s.done(r, &l, x) }}
		p := s.starter.Adopt(o, a.PID, a.Born)
		if p == nil {
			s.mu.Lock()
			defer s.mu.Unlock()
			r.lost = &lost{Run: a.Run, Why: engine.LostMeanwhile}
			s.mark(r)
			return
		}
		s.begun(r, p, nil)
		close(told)
	}()
}

// end sends a signal to a run's processes.
func (s *server) end(e *ending) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.runs[e.Run]
	switch {
	case r == nil || r.over():
	case r.proc == nil:
		r.signal = e.Signal
	default:
		go r.proc.End(e.Signal)
	}
}

// have lets go what a keeper has of a run's output.
func (s *server) have(p *printed) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.runs[p.Run]; r != nil {
		r.out.drop(p.Bytes)
	}
}

func (s *server) forget(id int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.runs[id]; r != nil && r.over() {
		delete(s.runs, id)
		s.endIfIdle()
	}
}

// news is what a keeper was not told yet of a run, in this order.
type news struct {
	started *started
	head    []byte
	gap     int64
	tail    []byte
	over    *report
}

// newsOf takes what there is to tell of a run.
func (s *server) newsOf(id int64) (n news) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.runs[id]
	if r == nil {
		return n
	}
	r.marked, r.out.flying = false, false
	if r.started != nil && !r.toldStart {
		r.toldStart = true
		r.started.Ago = time.Since(r.startedAt).Milliseconds()
		told := *r.started
		told.Over = r.over()
		n.started = &told
	}
	if r.out.fresh() {
		n.head, n.gap, n.tail = r.out.take()
		r.paced = time.Now()
	}
	if r.over() && !r.toldEnd {
		r.toldEnd = true
		if r.ended != nil {
			r.ended.Ago = time.Since(r.endedAt).Milliseconds()
		}
		n.over = &report{Failed: r.failed, Unsafe: r.unsafe, Ended: r.ended, Lost: r.lost}
	}
	return n
}

// tellRun writes what a keeper was not told yet of a run.
func (s *server) tellRun(w *bufio.Writer, id int64) {
	n := s.newsOf(id)
	if n.started != nil {
		writeJSON(w, report{Started: n.started})
	}
	writeOutput(w, id, n.head)
	if n.gap > 0 {
		writeJSON(w, report{Skipped: &printed{id, n.gap}})
	}
	writeOutput(w, id, n.tail)
	if n.over != nil {
		writeJSON(w, n.over)
	}
}

// writeOutput writes what a run has printed, in pieces.
func writeOutput(w *bufio.Writer, id int64, b []byte) {
	const piece = 64 << 10
	for len(b) > 0 {
		n := min(piece, len(b))
		writeFrame(w, frameOutput, runHeader(id), b[:n])
		b = b[n:]
	}
}

// readingPatience is how long readings may take.
const readingPatience = 2 * time.Second

// measuring says how a run's readings are taken.
type measuring struct {
	names  []string
	env    []string
	folder string
}

// take takes what a gate wants to be measured, as far as that answers in time.
func (m *measuring) take() map[string]float64 {
	if len(m.names) == 0 {
		return nil
	}
	type reading struct {
		name  string
		value float64
		err   error
	}
	ctx, cancel := context.WithTimeout(context.Background(), readingPatience)
	defer cancel()
	answers := make(chan reading, len(m.names))
	for _, name := range m.names {
		go func() {
			n, err := launch.Measure(ctx, name, m.env, m.folder)
			answers <- reading{name, n, err}
		}()
	}
	out := map[string]float64{}
	for range m.names {
		select {
		case r := <-answers:
			if r.err == nil && !math.IsNaN(r.value) && !math.IsInf(r.value, 0) {
				out[r.name] = r.value
			}
		case <-ctx.Done():
			return out
		}
	}
	return out
}
