package keeper

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/journal"
	"timegate/launch"
	"timegate/workstation"
)

// programs are those that run, or are being started.
type programs struct {
	running map[int64]program
	late    map[string]int                    // starts of a gate that have not come back within their deadline
	asked   map[int64]func([]engine.Decision) // who wants to know how a start turned out
}

// program is one that runs. While it is being started there is no process yet,
// and what it is sent waits.
type program struct {
	gate    string
	process workstation.Process
	signal  string
}

// What a worker may take, until the keeper goes on without it.
const (
	startPatience   = 20 * time.Second
	readingPatience = time.Second
	adoptPatience   = 2 * time.Second
)

// mostLate is how many starts may hang at a time, of all gates: each holds a
// thread of this process.
const mostLate = 256

// prepareStarts lets workers prepare what was decided to start. They go on when
// that is committed.
func (k *Keeper) prepareStarts(records []journal.Record) map[int64]*starting {
	var out map[int64]*starting
	for i := range records {
		for _, d := range records[i].Decisions {
			if !d.Starts() || k.programs.late[d.Gate] > 0 || k.programs.hanging() >= mostLate {
				continue
			}
			s := &starting{decision: d, gate: k.files[d.Gate].Gate, committed: make(chan bool, 1), told: make(chan struct{}), hold: func() {}}
			if m, ok := k.ws.(holder); ok {
				s.hold = m.Hold()
			}
			if out == nil {
				out = map[int64]*starting{}
			}
			out[d.Run] = s
			go func() {
				if body, p := k.startProgram(s); body != nil {
					k.post(input{do: func() { k.started(s, body, p) }})
				}
			}()
		}
	}
	return out
}

// start lets a worker go on to start what it has prepared, unless the decision
// could not be recorded.
func (k *Keeper) start(d *engine.Decision, s *starting, unrecorded error) []input {
	failed := func(detail string) []input {
		return []input{{body: &engine.StartFailed{Run: d.Run, Detail: detail}, then: func(after []engine.Decision) { k.programs.answer(d.Run, after) }}}
	}
	if s == nil {
		return failed("an earlier start of it hangs: what it is started from does not answer")
	}
	if s.committed <- unrecorded == nil; unrecorded != nil {
		s.hold()
		return failed("the journal cannot be written: " + unrecorded.Error())
	}
	k.programs.running[d.Run] = program{gate: d.Gate}
	s.late = time.AfterFunc(k.patience, func() { k.post(input{do: func() { k.startLate(s) }}) })
	return nil
}

// holder is a workstation whose clock keeps real time while something is held,
// so that a fast one does not run away from what is being done.
type holder interface{ Hold() (let func()) }

// starting is a start that a worker is at.
type starting struct {
	decision  engine.Decision
	gate      *gate.Gate
	committed chan bool     // tells the worker whether the decision is safe in the journal
	told      chan struct{} // closed when the engine was told that it has started
	hold      func()

	// What follows belongs to the keeper's goroutine.
	late *time.Timer
	over bool // given up
}

// startProgram prepares a program, and starts it once that is committed; it
// returns nothing where it is not. It may block.
func (k *Keeper) startProgram(s *starting) (engine.Body, workstation.Process) {
	o, before, failed := k.prepareProgram(s)
	if !<-s.committed {
		os.Remove(k.home.ChangedFiles(s.decision.Run))
		return nil, nil
	}
	if failed != nil {
		return failed, nil
	}
	p, err := k.ws.Start(o)
	if err != nil {
		return &engine.StartFailed{Run: o.Run, Detail: err.Error()}, nil
	}
	return &engine.RunStarted{Run: o.Run, PID: p.PID(), Readings: before, Note: p.Note()}, p
}

