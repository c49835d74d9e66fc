package staged_test

import (
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/workstation"
	"timegate/workstation/staged"
	"timegate/workstation/wstest"
)

var morning = time.Date(2026, 11, 30, 6, 0, 0, 0, time.UTC)

func stage(t *testing.T, rate float64) *staged.Machine {
	t.Helper()
	m, err := staged.New(staged.Options{At: morning, Zone: calendar.UTC, BootID: "front-desk-1", Rate: rate})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	return m
}

func TestMachine(t *testing.T) {
	wstest.Run(t, func(t *testing.T) workstation.Workstation { return stage(t, 1) })
	t.Run("fast", func(t *testing.T) {
		wstest.Run(t, func(t *testing.T) workstation.Workstation { return stage(t, 500) })
	})
}

// TestFastClock: hours pass in no time, and the clock stands at the wake that
// was asked for until the keeper has asked for the next.
func TestFastClock(t *testing.T) {
	m := stage(t, 1e6)
	if now := m.Now(); !now.Equal(morning) {
		t.Errorf("before anybody asked, it is %v", now)
	}
	for i := 1; i <= 5; i++ {
		at := morning.Add(time.Duration(i) * time.Hour)
		m.SetWake(at)
		<-m.Wakes()
		if now := m.Now(); !now.Equal(at) {
			t.Errorf("at the wake it is %v, want %v", now, at)
		}
	}
}

func TestJump(t *testing.T) {
	m := stage(t, 1)
	m.SetWake(morning.Add(time.Hour))
	m.Jump(2 * time.Hour)
	if w := <-m.Wakes(); !w.ClockSet {
		t.Errorf("wake %+v, want one that tells of the clock", w)
	}
	if now := m.Now(); now.Before(morning.Add(2 * time.Hour)) {
		t.Errorf("after the jump it is %v", now)
	}
	if !m.Staged() {
		t.Error("a stand-in says that it is none")
	}
}
