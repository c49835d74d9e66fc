package forecast

import (
	"fmt"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
)

func london(t *testing.T) *calendar.Zone {
	t.Helper()
	loc, err := time.LoadLocation("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	return calendar.NewZone(loc)
}

func gateOf(t *testing.T, z *calendar.Zone, name string, phrases ...string) *gate.Gate {
	t.Helper()
	text := fmt.Sprintf("run = [\"/opt/larkspur/bin/%s\"]\nopens = [\"%s\"]\n", name, strings.Join(phrases, `", "`))
	g, found := gate.Read(name, name+".toml", []byte(text), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: z}})
	if g == nil {
		t.Fatal(found)
	}
	return g
}

func TestWeek(t *testing.T) {
	z := london(t)
	monday := calendar.DayOf(2026, 11, 30)
	w := NewWeek([]*gate.Gate{
		gateOf(t, z, "job-board", "at 07:30 on weekdays", "at 07:30, 12:00 on mon"), // 07:30 on Monday is one start
		gateOf(t, z, "stock-count", "every 20m from 07:00 to 08:00 on mon"),
		gateOf(t, z, "at-boot", "boot + 1m"),
		gateOf(t, z, "often", "every 1s from 12:00 to 12:59:59 on sun", "at 12:00 on sun"),
	}, "", monday, z)
	for _, tt := range []struct {
		day, hour int
		want      int64
		gates     string
	}{
		{0, 7, 4, "job-board stock-count"}, {0, 8, 1, "stock-count"}, {0, 12, 1, "job-board"}, {1, 7, 1, "job-board"}, {5, 7, 0, ""}, {6, 12, 3600, "often"},
	} {
		if got := w.Cells[tt.day][tt.hour]; got != tt.want || strings.Join(w.Gates[tt.day][tt.hour], " ") != tt.gates {
			t.Errorf("day %d, %02d:00: %d starts of %v, want %d of %s", tt.day, tt.hour, got, w.Gates[tt.day][tt.hour], tt.want, tt.gates)
		}
	}
	if w.Total() != 4+1+1+4+3600 || w.Most() != 3600 {
		t.Errorf("Total %d, Most %d", w.Total(), w.Most())
	}
	if w.Peak != 1 {
		t.Errorf("Peak %d: no two gates open in one instant", w.Peak)
	}
	var gates []string
	for _, g := range w.ByGate() {
		gates = append(gates, fmt.Sprintf("%s %d %s at %s", g.Name, g.Starts, g.Days, g.Hours))
	}
	want := "job-board 6 Mon-Fri at 7, 12; stock-count 4 Mon at 7, 8; often 3600 Sun at 12"
	if got := strings.Join(gates, "; "); got != want {
		t.Errorf("ByGate: %s, want %s", got, want)
	}
	quiet := w.Quiet()
	if len(quiet) < 2 || quiet[0] != (Quiet{Hour: 8, Length: 52, Times: 1}) || quiet[1] != (Quiet{Hour: 8, Length: 23, Times: 3}) {
		t.Errorf("Quiet = %v", quiet)
	}
	if got := NewWeek(nil, "", monday, z).Quiet(); got != nil {
		t.Errorf("an empty week is quiet %v", got)
	}
}

// TestWeekOfAClockChange: the hour that is left out is empty, and the one
// that comes twice has the starts of both.
func TestWeekOfAClockChange(t *testing.T) {
	z := london(t)
	g := gateOf(t, z, "humidity-log", "every 30m")
	spring := NewWeek([]*gate.Gate{g}, "", calendar.DayOf(2027, 3, 22), z)
	autumn := NewWeek([]*gate.Gate{g}, "", calendar.DayOf(2026, 10, 19), z)
	if got := spring.Cells[6][:4]; got[0] != 2 || got[1] != 0 || got[2] != 2 {
		t.Errorf("the spring Sunday begins %v", got)
	}
	if got := autumn.Cells[6][:4]; got[0] != 2 || got[1] != 4 || got[2] != 2 {
		t.Errorf("the autumn Sunday begins %v", got)
	}
	if spring.Total() != 7*48-2 || autumn.Total() != 7*48+2 {
		t.Errorf("the weeks have %d and %d starts", spring.Total(), autumn.Total())
	}
}

// TestEngineAgrees: what an engine finds next for a gate is what is foretold,
// for many phrases and instants, and in the instants of clock changes.
func TestEngineAgrees(t *testing.T) {
	z := london(t)
	for _, text := range []string{"every 10m", "at 01:30, 02:30", "every 20m from 22:00 to 02:00 on fri", "every 36h since 2026-11-02 06:00", "at 09:00 on last weekday",
		"at 08:15 on sat every 2 weeks from 2026-11-07", "every 2h after success", "at 12:00 in jun", "at 07:00, starting 2027-04-01", "at 07:00, ending 2026-10-01", "boot"} {
		g := gateOf(t, z, "job-board", text, "at 23:59 on day 31")
		for _, at := range []string{"2026-10-24T22:00:00Z", "2026-10-25T00:30:00Z", "2027-03-28T00:59:59Z", "2027-03-28T01:00:00Z", "2026-12-31T23:59:00Z"} {
			now, err := time.Parse(time.RFC3339, at)
			if err != nil {
				t.Fatal(err)
			}
			instant := calendar.InstantOf(now)
			for _, good := range []calendar.Instant{0, instant - 3600_000} {
				state := engine.State{Version: engine.StateVersion, Gates: map[string]engine.GateState{"job-board": {Version: "1", LastGood: good}}}
				state.Machine.PausedAt, state.Machine.PauseUntil = instant, calendar.MaxInstant // so that nothing is decided yet
				e, err := engine.Restore(state, nil)
				if err != nil {
					t.Fatal(err)
				}
				e.Handle(engine.Event{At: instant, Body: &engine.Begin{Gates: []engine.Definition{{Name: "job-board", Version: "1", Gate: g}}}})
				st, _ := e.Status("job-board")
				next, ok := Next(g, "", good, instant)
				if ok != (st.Next != 0) || ok && next != st.Next && text != "boot" {
					t.Errorf("%s at %s: the engine says %v, the forecast %v", text, at, st.Next.Time(), next.Time())
				}
			}
		}
	}
}
