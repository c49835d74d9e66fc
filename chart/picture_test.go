package chart

import (
	"bytes"
	"fmt"
	"image/png"
	"strings"
	"testing"

	"timegate/core/calendar"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// TestDrawBars: each row has its bar where its span is, and its words.
func TestDrawBars(t *testing.T) {
	b := Bars{Title: "logon of maren", Below: "calm after 10 s", Mark: 10, MarkText: "calm", Rows: []Bar{{Label: "glue-warm", Text: "3 s", From: 5, To: 8, Heavy: 3}, {Label: "job-board", From: 0, To: 1}}}
	var out, svg, none bytes.Buffer
	for _, err := range []error{DrawBars(&out, &b, PNG), DrawBars(&svg, &b, SVG), DrawBars(&none, &Bars{Title: "nothing"}, PNG)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	img, err := png.Decode(&out)
	if err != nil || img.Bounds().Dx() != 1280 {
		t.Fatalf("the picture is %v, %v", img, err)
	}
	const y, within, before = 80, 700, 400 // of the first row; 6.5 s and 2.6 s
	if img.At(within, y) == img.At(before, y) {
		t.Error("the bar of the first row is not where its span is")
	}
	for _, word := range []string{"glue-warm", "job-board", "logon of maren", "calm after 10 s", "10 s"} {
		if !strings.Contains(svg.String(), word) {
			t.Errorf("the picture lacks %q", word)
		}
	}
}

// TestDrawShares: each row has a bar as long as its share, in the colour of what is bad, and more
// rows than there is room for are said to be missing.
func TestDrawShares(t *testing.T) {
	s := Shares{Title: "a folder of gates", Below: "3 workstations", Of: 4, Rows: []Share{{Text: "3 more starts a day", Names: "front-desk", Count: 3}, {Text: "refused", Count: 1, Bad: true}}}
	many := Shares{Of: 1}
	for range 2 * mostShares {
		many.Rows = append(many.Rows, Share{Text: "x", Count: 1})
	}
	var out, svg, more, none bytes.Buffer
	for _, err := range []error{DrawShares(&out, &s, PNG), DrawShares(&svg, &s, SVG), DrawShares(&more, &many, SVG), DrawShares(&none, &Shares{}, SVG)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	img, err := png.Decode(&out)
	if err != nil {
		t.Fatal(err)
	}
	// The first bar ends at three quarters of its room, which ends at 1107, the second at a quarter.
	const first, second = 89, 150
	if img.At(820, first) == img.At(860, first) || img.At(285, second) == img.At(325, second) {
		t.Error("the bars are not as long as their shares")
	}
	if img.At(100, first) == img.At(100, second) {
		t.Error("what is bad looks like what is not")
	}
	for of, words := range map[*bytes.Buffer][]string{&svg: {"a folder of gates", "3 of 4", "front-desk", "refused"}, &more: {"20 more lines are not drawn"}, &none: {"nobody has said anything"}} {
		for _, word := range words {
			if !strings.Contains(of.String(), word) {
				t.Errorf("the picture lacks %q", word)
			}
		}
	}
}

func TestDraw(t *testing.T) {
	g, found := gate.Read("humidity-log", "humidity-log.toml", []byte("run = [\"/bin/true\"]\nopens = [\"every 30m from 06:30 to 18:00\"]\n"),
		gate.Options{Scope: gate.User, Env: phrase.Env{Zone: calendar.UTC}})
	if g == nil {
		t.Fatal(found)
	}
	w := forecast.NewWeek([]*gate.Gate{g}, "", calendar.DayOf(2026, 11, 30), calendar.UTC)
	empty := forecast.NewWeek(nil, "", calendar.DayOf(2026, 11, 30), calendar.UTC)
	var busy, blank, svg bytes.Buffer
	for _, err := range []error{DrawWeek(&busy, w, PNG, "a week", "below"), DrawWeek(&blank, empty, PNG, "a week", "below"), DrawWeek(&svg, w, SVG, "a week", "below")} {
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

// TestDrawReadings: a run goes from what was measured before it to what was after it, and the
// values at the left can be told apart.
func TestDrawReadings(t *testing.T) {
	r := Readings{Title: "spool-reset: files", Below: "2 runs", Zone: calendar.UTC, From: 0, To: 10_000, Text: func(v, step float64) string { return fmt.Sprintf("%g by %g", v, step) },
		Runs: []MeasuredRun{{At: 2000, Before: 0, After: 40}, {At: 8000, Before: 40, After: 10}}}
	var out, svg, one, none bytes.Buffer
	for _, err := range []error{DrawReadings(&out, &r, PNG), DrawReadings(&svg, &r, SVG), DrawReadings(&one, &Readings{Zone: calendar.UTC, Text: r.Text, Runs: r.Runs[:1]}, SVG), DrawReadings(&none, &Readings{Title: "nothing"}, SVG)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	img, err := png.Decode(&out)
	if err != nil {
		t.Fatal(err)
	}
	// The first run's line goes from bottom to top, the second's ends at a quarter of it.
	first, second, beside := 388, 1033, 600
	middle, low := 160, 235
	if img.At(first, middle) == img.At(beside, middle+12) || img.At(second, middle) == img.At(beside, middle+12) || img.At(first, low) == img.At(second, low) {
		t.Error("the runs are not drawn from what was before to what was after")
	}
	for _, text := range []string{">0 by ", ">40 by ", "before a run", "after it", "2 runs"} {
		if !strings.Contains(svg.String(), text) {
			t.Errorf("the picture does not say %q", text)
		}
	}
	if !strings.Contains(none.String(), "nothing was measured") {
		t.Error("a picture of nothing does not say so")
	}
}
