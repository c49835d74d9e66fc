package keeper

import (
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/journal"
	"timegate/workstation/linux"
	"timegate/workstation/staged"
	"timegate/workstation/wstest"
)

// late is a machine on which a person's desktop is there some time after the
// person has logged on.
type late struct {
	*staged.Machine
	looks int
}

func (m *late) Desktops() []string {
	if len(m.Machine.Desktops()) == 0 {
		return nil
	}
	if m.looks++; m.looks < 3 {
		return nil
	}
	return []string{"", "maren"}
}

// TestDesktopComesLate: a program that is to start at a logon on a desktop
// waits for that, and is started when it is there; nothing but looking again
// tells of it. There is no real desktop here, so the start is refused then.
func TestDesktopComesLate(t *testing.T) {
	m, err := staged.New(staged.Options{At: morning, Zone: calendar.UTC, BootID: "front-desk-1"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	h := home(t, "job-board", gateText("/bin/true", `"logon"`, "[as]", "desktop = true"))
	k := keep(t, h, &late{Machine: m})
	if err := m.Stage([]string{"logon", "maren"}); err != nil {
		t.Fatal(err)
	}
	d := k.until("the wait", func(d engine.Decision) bool { return d.Kind == engine.Wait })
	if d.Rule != "as.desktop" || !strings.Contains(d.Reason, "a desktop") {
		t.Errorf("it waits: %+v", d)
	}
	if d = k.until("the start", func(d engine.Decision) bool { return d.Starts() }); !strings.Contains(d.Reason, "for a desktop") {
		t.Errorf("it starts: %+v", d)
	}
	if d = k.ended("job-board"); len(linux.Desktops(self().uid)) == 0 && d.Result != engine.Refused {
		t.Errorf("without a desktop: %+v", d)
	}
}

// TestAbsences: the journal knows when the machine slept, and when it was off.
func TestAbsences(t *testing.T) {
	m := fast(t)
	h := home(t, "humidity-log", gateText(wstest.Script(t, ``), `"every 10m"`, "[rules]", `missed = "once"`))
	k := keep(t, h, m)
	k.ended("humidity-log")
	asleep := func() []journal.Absence {
		j, err := journal.OpenReader(h.Journal())
		if err != nil {
			t.Fatal(err)
		}
		defer j.Close()
		a, err := j.Absences(0)
		if err != nil {
			t.Fatal(err)
		}
		return a.Spans
	}
	if err := m.Stage([]string{"sleep"}); err != nil {
		t.Fatal(err)
	}
	wstest.Await(t, "sleep", m.Asleep)
	m.Jump(8 * time.Hour)
	if err := m.Stage([]string{"resume"}); err != nil {
		t.Fatal(err)
	}
	wstest.Await(t, "the sleep's record", func() bool { return len(asleep()) == 1 })
	if s := asleep()[0]; s.Off || s.To-s.From < 8*3600_000 {
		t.Errorf("asleep: %+v", s)
	}
	if err := k.end(); err != nil {
		t.Fatal(err)
	}
	next, err := staged.New(staged.Options{At: m.Now().Add(9 * time.Hour), Zone: calendar.UTC, BootID: "front-desk-2", Rate: 20000})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { next.Close() })
	keep(t, h, next)
	spans := asleep()
	if s := spans[len(spans)-1]; len(spans) != 2 || !s.Off || s.To-s.From < 8*3600_000 {
		t.Errorf("off: %+v", spans)
	}
}
