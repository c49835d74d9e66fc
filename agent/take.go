package agent

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/core/words"
	"timegate/home"
	"timegate/workstation"
)

// take handles what the agent tells. Its error ends the agent.
func (a *Agent) take(rep *report) error {
	if !a.pace.Allow() {
		a.pace.Wait(context.Background())
	}
	switch {
	case rep.Started != nil:
		return a.takeStarted(rep.Started)
	case rep.Failed != nil:
		rep.Failed.Detail = clip(rep.Failed.Detail)
		return a.takeOver(rep.Failed.Run, rep.Failed)
	case rep.Unsafe != nil:
		h := &rep.Unsafe.Hazard
		h.Code, h.Message, h.Remedy = clip(h.Code), clip(h.Message), clip(h.Remedy)
		return a.takeOver(rep.Unsafe.Run, rep.Unsafe)
	case rep.Skipped != nil:
		if r := a.run(rep.Skipped.Run); r != nil && rep.Skipped.Bytes > 0 {
			a.outputOf(r).Skip(rep.Skipped.Bytes)
		}
	case rep.Ended != nil:
		return a.takeEnded(rep.Ended)
	case rep.Lost != nil:
		return a.takeOver(rep.Lost.Run, &engine.RunLost{Run: rep.Lost.Run, Why: rep.Lost.Why, Used: rep.Lost.Usage})
	case rep.Notice != nil:
		a.takeNotice(rep.Notice)
	case rep.Places != nil:
		a.takePlaces(rep.Places)
	case rep.Content != nil:
		a.mu.Lock()
		answer := a.asked[rep.Content.ID]
		delete(a.asked, rep.Content.ID)
		a.mu.Unlock()
		if answer != nil {
			answer <- *rep.Content
		}
	case rep.Troubles != nil:
		a.takeTroubles(rep.Troubles)
	default:
		return fmt.Errorf("%w: nothing", errRule)
	}
	return nil
}

func (a *Agent) run(id int64) *keptRun {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.runs[id]
}

// outputOf returns the file of what a run prints. It is called by the goroutine
// that listens to the agent.
func (a *Agent) outputOf(r *keptRun) *home.Output {
	if r.out == nil {
		if r.resumed {
			r.out = a.crew.home.ResumeOutput(r.alive.Run, r.alive.Keep)
		} else {
			r.out = a.crew.home.NewOutput(r.alive.Run, r.alive.Keep)
		}
	}
	return r.out
}

// takePrinted takes what a run has printed.
func (a *Agent) takePrinted(id int64, b []byte) {
	if !a.volume.AllowN(time.Now(), len(b)) {
		a.volume.WaitN(context.Background(), len(b))
	}
	r := a.run(id)
	switch {
	case r == nil:
	case a.crew.show != nil:
		a.crew.show(b)
		r.shown += int64(len(b))
		a.have(id, r.shown)
	default:
		out := a.outputOf(r)
		out.Keep(b)
		a.have(id, out.Received())
	}
}

// have tells the agent how much of a run's output is there.
func (a *Agent) have(run, bytes int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.send(request{Have: &printed{run, bytes}})
}

// received is how much of their output there is, of the runs that have begun.
func (a *Agent) received() map[int64]int64 {
	a.mu.Lock()
	list := slices.Collect(maps.Values(a.runs))
	a.mu.Unlock()
	out := map[int64]int64{}
	for _, r := range list {
		if r.resumed || r.out != nil {
			out[r.alive.Run] = a.outputOf(r).Received()
		}
	}
	return out
}

func (a *Agent) takeStarted(s *started) error {
	a.mu.Lock()
	r := a.runs[s.Run]
	if r == nil { // given up, or none of ours
		if a.given[s.Run] != nil || !a.crew.isFresh() {
			a.send(request{End: &ending{s.Run, "KILL"}})
		}
		a.mu.Unlock()
		a.cameBack(s.Run)
		return nil
	}
	first := !r.started
	if !r.sent {
		a.mu.Unlock()
		return fmt.Errorf("%w: a run that was not to start", errRule)
	}
	r.started, r.job, r.alive.PID, r.alive.Born = true, nil, s.PID, s.Born
	a.mu.Unlock()
	if first {
		a.outputOf(r)
		a.crew.tell(Event{Agent: a, Ago: max(s.Ago, 0), Over: s.Over, Body: &engine.RunStarted{Run: s.Run, PID: s.PID, Born: s.Born, Note: clip(s.Note), Readings: only(s.Readings, r.alive.Readings)}})
	} else if r.resumed && !s.Over {
		a.crew.tell(Event{Agent: a, Found: s.Run})
	}
	return nil
}