// prepareProgram makes a program ready to start. What stands in the way is
// returned as the event that it will be.
func (k *Keeper) prepareProgram(s *starting) (o workstation.Order, before map[string]int64, failed engine.Body) {
	d, g := &s.decision, s.gate
	o, err := k.launch.Order(g, d)
	var unsafe *launch.UnsafeError
	if errors.As(err, &unsafe) {
		return o, nil, &engine.StartUnsafe{Run: d.Run, Hazard: unsafe.Hazard}
	}
	if err == nil {
		err = launch.TellFiles(k.home, d, &o)
	}
	if err == nil {
		err = launch.Reach(&o)
	}
	if err != nil {
		return o, nil, &engine.StartFailed{Run: d.Run, Detail: err.Error()}
	}
	o.Done = k.done(d.Run, g, s.told)
	return o, k.readings(g), nil
}

// started handles what came of a start. One that was given up is ended again.
func (k *Keeper) started(s *starting, body engine.Body, p workstation.Process) {
	s.late.Stop()
	defer s.hold()
	if s.over {
		if k.programs.late[s.decision.Gate]--; k.programs.late[s.decision.Gate] == 0 {
			delete(k.programs.late, s.decision.Gate)
		}
		if p != nil {
			k.log.Warn("a program has started after it was given up, and is ended", "gate", s.decision.Gate, "run", s.decision.Run)
			k.end(p, "KILL", s.decision.Gate, s.decision.Run)
		}
		return
	}
	defer close(s.told)
	now, alive := k.programs.running[s.decision.Run]
	if f, ok := body.(*engine.StartFailed); ok {
		k.log.Warn("a program could not be started", "gate", s.decision.Gate, "run", s.decision.Run, "error", f.Detail)
	}
	if p != nil && alive {
		k.programs.running[s.decision.Run] = program{gate: s.decision.Gate, process: p}
	}
	k.handle(input{body: body, then: func(d []engine.Decision) { k.programs.answer(s.decision.Run, d) }})
	if p != nil && now.signal != "" {
		k.end(p, now.signal, s.decision.Gate, s.decision.Run)
	}
}

// startLate gives up a start that does not come back.
func (k *Keeper) startLate(s *starting) {
	if _, alive := k.programs.running[s.decision.Run]; !alive || s.over {
		return
	}
	s.over = true
	k.programs.late[s.decision.Gate]++
	k.log.Warn("a start does not come back", "gate", s.decision.Gate, "run", s.decision.Run, "after", k.patience)
	body := &engine.StartFailed{Run: s.decision.Run, Detail: fmt.Sprintf("its start did not come back within %s: what it is started from does not answer", k.patience)}
	k.handle(input{body: body, then: func(d []engine.Decision) { k.programs.answer(s.decision.Run, d) }})
}

// answer tells who has asked for a start how it turned out.
func (p *programs) answer(run int64, decisions []engine.Decision) {
	if tell := p.asked[run]; tell != nil {
		delete(p.asked, run)
		tell(decisions)
	}
}

// hanging is how many starts do not come back.
func (p *programs) hanging() int {
	n := 0
	for _, c := range p.late {
		n += c
	}
	return n
}

// stop sends a signal to a program, or lets it wait for the program to start.
func (p *programs) stop(k *Keeper, d *engine.Decision) {
	now, ok := p.running[d.Run]
	switch {
	case !ok:
	case now.process == nil:
		now.signal = d.Signal
		p.running[d.Run] = now
	default:
		k.end(now.process, d.Signal, d.Gate, d.Run)
	}
}

// end ends a program's processes, which are looked up for that.
func (k *Keeper) end(p workstation.Process, signal, name string, run int64) {
	go func() {
		if err := p.End(signal); err != nil {
			k.log.Error("a program could not be ended", "gate", name, "run", run, "error", err)
		}
	}()
}

// done reports the end of a run, after that it has begun.
func (k *Keeper) done(run int64, g *gate.Gate, told <-chan struct{}) func(workstation.Exit) {
	return func(x workstation.Exit) {
		ended := calendar.InstantOf(k.now())
		readings := k.readings(g)
		os.Remove(k.home.ChangedFiles(run)) // there only where something had changed
		select {
		case <-told:
		case <-k.gone: // the next keeper will find it ended
			return
		}
		var body engine.Body = &engine.RunEnded{Run: run, EndedAt: ended, Exit: x.Status, Signal: x.Signal, Usage: x.Usage, Readings: readings}
		if x.Lost {
			body = &engine.RunLost{Run: run, Why: engine.LostStatus, Used: x.Usage}
		}
		handled := make(chan struct{})
		k.post(input{body: body, then: func([]engine.Decision) { close(handled) }})
		select {
		case <-handled:
		case <-k.gone:
		}
	}
}

