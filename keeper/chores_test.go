//go:build linux

package keeper

import (
	"fmt"
	"os"
	"testing"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/journal"
	"timegate/workstation/wstest"
)

// TestHistoryGoes: a keeper takes old history away as its settings say, in
// small steps; it and the next one decide as if it were all still there.
func TestHistoryGoes(t *testing.T) {
	t.Parallel()
	program := wstest.Script(t, "exit 0")
	h := homeWith(t,
		"job-board", gateText(program, `"signal proofs, 3 times"`),
		"vault-copy", gateText(program, `"every 2h after success"`),
		"paper-rota", gateText(program, `"signal proofs + 10h"`),
		"often", gateText(program, `"signal often"`, "[rules]", `busy = "beside"`))
	if err := os.WriteFile(h.Settings(), []byte("[keep]\nhistory = \"1ms\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	m := stagedAt(t, morning)
	k, c := keep(t, h, m), control.NewClient(h)
	send := func(name string, times int) {
		t.Helper()
		for range times {
			if _, err := c.Send(t.Context(), name); err != nil {
				t.Fatal(err)
			}
		}
	}
	k.ended("vault-copy") // its first run succeeds at once
	for range 2 {         // one after the other: one that is busy passes moments over
		send("proofs", 1)
		k.ended("job-board")
	}
	waits := next(t, c, "paper-rota")
	due := next(t, c, "vault-copy")
	send("often", 30)
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	j, err := journal.Open(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	if err := j.Checkpoint(); err != nil { // as a keeper does once a day
		t.Fatal(err)
	}
	j.Close()
	k = keep(t, h, m)
	left := func() int {
		j, err := journal.OpenReader(h.Journal())
		if err != nil {
			t.Fatal(err)
		}
		defer j.Close()
		list, err := j.History(journal.Filter{})
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	wstest.Await(t, "the old history to go", func() bool { return left() == 0 })
	if got := next(t, c, "paper-rota"); got != waits {
		t.Errorf("the start that waits is due %s, was %s", got, waits)
	}
	if got := next(t, c, "vault-copy"); got != due {
		t.Errorf("after its last good run it is due %s, was %s", got, due)
	}
	send("proofs", 2)
	if d := k.ended("job-board"); d.Run < 30 {
		t.Errorf("a run has the number %d once more", d.Run)
	}
	if a, err := c.Send(t.Context(), "proofs"); err != nil || len(a.Decisions) != 2 { // paper-rota alone: its start is put off
		t.Errorf("a fifth time: %+v, %v", a, err)
	}
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	var starts []string
	for _, d := range k.log {
		if d.Starts() {
			starts = append(starts, fmt.Sprint(d.Gate, " ", d.Due-calendar.InstantOf(morning)))
		}
	}
	if len(starts) != 1 {
		t.Errorf("of three times, two were used up: then started %v", starts)
	}
	if s := k.log[len(k.log)-1]; s.Result != engine.ResultOK {
		t.Errorf("the last: %+v", s)
	}
}

// TestStateIsNotAhead: what is kept of the state is never ahead of the events
// that are kept, also where changes of files, which may wait to be kept, come
// together with something that may not.
func TestStateIsNotAhead(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "proof-inbox", gateText("/bin/true", `"change in /srv/proofs quiet 1h"`))
	var keeper *Keeper
	keepWith(t, h, stagedAt(t, morning), func(k *Keeper) { keeper = k })
	handled := make(chan struct{})
	keeper.post(input{do: func() {
		defer close(handled)
		changed := func(name string) input {
			return input{body: &engine.Occurred{Event: phrase.Change, Name: "change in /srv/proofs", Files: []string{"/srv/proofs/" + name}}}
		}
		keeper.handle(changed("a")) // of the first, it is decided to wait
		keeper.handle(input{body: &engine.PauseAsked{}}, changed("b"))
	}})
	<-handled
	j, err := journal.Open(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	kept, _, err := j.State()
	if err != nil {
		t.Fatal(err)
	}
	from := replayed(t, j)
	moving := [2]int64{kept.Gates["proof-inbox"].Openings[0].Moving, from.Gates["proof-inbox"].Openings[0].Moving}
	if moving != [2]int64{2, 2} {
		t.Errorf("the files that are changing are %d in the state, and %d by the events, want 2", moving[0], moving[1])
	}
}
