package keeper

import (
	"context"
	"fmt"
	"os"
	"slices"
	"time"

	"timegate/agent"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/journal"
	"timegate/workstation"
)

// programs are those that run, or are being started.
type programs struct {
	running map[int64]*program
	late    map[string]int                    // starts of a gate that have not come back within their deadline
	asked   map[int64]func([]engine.Decision) // who wants to know how a start turned out
	over    []ended                           // whose end is not recorded yet
	// starting is how many are being started.
	starting int
}

// program is one that runs, or is being started.
type program struct {
	gate     string
	agent    *agent.Agent
	readings []string
	timer    *time.Timer // gives its start up; nil once it has started
	let      func()      // lets a staged clock run fast again
}

// ended is a program that has ended, and its agent.
type ended struct {
	agent *agent.Agent
	run   int64
}

// How long a start may take until the keeper goes on without it, and how long
// the programs of an earlier keeper are waited for.
const (
	startPatience = 20 * time.Second
	adoptLeast    = 200 * time.Millisecond
	adoptMost     = 2 * time.Second
)

// mostLate is how many starts may hang at a time, of all gates.
const mostLate = 256

// holder is a workstation whose clock keeps real time while something is held,
// so that a fast one does not run away from what is being done.
type holder interface{ Hold() (let func()) }

// prepareStarts lets agents prepare what was decided to start. They go on when
// that is committed.
func (k *Keeper) prepareStarts(records []journal.Record) map[int64]*program {
	var out map[int64]*program
	for i := range records {
		for _, d := range records[i].Decisions {
			if !d.Starts() || k.programs.late[d.Gate] > 0 || k.programs.hanging() >= mostLate {
				continue
			}
			f, ok := k.files[d.Gate]
			if !ok {
				continue // it is being removed
			}
			g := f.Gate
			p := &program{gate: d.Gate, agent: k.crew.Of(g.Account()), readings: g.Measure, let: func() {}}
			if m, ok := k.ws.(holder); ok {
				p.let = m.Hold()
			}
			if out == nil {
				out = map[int64]*program{}
			}
			out[d.Run] = p
			p.agent.Prepare(k.job(g, &d))
		}
	}
	return out
}

// job is what an agent needs to know of a start.
func (k *Keeper) job(g *gate.Gate, d *engine.Decision) *agent.Job {
	j := &agent.Job{Run: d.Run, Mark: k.crew.Mark(d.Run), Decision: *d, Days: g.DaysFiles(),
		Rest: restOf(g), Longest: g.Limits.Longest, Grace: g.Limits.Grace,
		Gate: gate.Gate{Name: g.Name, Run: g.Run, Folder: g.Folder, As: g.As, Limits: g.Limits, Measure: g.Measure}}
	if d.Cause != nil {
		j.Files = d.Cause.Files
	}
	if list, told := k.ws.Sessions(-1); told && g.As.Desktop {
		j.Sessions, j.Told = list, true
		var own []workstation.Session
		if k.home.Scope == gate.User { // the system's keeper is on nobody's desktop
			own, _ = k.ws.Sessions(os.Getuid())
		}
		for _, s := range own {
			if !slices.ContainsFunc(list, func(o workstation.Session) bool { return o.UID == s.UID }) {
				j.Sessions = append(j.Sessions, s)
			}
		}
	}
	return j
}

// restOf is how long what a program leaves behind has to end; 0 where it may go on.
func restOf(g *gate.Gate) time.Duration {
	if !g.Limits.EndsLeftovers() {
		return 0
	}
	return max(g.Limits.Grace, time.Millisecond)
}

