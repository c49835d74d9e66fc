//go:build linux

package staged_test

import (
	"strings"
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
	before := m.Clock().Ahead()
	m.Jump(2 * time.Hour)
	<-m.Wakes()
	if by := m.Clock().Ahead() - before; by != 2*time.Hour {
		t.Errorf("the clocks tell that it was set by %v", by)
	}
	if now := m.Now(); now.Before(morning.Add(2 * time.Hour)) {
		t.Errorf("after the jump it is %v", now)
	}
	if !m.Staged() {
		t.Error("a stand-in says that it is none")
	}
}

// TestSleep: a machine that sleeps wakes nobody until it resumes, or its alarm
// rings; time passes all the same.
func TestSleep(t *testing.T) {
	m := stage(t, 1)
	stageDo := func(words ...string) {
		t.Helper()
		if err := m.Stage(words); err != nil {
			t.Fatal(err)
		}
	}
	got := wstest.Hear(t, m)
	m.SetWake(m.Now().Add(time.Hour))
	stageDo("sleep")
	got("sleep").Release()
	before := m.Clock().Ahead()
	stageDo("clock", "+2h")
	select {
	case w := <-m.Wakes():
		t.Fatalf("a machine that sleeps was woken: %+v", w)
	case <-time.After(50 * time.Millisecond):
	}
	stageDo("resume")
	got("resume")
	if <-m.Wakes(); m.Clock().Ahead() != before {
		t.Error("sleep was taken for a clock that was set")
	}
	if now := m.Now(); now.Before(morning.Add(2 * time.Hour)) {
		t.Errorf("after two hours of sleep it is %v", now)
	}
	// An alarm ends it.
	m.SetWake(m.Now().Add(3 * time.Hour))
	alarm := m.Now().Add(time.Hour)
	if err := m.SetAlarm(alarm); err != nil {
		t.Fatal(err)
	}
	stageDo("sleep")
	got("sleep").Release()
	stageDo("clock", "+70m")
	got("resume")
	<-m.Wakes()
	if now := m.Now(); m.Asleep() || now.Before(alarm) || now.After(alarm.Add(5*time.Minute)) {
		t.Errorf("the alarm was at %v, and it is %v; asleep: %v", alarm, now, m.Asleep())
	}
}

// TestScenes: what is to happen at times of the day happens then, in between
// what the keeper asked for, however fast the clock runs.
func TestScenes(t *testing.T) {
	m := stage(t, 1e6)
	at := make(chan time.Time, 2)
	for _, hour := range []time.Duration{1, 3} {
		m.At(morning.Add(hour*time.Hour), func() {
			at <- m.Now()
			m.SetWake(m.Now().Add(time.Hour)) // the keeper answers
		})
	}
	m.SetWake(morning.Add(2 * time.Hour))
	for _, hour := range []time.Duration{1, 3} {
		if got, want := <-at, morning.Add(hour*time.Hour); got.Before(want) || got.Sub(want) > time.Minute {
			t.Errorf("the scene of %v is at %v", want, got)
		}
		<-m.Wakes()
		m.SetWake(m.Now().Add(2 * time.Hour))
	}
}

// TestClockTo: a staged clock goes to the next such time of day, on the next day where
// that is over.
func TestClockTo(t *testing.T) {
	m := stage(t, 1)
	m.SetWake(m.Now().Add(72 * time.Hour))
	at := m.Now()
	for _, word := range []string{at.Add(2 * time.Hour).Format("15:04"), at.Add(time.Hour).Format("15:04:05")} {
		before := m.Now()
		if err := m.Stage([]string{"clock", word}); err != nil {
			t.Fatal(err)
		}
		now := m.Now()
		if got := now.Format("15:04:05"); !strings.HasPrefix(got, word) || !now.After(before) || now.Sub(before) > 24*time.Hour {
			t.Errorf("clock %s: from %v to %v", word, before, now)
		}
	}
	to := m.Now().In(m.Zone().Location()).AddDate(0, 0, 2)
	for _, words := range [][]string{{to.Format(time.DateOnly), "18:30"}, {to.Format(time.DateOnly) + " 18:31"}, {to.Format(time.DateOnly) + "T18:32"}} {
		if err := m.Stage(append([]string{"clock"}, words...)); err != nil {
			t.Fatal(err)
		}
		now := m.Now().In(m.Zone().Location())
		if got, want := now.Format("2006-01-02 15:04"), strings.ReplaceAll(strings.Join(words, " "), "T", " "); got != want {
			t.Errorf("clock %q: it is %s", words, got)
		}
	}
	for _, word := range []string{"25:00", "2026-13-01 09:00", "2h", "noon", "+", ""} {
		if err := m.Stage([]string{"clock", word}); err == nil {
			t.Errorf("clock %q is accepted", word)
		}
	}
}
