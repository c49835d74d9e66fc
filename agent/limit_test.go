//go:build linux

package agent

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/home"
	"timegate/workstation"
	"timegate/workstation/wstest"
)

// TestLimitAlone: while no keeper is there, an agent ends what takes longer than it may, as
// the next one is told.
func TestLimitAlone(t *testing.T) {
	t.Parallel()
	c, events := crew(t)
	a := c.Of("")
	for run, script := range []string{"exec sleep 600", `trap "" TERM; while :; do sleep 0.05; done`, "exec sleep 600"} {
		j := job(int64(run+1), wstest.Script(t, script))
		if run < 2 {
			j.Longest, j.Grace = 300*time.Millisecond, 200*time.Millisecond
		}
		a.Prepare(j)
		a.Start(j.Run)
		next[*engine.RunStarted](t, events)
	}
	var runs []Alive
	a.mu.Lock()
	for run := range int64(3) {
		runs = append(runs, a.runs[run+1].alive)
	}
	a.mu.Unlock()
	c.Close()
	for _, r := range runs[:2] {
		wstest.Await(t, "the end of what takes too long", func() bool { return syscall.Kill(r.PID, 0) != nil })
	}
	second := NewCrew(c.home, home.Secret("larkspur"), slog.New(slog.DiscardHandler), func(ev Event) { events <- ev })
	defer second.Close()
	second.Resume("", runs)
	for range 2 {
		e := next[*engine.RunEnded](t, events)
		if want := map[int64]string{1: "TERM", 2: "KILL"}[e.Run]; !e.Overran || e.Signal != want {
			t.Errorf("ended %+v, want that it overran, by %s", e, want)
		}
		second.Of("").Forget(e.Run)
	}
	if err := syscall.Kill(runs[2].PID, 0); err != nil {
		t.Errorf("what may take any time has ended: %v", err)
	}
	second.Of("").End(3, "KILL")
	if e := next[*engine.RunEnded](t, events); e.Overran {
		t.Errorf("ended %+v", e)
	}
	second.Of("").Forget(3)
}

// slow is a starter that makes nothing ready before it is let.
type slow struct {
	workstation.Starter
	let chan struct{}
}

func (s slow) Ready(workstation.Order) (workstation.Ready, error) {
	<-s.let
	return nil, errors.New("too late")
}

func (slow) Adopt(workstation.Order, int, int64) workstation.Process { return nil }

// TestDroppedAndAskedFor: a run that was only prepared is let go with its keeper; the next
// one is told that it is lost, also when it asks before that is over.
func TestDroppedAndAskedFor(t *testing.T) {
	t.Parallel()
	s := &server{starter: slow{let: make(chan struct{})}, places: make(chan struct{}, mostReady), runs: map[int64]*run{}, kick: make(chan struct{}, 1), linked: true}
	s.prepare(job(1, "/bin/true"))
	s.mu.Lock()
	s.runs[1].drop() // its keeper has gone
	s.mu.Unlock()
	if g := s.greeting(); len(g.Runs) != 0 {
		t.Errorf("the next keeper is told that the agent holds %v", g.Runs)
	}
	s.adopt(&Alive{Run: 1, Mark: "mark"})
	close(s.starter.(slow).let)
	wstest.Await(t, "a word on the run", func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return s.runs[1] != nil && s.runs[1].lost != nil
	})
}

// TestWordsAreBounded: what an agent tells besides outputs is taken at a pace in bytes, and
// of what has changed only so much is kept, however long its names are.
func TestWordsAreBounded(t *testing.T) {
	var frames bytes.Buffer
	w := bufio.NewWriter(&frames)
	name := "/" + strings.Repeat("n", 4000)
	const notices, names = 90, 200
	for i := range notices {
		var files []string
		for j := range names {
			files = append(files, fmt.Sprintf("%s%d-%d", name, i, j))
		}
		if err := writeJSON(w, report{Notice: &notice{Key: "hers", Files: files}}); err != nil {
			t.Fatal(err)
		}
	}
	w.Flush()
	total := frames.Len()
	synctest.Test(t, func(t *testing.T) {
		var told int
		a := newAgent(&Crew{log: slog.New(slog.DiscardHandler), tell: func(e Event) {
			if o, is := e.Body.(*engine.Occurred); is {
				told += len(o.Files)
			}
		}}, "")
		a.kinds["hers"] = workstation.Watch{Key: "hers", Event: phrase.EventSpec{Kind: phrase.Change}}
		began := time.Now()
		if err := a.listen(&link{reader: bufio.NewReader(&frames)}); !errors.Is(err, io.EOF) {
			t.Fatal(err)
		}
		if least := time.Duration(float64(total-wordsBurst)/wordsRate*float64(time.Second)) - time.Second; time.Since(began) < least || told != notices*names {
			t.Errorf("%d bytes were taken within %v, want %v at least; %d names of %d", total, time.Since(began), least, told, notices*names)
		}
	})
}