func (a *Agent) takeEnded(e *ended) error {
	r := a.run(e.Run)
	if r == nil {
		a.Forget(e.Run)
		return nil
	}
	if !r.started {
		return fmt.Errorf("%w: the end of a run that had not started", errRule)
	}
	body := &engine.RunEnded{Run: e.Run, Exit: e.Exit & 0xff, Signal: signalOf(e.Signal), Usage: e.Usage, Readings: only(e.Readings, r.alive.Readings), Overran: e.Overran, Unfound: clip(oneLine(e.Unfound))}
	body.Usage.Output, body.Usage.Dropped = a.outputOf(r).End()
	a.crew.tell(Event{Agent: a, Body: body, Ago: max(e.Ago, 0)})
	return nil
}

// takeOver handles that a run is over of which nobody saw how it ended, or
// that did not start.
func (a *Agent) takeOver(id int64, body engine.Body) error {
	r := a.run(id)
	if r == nil {
		a.Forget(id)
		a.cameBack(id)
		return nil
	}
	if b, ok := body.(*engine.RunLost); ok {
		if b.Why != engine.LostStatus {
			b.Why = engine.LostMeanwhile
		}
		if r.started {
			b.Used.Output, b.Used.Dropped = a.outputOf(r).End()
		}
	}
	a.crew.tell(Event{Agent: a, Body: body})
	return nil
}

func (a *Agent) takeNotice(n *notice) {
	a.mu.Lock()
	w, wanted := a.kinds[n.Key]
	a.mu.Unlock()
	if !wanted {
		return // it was, a moment ago, or never
	}
	a.notices.Wait(context.Background())
	b := &engine.Occurred{Event: w.Event.Kind, Name: n.Key, Subject: oneLine(n.Subject), Text: oneLine(n.Text), Count: max(n.Count, 0)}
	if !n.Missed.IsZero() && w.Event.Kind == phrase.Change {
		b.Missed = calendar.InstantOf(n.Missed)
	}
	for _, f := range n.Files[:min(len(n.Files), filesMost)] {
		if strings.HasPrefix(f, "/") && len(f) < textMost*2 && !strings.Contains(f, "\x00") {
			b.Files = append(b.Files, f)
		}
	}
	a.crew.tell(Event{Agent: a, Body: b})
}

func (a *Agent) takePlaces(p *places) {
	a.mu.Lock()
	var there []string
	for _, w := range a.wants.Places {
		if slices.Contains(p.There[:min(len(p.There), placesMost)], w.Name) {
			there = append(there, w.Name)
		}
	}
	changed := !slices.Equal(there, a.there)
	a.there = there
	if p.Known {
		a.settle()
	}
	a.mu.Unlock()
	if changed {
		a.notices.Wait(context.Background())
		a.crew.tell(Event{Agent: a})
	}
}

func (a *Agent) takeTroubles(list []workstation.Trouble) {
	const most = 100
	a.mu.Lock()
	defer a.mu.Unlock()
	a.troubles = nil
	for _, t := range list[:min(len(list), most)] {
		a.troubles = append(a.troubles, workstation.Trouble{What: clip(t.What), Why: clip(t.Why)})
	}
}

// oneLine bounds a text that programs are told as it is, as one line.
func oneLine(s string) string {
	return cut(strings.NewReplacer("\x00", "?", "\n", " ", "\r", " ").Replace(s))
}

// clip bounds a text of an agent that people read.
func clip(s string) string { return cut(words.Line(s)) }

func cut(s string) string {
	if len(s) <= textMost {
		return s
	}
	s = s[:textMost]
	for !utf8.ValidString(s) && len(s) > textMost-utf8.UTFMax {
		s = s[:len(s)-1]
	}
	return s
}

// only returns the readings that were asked for.
func only(readings map[string]float64, names []string) map[string]float64 {
	if len(names) == 0 {
		return nil
	}
	out := map[string]float64{}
	for _, name := range names {
		if n, ok := readings[name]; ok {
			out[name] = n
		}
	}
	return out
}

// signalOf returns the name of a signal if it can be one.
func signalOf(name string) string {
	const longest = 12
	if len(name) > longest || strings.ContainsFunc(name, func(r rune) bool { return (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '+' }) {
		return "KILL"
	}
	return name
}
