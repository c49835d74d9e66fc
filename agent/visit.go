package agent

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"math"
	"os"
	"time"

	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/home"
	"timegate/launch"
	"timegate/workstation"
)

// Visit does something once with an account's rights, by an agent that has
// nothing to do with a keeper's. Root alone can do it for another account.
type Visit struct {
	agent  *Agent
	crew   *Crew
	folder string
	events chan Event
}

// NewVisit begins a visit. What the programs that are started print is passed to
// show.
func NewVisit(scope gate.Scope, account string, show func([]byte)) (*Visit, error) {
	folder, err := os.MkdirTemp("", "timegate-")
	if err != nil {
		return nil, err
	}
	v := &Visit{folder: folder, events: make(chan Event, 8)}
	h := home.At(folder, scope)
	err = h.Prepare()
	var secret home.Secret
	if err == nil {
		secret, err = h.Secret()
	}
	if err != nil {
		os.RemoveAll(folder)
		return nil, err
	}
	v.crew = NewCrew(h, secret, slog.New(slog.DiscardHandler), func(ev Event) { v.events <- ev })
	v.crew.show = show
	v.agent = v.crew.Of(account)
	return v, nil
}

// Close ends the visit.
func (v *Visit) Close() {
	v.crew.Close()
	os.RemoveAll(v.folder)
}

// visitPatience is how long an account's files may take to answer.
const visitPatience = 15 * time.Second

// Read reads a plain file, up to so many bytes, and tells its mode.
func (v *Visit) Read(ctx context.Context, path string, most int64) ([]byte, fs.FileMode, error) {
	ctx, cancel := context.WithTimeout(ctx, visitPatience)
	defer cancel()
	c, err := v.agent.read(ctx, path, most)
	if errors.Is(err, context.DeadlineExceeded) {
		v.agent.mu.Lock()
		defer v.agent.mu.Unlock()
		if v.agent.err != nil {
			return nil, 0, v.agent.err
		}
		return nil, 0, errors.New("what it lies on does not answer")
	}
	return c.Data, fs.FileMode(c.Mode) & fs.ModePerm, err
}

// theRun is the number of a visit's run.
const theRun = 1

// Start starts a gate's program; done is called with its end. Its error says
// why it was not started.
func (v *Visit) Start(ctx context.Context, g *gate.Gate, d engine.Decision, done func(workstation.Exit)) (note string, err error) {
	d.Run = theRun
	limits := g.Limits
	limits.Output = math.MaxInt64 / 4 // it is shown, and not kept
	v.agent.Prepare(&Job{Run: theRun, Mark: v.crew.Mark(theRun), Decision: d, Days: g.DaysFiles(),
		Gate: gate.Gate{Name: g.Name, Run: g.Run, Folder: g.Folder, As: g.As, Limits: limits}})
	v.agent.Start(theRun)
	for {
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case ev := <-v.events:
			switch b := ev.Body.(type) {
			case *engine.StartFailed:
				return "", errors.New(b.Detail)
			case *engine.StartUnsafe:
				return "", &launch.UnsafeError{Hazard: b.Hazard}
			case *engine.RunStarted:
				go v.await(done)
				return b.Note, nil
			}
		}
	}
}

// await waits for the end of the program.
func (v *Visit) await(done func(workstation.Exit)) {
	for ev := range v.events {
		switch b := ev.Body.(type) {
		case *engine.RunEnded:
			done(workstation.Exit{Status: b.Exit, Signal: b.Signal, Usage: b.Usage})
			return
		case *engine.RunLost:
			done(workstation.Exit{Lost: true})
			return
		}
	}
}

// End sends TERM or KILL to the program's processes.
func (v *Visit) End(signal string) error {
	v.agent.End(theRun, signal)
	return nil
}
