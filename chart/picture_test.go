package chart

import (
	"bytes"
	"image/png"
	"strings"
	"testing"

	"timegate/core/calendar"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/core/phrase"
)

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
