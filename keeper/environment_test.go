//go:build linux

package keeper

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/home"
	"timegate/journal"
	"timegate/workstation"
	"timegate/workstation/staged"
	"timegate/workstation/wstest"
	"timegate/workstation/zones"
)

// stagedAt returns a staged machine whose clock keeps real time.
func stagedAt(t *testing.T, at time.Time) *staged.Machine {
	t.Helper()
	m, err := staged.New(staged.Options{At: at, Zone: calendar.UTC, BootID: "front-desk-1"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	return m
}

// next returns when a gate is next due.
func next(t *testing.T, c *control.Client, name string) string {
	t.Helper()
	s, err := c.Status(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if at := s.Gates[name].Next; at != nil {
		return at.Format(time.RFC3339)
	}
	return ""
}

// TestDaysChange: a file of days that is changed is a change of the gate that
// reads it; what is recorded of it can be played once more.
func TestDaysChange(t *testing.T) {
	t.Parallel()
	closed := filepath.Join(t.TempDir(), "closed")
	write := func(text string) {
		t.Helper()
		tmp := closed + ".new"
		if err := os.WriteFile(tmp, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(tmp, closed); err != nil {
			t.Fatal(err)
		}
	}
	write("2026-12-01\n")
	h := homeWith(t, "job-board", gateText("/bin/true", `"at 04:00, except days in `+closed+`"`))
	k, c := keep(t, h, stagedAt(t, morning)), control.NewClient(h)
	if got := next(t, c, "job-board"); got != "2026-12-02T04:00:00Z" {
		t.Errorf("next due %s", got)
	}
	write("2026-12-01..2026-12-04\n")
	wstest.Await(t, "the new days", func() bool { return next(t, c, "job-board") == "2026-12-05T04:00:00Z" })
	write("2026-13-01\n") // wrong: the last good ones go on
	wstest.Await(t, "the fault", func() bool { s, err := c.Status(t.Context()); return err == nil && len(s.Broken) == 1 })
	if got := next(t, c, "job-board"); got != "2026-12-05T04:00:00Z" {
		t.Errorf("with days that are wrong: %s", got)
	}
	endsAndReplays(t, k, h)
}

// moving is a machine that is taken to another zone.
type moving struct {
	*staged.Machine
	zone  *calendar.Zone
	board *workstation.Board
}

func (m *moving) Zone() *calendar.Zone               { return m.zone }
func (m *moving) Notices() <-chan workstation.Notice { return m.board.Notices() }

// endsAndReplays ends a keeper and plays what it has recorded once more.
func endsAndReplays(t *testing.T, k *kept, h home.Home) {
	t.Helper()
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	j, err := journal.OpenReader(h.Journal())
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	replayed(t, j)
}

// TestZoneChanges: a keeper takes over that its machine has another zone.
func TestZoneChanges(t *testing.T) {
	t.Parallel()
	m := &moving{Machine: stagedAt(t, morning), zone: calendar.UTC, board: workstation.NewBoard()}
	t.Cleanup(m.board.Close)
	h := homeWith(t, "job-board", gateText("/bin/true", `"at 08:00"`), "paper-rota", gateText("/bin/true", `"at 08:00, utc"`))
	k, c := keep(t, h, m), control.NewClient(h)
	zone, err := zones.Find("America/New_York")
	if err != nil {
		t.Fatal(err)
	}
	m.zone = zone
	m.board.Post(workstation.Notice{Zone: true}, nil)
	wstest.Await(t, "the new zone", func() bool { return next(t, c, "job-board") == "2026-11-30T13:00:00Z" })
	if got := next(t, c, "paper-rota"); got != "2026-11-30T08:00:00Z" {
		t.Errorf("a phrase with a zone of its own is due %s", got)
	}
	endsAndReplays(t, k, h)
}

// TestSetClockComesFirst: whatever else is handled first after the clock was
// set, no run has taken too long for that, and no start that waits for its
// delay is missed.
func TestSetClockComesFirst(t *testing.T) {
	t.Parallel()
	m := stagedAt(t, morning)
	h := homeWith(t, "vault-copy", gateText(wstest.Script(t, "sleep 30"), `"signal now"`, "[limits]", `longest = "2h"`),
		"job-board", gateText("/bin/true", `"signal now + 1h"`))
	k := keep(t, h, deaf{m})
	c := control.NewClient(h)
	if _, err := c.Send(t.Context(), "now"); err != nil {
		t.Fatal(err)
	}
	k.until("the start", func(d engine.Decision) bool { return d.Starts() && d.Gate == "vault-copy" })
	m.Jump(3 * time.Hour) // nothing tells of it
	if _, err := c.Send(t.Context(), "other"); err != nil {
		t.Fatal(err)
	}
	s, err := c.Status(t.Context())
	if err != nil || s.Running != 1 {
		t.Errorf("after the clock was set: %+v, %v", s, err)
	}
	if got := next(t, c, "job-board"); got < "2026-11-30T09:59:00Z" || got > "2026-11-30T10:01:00Z" {
		t.Errorf("the start that waits is due %s", got)
	}
	if _, err := c.Stop(t.Context(), "vault-copy"); err != nil {
		t.Fatal(err)
	}
	if d := k.ended("vault-copy"); d.Result != engine.ResultStopped {
		t.Errorf("ended %+v", d)
	}
	for _, d := range k.log {
		if d.Kind == engine.StopRun && d.Code == engine.CodeLongest || d.Result == engine.ResultMissed {
			t.Errorf("decided %+v", d)
		}
	}
}

// deaf is a machine that tells of no clock that is set.
type deaf struct{ *staged.Machine }

func (deaf) Wakes() <-chan workstation.Wake { return nil }

// TestEndsLater: a run that was asked to end is killed after its grace by the
// next keeper, and counts as what it was ended for.
func TestEndsLater(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "vault-copy", gateText(wstest.Script(t, "trap '' TERM; while :; do sleep 0.05; done"), `"signal now"`, "[limits]", `grace = "700ms"`, "[again]", "times = 3", `pause = "1s"`))
	k, c := keep(t, h, newMachine(t)), control.NewClient(h)
	if _, err := c.Send(t.Context(), "now"); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Stop(t.Context(), "vault-copy"); err != nil {
		t.Fatal(err)
	}
	k.until("the request to end", func(d engine.Decision) bool { return d.Kind == engine.StopRun })
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	k = keep(t, h, newMachine(t))
	if d := k.until("the kill", func(d engine.Decision) bool { return d.Kind == engine.StopRun }); d.Signal != "KILL" || d.Code != engine.CodeGrace {
		t.Errorf("the next keeper: %+v", d)
	}
	if d := k.ended("vault-copy"); d.Result != engine.ResultStopped || d.Code != engine.CodeStopped {
		t.Errorf("ended: %+v", d)
	}
}
