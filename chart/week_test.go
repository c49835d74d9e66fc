package chart

import (
	"bytes"
	"fmt"
	"image/png"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"timegate/core/calendar"
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

func gateOf(t *testing.T, z *calendar.Zone, name string, phrases ...string) Gate {
	t.Helper()
	g := Gate{Name: name}
	for _, text := range phrases {
		p, err := phrase.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		plan, err := p.Compile(phrase.Env{Zone: z})
		if err != nil {
			t.Fatal(err)
		}
		g.Plans = append(g.Plans, plan)
	}
	return g
}

func TestWeek(t *testing.T) {
	z := london(t)
	monday := calendar.DayOf(2026, 11, 30)
	w := NewWeek([]Gate{
		gateOf(t, z, "job-board", "at 07:30 on weekdays", "at 07:30, 12:00 on mon"), // 07:30 on Monday is one start
		gateOf(t, z, "stock-count", "every 20m from 07:00 to 08:00 on mon"),
		gateOf(t, z, "boot", "boot + 1m"),
		gateOf(t, z, "often", "every 1s from 12:00 to 12:59:59 on sun", "at 12:00 on sun"),
	}, monday, z)
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
	if got := NewWeek(nil, monday, z).Quiet(); got != nil {
		t.Errorf("an empty week is quiet %v", got)
	}
}

// TestWeekOfAClockChange: the hour that is left out is empty, and the one
// that comes twice has the starts of both.
func TestWeekOfAClockChange(t *testing.T) {
	z := london(t)
	g := gateOf(t, z, "humidity-log", "every 30m")
	spring := NewWeek([]Gate{g}, calendar.DayOf(2027, 3, 22), z)
	autumn := NewWeek([]Gate{g}, calendar.DayOf(2026, 10, 19), z)
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

func TestDraw(t *testing.T) {
	z := london(t)
	w := NewWeek([]Gate{gateOf(t, z, "humidity-log", "every 30m from 06:30 to 18:00")}, calendar.DayOf(2026, 11, 30), z)
	empty := NewWeek(nil, calendar.DayOf(2026, 11, 30), z)
	var busy, blank, svg bytes.Buffer
	for _, err := range []error{w.Draw(&busy, PNG, "a week", "below"), empty.Draw(&blank, PNG, "a week", "below"), w.Draw(&svg, SVG, "a week", "below")} {
		if err != nil {
			t.Fatal(err)
		}
	}
	img, err := png.Decode(&busy)
	if err != nil || img.Bounds().Dx() != 1280 || img.Bounds().Dy() != 520 {
		t.Fatalf("the picture is %v, %v", img.Bounds(), err)
	}
	none, err := png.Decode(&blank)
	if err != nil {
		t.Fatal(err)
	}
	// Noon of Monday is coloured, and not so in an empty week.
	const x, y = 675, 70
	if img.At(x, y) == none.At(x, y) {
		t.Errorf("a cell with starts has the colour of one without: %v", img.At(x, y))
	}
	if text := svg.String(); !strings.Contains(text, "<svg") || !strings.Contains(text, "Mon 30 Nov") || !strings.Contains(text, "a week") {
		t.Errorf("the SVG lacks its words: %.200s", text)
	}
}