// readings takes what a gate wants to be measured, as far as that answers.
func (k *Keeper) readings(g *gate.Gate) map[string]int64 {
	if g == nil || len(g.Only.Readings) == 0 {
		return nil
	}
	type reading struct {
		name  string
		value int64
		err   error
	}
	answers := make(chan reading, len(g.Only.Readings))
	for _, name := range g.Only.Readings {
		go func() {
			n, err := k.ws.Reading(name)
			answers <- reading{name, n, err}
		}()
	}
	out := map[string]int64{}
	late := time.After(readingPatience)
	for range g.Only.Readings {
		select {
		case r := <-answers:
			if r.err != nil {
				k.log.Warn("a reading cannot be taken", "gate", g.Name, "reading", r.name, "error", r.err)
				continue
			}
			out[r.name] = r.value
		case <-late:
			k.log.Warn("a reading does not come back", "gate", g.Name, "readings", strings.Join(g.Only.Readings, ", "))
			return out
		}
	}
	return out
}

// adoptAll goes on watching the programs that earlier keepers started. It
// returns the runs of which nothing is there any more. Where a search does not
// come back in time, its run counts as alive until it does.
func (k *Keeper) adoptAll(ctx context.Context) (lost []int64) {
	type found struct {
		run engine.AliveRun
		p   workstation.Process
		g   *gate.Gate
	}
	alive := k.engine.AliveRuns()
	results := make(chan found, len(alive))
	told := make(chan struct{}) // closed once the engine was told of the begin
	for _, r := range alive {
		g := gate.Default(r.Gate)
		if f, ok := k.files[r.Gate]; ok {
			g = f.Gate
		}
		go func() { results <- found{r, k.adopt(r, g, told), g} }()
		k.programs.running[r.ID] = program{gate: r.Gate}
	}
	tell := func(f found) engine.Body {
		if f.p == nil {
			delete(k.programs.running, f.run.ID)
			return &engine.RunLost{Run: f.run.ID, Why: engine.LostMeanwhile}
		}
		if waits := k.programs.running[f.run.ID].signal; waits != "" {
			k.end(f.p, waits, f.run.Gate, f.run.ID)
		}
		k.programs.running[f.run.ID] = program{gate: f.run.Gate, process: f.p}
		if f.run.PID == 0 {
			return &engine.RunStarted{Run: f.run.ID, PID: f.p.PID()}
		}
		return nil
	}
	late := time.After(adoptPatience)
	for n := range alive {
		select {
		case f := <-results:
			switch body := tell(f).(type) {
			case *engine.RunLost:
				lost = append(lost, body.Run)
			case *engine.RunStarted:
				go k.post(input{body: body})
			}
			continue
		case <-late:
		case <-ctx.Done():
		}
		k.log.Warn("some programs cannot be looked for yet", "runs", len(alive)-n)
		go func() {
			for range len(alive) - n {
				f := <-results
				k.post(input{do: func() {
					if body := tell(f); body != nil {
						k.handle(input{body: body})
					}
				}})
			}
		}()
		break
	}
	go k.post(input{do: func() { close(told) }})
	return lost
}

// adopt looks for one program. It may block.
func (k *Keeper) adopt(r engine.AliveRun, g *gate.Gate, told <-chan struct{}) workstation.Process {
	o := workstation.Order{Run: r.ID, Mark: launch.Mark(k.home, r.ID), Output: workstation.Output{Path: k.home.Output(r.ID), Keep: g.Limits.Output}}
	o.Done = k.done(r.ID, g, told)
	return k.ws.Adopt(o, r.PID)
}