// start lets an agent start what it has prepared, unless the decision could not
// be recorded.
func (k *Keeper) start(d *engine.Decision, p *program, unrecorded error) []input {
	failed := func(detail string) []input {
		return []input{{body: &engine.StartFailed{Run: d.Run, Detail: detail}, then: func(after []engine.Decision) { k.programs.answer(d.Run, after) }}}
	}
	if _, ok := k.files[d.Gate]; p == nil && !ok {
		return failed("its gate was removed at that moment")
	}
	if p == nil {
		return failed("an earlier start of it hangs: what it is started from does not answer")
	}
	if unrecorded != nil && !k.settings.StartUnrecorded {
		p.agent.Drop(d.Run)
		p.let()
		return failed(fmt.Sprintf("nothing is started: since %s the journal cannot be written: %v", k.recorder.since.In(k.ws.Zone().Location()).Format(time.TimeOnly), unrecorded))
	}
	k.programs.running[d.Run] = p
	k.programs.starting++
	p.timer = time.AfterFunc(k.patience, func() { k.post(input{do: func() { k.startLate(d.Run, p) }}) })
	p.agent.Start(d.Run)
	return nil
}

// startLate gives up a start that does not come back.
func (k *Keeper) startLate(run int64, p *program) {
	if k.programs.running[run] != p || p.timer == nil {
		return
	}
	k.programs.begun(p)
	k.programs.late[p.gate]++
	p.agent.Abandon(run, func() { k.post(input{do: func() { k.cameBack(p) }}) })
	k.log.Warn("a start does not come back", "gate", p.gate, "run", run, "after", k.patience)
	p.let()
	body := &engine.StartFailed{Run: run, Detail: fmt.Sprintf("its start did not come back within %s: what it is started from does not answer", k.patience)}
	k.handle(input{body: body, then: func(d []engine.Decision) { k.programs.answer(run, d) }})
}

