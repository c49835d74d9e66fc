package chart

import (
	"bytes"
	"fmt"
	"image/png"
	"regexp"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
)

// day is a picture of a day with so many gates.
func day(from, to time.Time, zone *calendar.Zone, gates int) *Day {
	at := func(share float64) calendar.Instant {
		return calendar.InstantOf(from.Add(time.Duration(share * float64(to.Sub(from)))))
	}
	d := &Day{Title: "a day", Below: "as it was", Zone: zone, From: calendar.InstantOf(from), To: calendar.InstantOf(to), States: []DayState{
		{From: at(0), To: at(0.2), Off: true}, {From: at(0.2), To: at(0.5), People: "maren"}, {From: at(0.5), To: at(0.6), Battery: true, People: "maren"},
		{From: at(0.6), To: at(0.8), Asleep: true}, {From: at(0.8), To: at(1)},
	}}
	for i := range gates {
		d.Lanes = append(d.Lanes, Lane{Gate: fmt.Sprintf("gate-with-a-rather-long-name-%d", i), Runs: []LaneRun{{From: at(0.3), To: at(0.4)}, {From: at(0.9), To: at(0.9), Bad: true}},
			Marks: []LaneMark{{At: at(0.65), Text: "missed"}, {At: at(0.66), Text: "skipped"}}})
	}
	return d
}

// TestDrawDay draws days of all sizes: the bands say what holds, lanes are where they
// belong, and the words below stand apart.
func TestDrawDay(t *testing.T) {
	loc, err := time.LoadLocation("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	zone := calendar.NewZone(loc)
	begin := time.Date(2027, time.March, 27, 12, 0, 0, 0, loc) // the clock goes forward in the night
	for _, tt := range []struct {
		name  string
		span  time.Duration
		gates int
		below []string // some of the words below
	}{
		{"a day", 24 * time.Hour, 3, []string{"12:00", "14:00", "00:00", "02:00", "10:00"}},
		{"thirty gates", 24 * time.Hour, 30, []string{"12:00"}},
		{"too many gates", 24 * time.Hour, 100, []string{"12:00"}},
		{"an hour", time.Hour, 1, []string{"12:00", "13:00"}},
		{"a week", 7 * 24 * time.Hour, 3, []string{"Sun 28", "Mon 29", "Sat 3"}},
		{"a month", 30 * 24 * time.Hour, 1, []string{"3 Apr", "24 Apr"}},
		{"a year", 365 * 24 * time.Hour, 1, []string{"1 May", "1 Mar"}},
		{"nothing", 24 * time.Hour, 0, []string{"12:00"}},
	} {
		d := day(begin, begin.Add(tt.span), zone, tt.gates)
		var svg, out bytes.Buffer
		if err := DrawDay(&svg, d, SVG); err != nil {
			t.Fatal(err)
		}
		if err := DrawDay(&out, d, PNG); err != nil {
			t.Fatal(err)
		}
		img, err := png.Decode(&out)
		if err != nil || img.Bounds().Dx() != 1280 || img.Bounds().Dy() < 520 {
			t.Errorf("%s: the picture is %v, %v", tt.name, img.Bounds(), err)
		}
		text := svg.String()
		below := "as it was"
		if tt.gates > mostLanes {
			below += fmt.Sprintf("; %d more gates are not drawn", tt.gates-mostLanes)
		}
		for _, want := range append([]string{"a day", below, "machine", "on battery", "logged on"}, tt.below...) {
			if !strings.Contains(text, ">"+want+"<") {
				t.Errorf("%s: the picture lacks %q", tt.name, want)
			}
		}
		if tt.name == "a day" && (!strings.Contains(text, ">asleep<") || !strings.Contains(text, ">maren<") || strings.Contains(text, "long-name-0<") || !strings.Contains(text, ">skipped<") || strings.Contains(text, ">missed<")) {
			t.Errorf("%s: words have no room and stand there, or have and do not", tt.name)
		}
		apart(t, tt.name, text)
	}
	clean := day(begin, begin.Add(24*time.Hour), zone, 0)
	clean.Off = "no keeper"
	if first := clean.band(0)[0]; first.word != "no keeper" {
		t.Errorf("off is called %q", first.word)
	}
	clean.States = []DayState{{From: 0, To: 1}, {From: 1, To: 2, Battery: true}, {From: 2, To: 3}}
	if got := clean.band(0); len(got) != 1 || got[0].from != 0 || got[0].to != 3 {
		t.Errorf("one state that goes on is drawn in parts: %+v", got)
	}
}

var placed = regexp.MustCompile(`(?s)<text x="([-\d.]+)" y="([-\d.]+)"[^>]*text-anchor[^>]*>([^<]*)<|<text x="([-\d.]+)" y="([-\d.]+)"[^>]*>([^<]*)<`)

// apart checks that the words of one line do not touch.
func apart(t *testing.T, name, svg string) {
	t.Helper()
	type word struct {
		x    float64
		text string
	}
	lines := map[string][]word{}
	for _, m := range placed.FindAllStringSubmatch(svg, -1) {
		var x float64
		xs, y, text := m[1]+m[4], m[2]+m[5], m[3]+m[6]
		if _, err := fmt.Sscan(xs, &x); err != nil {
			t.Fatal(err)
		}
		lines[y] = append(lines[y], word{x, text})
	}
	if len(lines) == 0 {
		t.Fatalf("%s: no words are found in the picture: %.300s", name, svg)
	}
	const letter = 4.2 // points of a letter of 9 points, about
	for y, list := range lines {
		for i := range list {
			for k := range list {
				if a, b := list[i], list[k]; i != k && a.x < b.x && a.x+letter*float64(len(a.text)) > b.x+1 {
					t.Errorf("%s, at %s: %q and %q touch", name, y, a.text, b.text)
				}
			}
		}
	}
}
