package keeper

import (
	"context"
	"errors"
	"maps"
	"os"
	"slices"
	"time"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/words"
	"timegate/gates"
	"timegate/journal"
)

// What the control socket asks is answered on the keeper's goroutine, between
// two events.

var _ control.Keeper = (*Keeper)(nil)

// ask calls f on the keeper's goroutine.
func (k *Keeper) ask(ctx context.Context, f func()) error {
	done := make(chan struct{})
	select {
	case k.inbox <- input{do: func() { f(); close(done) }}:
	case <-k.gone:
		return control.ErrEnding
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case <-done:
		return nil
	case <-k.gone:
		return control.ErrEnding
	}
}

// Status implements [control.Keeper].
func (k *Keeper) Status(ctx context.Context) (s control.Status, err error) {
	err = k.ask(ctx, func() { s = k.status() })
	return s, err
}

// Files implements [control.Keeper].
func (k *Keeper) Files(ctx context.Context) (files map[string]gates.File, err error) {
	err = k.ask(ctx, func() { files = maps.Clone(k.files) })
	return files, err
}

// ReadFile implements [control.Keeper].
func (k *Keeper) ReadFile(name string) gates.File {
	return gates.ReadFileAs(k.home, name, gates.Env(k.here(k.ws.Zone()), k.ws.Zone()), k.readAs)
}

// Journal implements [control.Keeper].
func (k *Keeper) Journal(account string, all bool) (*journal.Journal, error) {
	if all {
		return k.journal.Reader()
	}
	return k.journal.Viewer(account)
}

// Hub implements [control.Keeper].
func (k *Keeper) Hub() *control.Hub { return k.hub }

// Command implements [control.Keeper]. A file that was written a moment ago
// counts, if the folder answers.
func (k *Keeper) Command(ctx context.Context, c control.Command) (control.Answer, error) {
	if c.Verb == control.Restart || c.Verb == control.Finish {
		return control.Answer{Known: true}, k.ask(ctx, func() {
			k.again = c.Verb == control.Restart
			k.endLoop()
		})
	}
	answers := make(chan control.Answer, 1)
	answer := func(a control.Answer) { answers <- a }
	err := k.ask(ctx, func() {
		if c.Verb == control.Pause || c.Verb == control.Resume {
			k.obey(c, answer)
			return
		}
		k.reload(func() {
			if c.Verb == control.Reload {
				answer(control.Answer{Known: true})
				return
			}
			k.obey(c, answer)
		})
	})
	if err != nil {
		return control.Answer{}, err
	}
	select {
	case a := <-answers:
		return a, nil
	case <-ctx.Done():
		return control.Answer{}, ctx.Err()
	case <-k.gone:
		return control.Answer{}, control.ErrEnding
	}
}

// stager is a workstation on which events can be staged.
type stager interface{ Stage(words []string) error }

// Stage implements [control.Keeper].
func (k *Keeper) Stage(words []string) error {
	machine, ok := k.ws.(stager)
	if !ok {
		return errors.New("this keeper keeps a real machine, on which nothing is staged")
	}
	return machine.Stage(words)
}

// obey turns a command into an event.
func (k *Keeper) obey(c control.Command, answer func(control.Answer)) {
	if c.Verb == control.Open || c.Verb == control.Stop {
		if _, ok := k.engine.Status(c.Gate); !ok {
			a := control.Answer{}
			if found := k.broken[c.Gate]; len(found) > 0 {
				a.Error = found.Error()
			}
			answer(a)
			return
		}
	}
	concerns := k.concernedBy(c)
	k.handle(input{body: bodyOf(c), then: func(decisions []engine.Decision) {
		a := control.Answer{Known: c.Verb != control.Send || len(concerns) > 0}
		// What else was due at that moment, or at that at which a start came back, is no answer.
		others := func(d engine.Decision) bool { return concerns != nil && !concerns[d.Gate] }
		decisions = slices.DeleteFunc(slices.Clone(decisions), others)
		add := func(list []engine.Decision) {
			for i := range list {
				if others(list[i]) {
					continue
				}
				a.Decisions = append(a.Decisions, control.NewDecision(&list[i]))
			}
		}
		add(decisions)
		open := 0
		for _, d := range decisions {
			if d.Starts() {
				open++
				k.programs.asked[d.Run] = func(after []engine.Decision) {
					add(after)
					if open--; open == 0 {
						answer(a)
					}
				}
			}
		}
		if open == 0 {
			answer(a)
		}
	}})
}

// concernedBy returns the gates that a command is about; nil for all.
func (k *Keeper) concernedBy(c control.Command) map[string]bool {
	switch c.Verb {
	case control.Open, control.Stop:
		return map[string]bool{c.Gate: true}
	case control.Send:
		gates := map[string]bool{}
		for name, f := range k.files {
			for i := range f.Gate.Opens {
				o := &f.Gate.Opens[i]
				if e := &o.Plan.Phrase.Event; e.Kind == phrase.Signal && e.Name == c.Name && f.Gate.Active(o, k.ws.Host()) {
					gates[name] = true
				}
			}
		}
		return gates
	}
	return nil
}

func bodyOf(c control.Command) engine.Body {
	switch c.Verb {
	case control.Open:
		return &engine.OpenAsked{Gate: c.Gate}
	case control.Stop:
		return &engine.StopAsked{Gate: c.Gate}
	case control.Send:
		return &engine.SignalSent{Name: c.Name}
	case control.Resume:
		return &engine.ResumeAsked{}
	}
	b := &engine.PauseAsked{}
	if c.Until != nil {
		b.Until = calendar.InstantOf(*c.Until)
	}
	return b
}

func (k *Keeper) status() control.Status {
	s := control.Status{PID: os.Getpid(), Version: k.version, Began: k.began, Now: k.now(), Zone: k.ws.Zone().Name(), Staged: k.ws.Staged(),
		Running: k.engine.Alive(), Gates: map[string]control.GateStatus{}, Broken: gate.Findings{},
		Troubles: []control.Trouble{}, Last: k.hub.Last()}
	if m, ok := k.ws.(interface{ Asleep() bool }); ok {
		s.Asleep = m.Asleep()
	}
	facts := k.facts()
	s.Facts = control.NewFacts(&facts)
	for _, t := range k.troubles() {
		s.Troubles = append(s.Troubles, control.Trouble(t))
	}
	paused, since, until := k.engine.Paused()
	if s.Paused = paused; paused {
		s.PausedAt, s.PauseUntil = timeOf(since), timeOf(until)
	}
	for name := range k.files {
		st, _ := k.engine.Status(name)
		next := timeOf(st.Next)
		told := control.GateStatus{Version: k.files[name].Version, Next: next, Opening: st.Opening, Running: st.Running, Waiting: words.Waiting(st.Waiting, st.Need)}
		if st.Lacks != nil {
			told.Lacks = words.Need(st.Lacks)
		}
		s.Gates[name] = told
		if next != nil && (s.Next == nil || next.Before(*s.Next)) {
			s.Next = next
		}
	}
	for _, found := range k.broken {
		s.Broken = append(s.Broken, found...)
	}
	return s
}

// timeOf returns an instant as a time, and nil for none.
func timeOf(at calendar.Instant) *time.Time {
	if at == 0 {
		return nil
	}
	t := at.Time()
	return &t
}