// cameBack notes that a start that was given up is over.
func (k *Keeper) cameBack(p *program) {
	if k.programs.late[p.gate]--; k.programs.late[p.gate] <= 0 {
		delete(k.programs.late, p.gate)
	}
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

// stop sends a signal to a program; one that is being started gets it then.
func (p *programs) stop(d *engine.Decision) {
	if now := p.running[d.Run]; now != nil {
		now.agent.End(d.Run, d.Signal)
	}
}

// hear takes what an agent tells. It is called on the agent's goroutine.
func (k *Keeper) hear(ev agent.Event) {
	switch b := ev.Body.(type) {
	case nil:
		k.post(input{found: ev.Found, do: func() {
			if ev.Found == 0 {
				k.handle(input{body: &engine.FactsChanged{Facts: k.facts()}})
			}
		}})
	case *engine.Occurred:
		if isDays(b.Name) {
			k.post(input{do: func() { k.reload(nil) }})
			return
		}
		k.post(input{body: b})
	case *engine.RunStarted:
		b.StartedAt = calendar.InstantOf(k.now().Add(-time.Duration(ev.Ago) * time.Millisecond))
		b.Readings = k.staged(b.Readings)
		k.post(input{body: b, more: ev.Over, then: func(d []engine.Decision) { k.started(b.Run, ev.Agent, d) }})
	case *engine.RunEnded:
		b.EndedAt = calendar.InstantOf(k.now().Add(-time.Duration(ev.Ago) * time.Millisecond))
		b.Readings = k.staged(b.Readings)
		k.post(input{body: b, then: func([]engine.Decision) {
			k.ended(b.Run, ev.Agent, nil)
			k.printed(b.Usage.Output - b.Usage.Dropped)
		}})
	case *engine.RunLost:
		k.post(input{body: b, then: func([]engine.Decision) { k.ended(b.Run, ev.Agent, nil) }})
	case *engine.StartFailed:
		k.log.Warn("a program could not be started", "run", b.Run, "error", b.Detail)
		k.post(input{body: b, then: func(d []engine.Decision) { k.ended(b.Run, ev.Agent, d) }})
	case *engine.StartUnsafe:
		k.post(input{body: b, then: func(d []engine.Decision) { k.ended(b.Run, ev.Agent, d) }})
	}
}

// staged returns readings with those that the machine tells otherwise.
func (k *Keeper) staged(readings map[string]float64) map[string]float64 {
	for name := range readings {
		if n, told := k.ws.Reading(name); told {
			readings[name] = float64(n)
		}
	}
	return readings
}

// started notes that a program has started. One that was given up is ended.
func (k *Keeper) started(run int64, a *agent.Agent, d []engine.Decision) {
	p := k.programs.running[run]
	if p == nil {
		a.End(run, "KILL")
		return
	}
	k.programs.begun(p)
	k.programs.answer(run, d)
}

// begun notes that a program is not being started any more.
func (p *programs) begun(one *program) {
	if one.timer != nil {
		one.timer.Stop()
		one.timer = nil
		p.starting--
	}
}

// ended notes that nothing more will come of a run.
func (k *Keeper) ended(run int64, a *agent.Agent, d []engine.Decision) {
	if p := k.programs.running[run]; p != nil {
		k.programs.begun(p)
		delete(k.programs.running, run)
		p.let()
	}
	if d != nil {
		k.programs.answer(run, d)
	}
	k.programs.over = append(k.programs.over, ended{a, run})
	k.forget()
}

// forget lets agents forget what is recorded.
func (k *Keeper) forget() {
	if k.recorder.err != nil {
		return
	}
	for _, e := range k.programs.over {
		e.agent.Forget(e.run)
	}
	k.programs.over = nil
}

// adoptFor is how long a beginning keeper waits for its agents to tell what became of runs:
// not beyond what is due next of gates of which nothing ran, since one agent that does not
// answer must not make others' programs late. A gate whose run is looked for waits for that:
// whether its moment is skipped depends on it.
func (k *Keeper) adoptFor(s *engine.State) time.Duration {
	if next, ok := s.NextDue(); ok && !k.ws.Staged() {
		return min(max(next.Time().Sub(k.now()), adoptLeast), adoptMost)
	}
	return adoptMost
}

// resume lets the agents take up the runs of an earlier keeper, and puts what
// they tell of them into its first event; what comes later is told like
// anything else. It returns what came beside that.
func (k *Keeper) resume(ctx context.Context, s *engine.State, b *engine.Begin) (rest []input) {
	pending := map[int64]bool{}
	byAccount := map[string][]agent.Alive{}
	for _, r := range k.engine.AliveRuns() {
		g := gate.Default(r.Gate)
		if f, ok := k.files[r.Gate]; ok {
			g = f.Gate
		}
		byAccount[r.As] = append(byAccount[r.As], agent.Alive{Run: r.ID, Mark: k.crew.Mark(r.ID), PID: r.PID, Born: r.Born, Keep: g.Limits.Output, Readings: g.Measure, Rest: restOf(g), Signal: r.Signal()})
		pending[r.ID] = true
		k.programs.running[r.ID] = &program{gate: r.Gate, readings: g.Measure, let: func() {}}
		if m, ok := k.ws.(holder); ok {
			k.programs.running[r.ID].let = m.Hold()
		}
	}
	for account, list := range byAccount {
		a := k.crew.Resume(account, list)
		for _, r := range list {
			k.programs.running[r.Run].agent = a
		}
	}
	late := time.After(k.adoptFor(s))
	for len(pending) > 0 {
		select {
		case in := <-k.inbox:
			switch body := in.body.(type) {
			case *engine.RunEnded:
				b.Ended = append(b.Ended, *body)
				delete(pending, body.Run)
				rest = append(rest, input{do: func() { in.then(nil) }})
				continue
			case *engine.RunLost:
				b.Lost = append(b.Lost, body.Run)
				delete(pending, body.Run)
				rest = append(rest, input{do: func() { in.then(nil) }})
				continue
			case *engine.RunStarted:
				if !in.more {
					delete(pending, body.Run)
				}
			case *engine.StartFailed:
				delete(pending, body.Run)
			case *engine.StartUnsafe:
				delete(pending, body.Run)
			}
			delete(pending, in.found)
			rest = append(rest, in)
		case <-late:
			k.log.Warn("some programs cannot be looked for yet", "runs", len(pending))
			return rest
		case <-ctx.Done():
			return rest
		}
	}
	return rest
}
