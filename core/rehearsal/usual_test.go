package rehearsal

import (
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
)

// TestUsual: of three weeks that are much alike, the usual one has what was so on most of
// the same weekdays; it is a day file, and played it holds what was usual.
func TestUsual(t *testing.T) {
	at := func(day, hour, minute int) calendar.Instant {
		return calendar.InstantOf(time.Date(2026, time.November, day, hour, minute, 0, 0, time.UTC))
	}
	var states []State
	for day := 2; day < 23; day++ { // Monday 2 November
		end := State{From: at(day, 0, 0), To: at(day+1, 0, 0)}
		if w := calendar.DayOf(2026, 11, day).Weekday(); w >= 5 { // off at the weekend
			end.Off = true
			states = append(states, end)
			continue
		}
		begin := 7
		if day == 9 {
			begin = 11 // late, once
		}
		states = append(states, State{From: at(day, 0, 0), To: at(day, begin, 0), Off: true}, State{From: at(day, begin, 0), To: at(day, begin, 15)},
			State{From: at(day, begin, 15), To: at(day, 12, 0), People: []string{"maren"}}, State{From: at(day, 12, 0), To: at(day, 13, 0), Asleep: true},
			State{From: at(day, 13, 0), To: at(day, 15, 0), OnBattery: true, People: []string{"maren"}}, State{From: at(day, 15, 0), To: at(day, 17, 30), People: []string{"maren"}},
			State{From: at(day, 17, 30), To: at(day, 18, 0)}, State{From: at(day, 18, 0), To: at(day+1, 0, 0), Off: true})
	}
	text, days := Usual(states, calendar.UTC, calendar.DayOf(2026, 11, 30))
	if days != 21 {
		t.Errorf("it is of %d days", days)
	}
	for _, want := range []string{"from   = \"2026-11-30\"", "to     = \"2026-12-06\"", "\"mon-fri 07:00 boot\"", "\"mon-fri 07:15 logon maren\"", "\"mon-fri 12:00 sleep\"", "\"mon-fri 13:00 resume\"", "\"mon-fri 13:00 battery\"", "\"mon-fri 15:00 mains\"", "\"mon-fri 17:30 logoff maren\"", "\"mon-fri 18:00 shutdown\""} {
		if !strings.Contains(text, want) {
			t.Errorf("the usual week lacks %s:\n%s", want, text)
		}
	}
	if strings.Contains(text, "11:00") || strings.Contains(text, "sat") {
		t.Errorf("what was so once is called usual:\n%s", text)
	}
	e := env
	d, found := Read("usual.toml", []byte(text), e)
	if d == nil {
		t.Fatal(found)
	}
	p, err := Play(t.Context(), d, Setup{Environment: engine.Environment{Scope: gate.User}, Gates: bindery(t, calendar.UTC)})
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		at   calendar.Instant
		want string
	}{{at(30, 9, 0), "on mains, maren logged on"}, {at(30, 12, 30), "asleep"}, {at(30, 14, 0), "on battery, maren logged on"}, {at(30, 20, 0), "off"}, {at(30, 6, 0), "off"}} {
		s := p.StateAt(x.at)
		if s.Text() != x.want {
			t.Errorf("at %s it is %s, want %s", clockText(x.at, d), s.Text(), x.want)
		}
	}
	if _, days := Usual(states[:6], calendar.UTC, 0); days >= leastDays {
		t.Errorf("one day is %d", days)
	}
	for days, want := range map[string][]int{"mon-fri": {0, 1, 2, 3, 4}, "mon, tue": {0, 1}, "mon, wed-fri, sun": {0, 2, 3, 4, 6}, "": nil} {
		if got := weekdays(want); got != days {
			t.Errorf("%v are %q, want %q", want, got, days)
		}
	}
}
