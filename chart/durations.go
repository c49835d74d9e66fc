package chart

import (
	"image/color"
	"io"
	"math"
	"time"

	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"timegate/core/calendar"
	"timegate/core/words"
)

// Durations are how long runs took, by when they began.
type Durations struct {
	Title, Below string
	Zone         *calendar.Zone
	From, To     calendar.Instant
	Usual        time.Duration // a line marks it; 0 for none
	Dots         []Dot
}

// Dot is a run.
type Dot struct {
	At   calendar.Instant
	Took time.Duration
	Bad  bool // it did not end well
}

// rungs are the durations that are named at the left: each is as far from the next as any.
var rungs = []time.Duration{time.Millisecond, 10 * time.Millisecond, 100 * time.Millisecond, time.Second, 10 * time.Second, time.Minute, 10 * time.Minute, time.Hour, 10 * time.Hour, 4 * 24 * time.Hour, 40 * 24 * time.Hour}

// rung is where a duration lies between them.
func rung(d time.Duration) float64 {
	for i := range rungs[:len(rungs)-1] {
		if lo, hi := rungs[i], rungs[i+1]; d < hi || i == len(rungs)-2 {
			return float64(i) + max(math.Log(float64(max(d, lo))/float64(lo))/math.Log(float64(hi)/float64(lo)), 0)
		}
	}
	return 0
}

// DrawDurations writes durations as a picture.
func DrawDurations(out io.Writer, d *Durations, format Format) error {
	return picture(out, format, height, d.draw)
}

func (d *Durations) draw(c draw.Canvas) {
	pen := newWriter(c)
	c.FillPolygon(color.White, []vg.Point{{}, {X: width}, {X: width, Y: height}, {Y: height}})
	pen.write(d.Title, 14, ink, text.XCenter, vg.Point{X: width / 2, Y: height - roomAbove/2})
	pen.write(d.Below, 10, faint, text.XCenter, vg.Point{X: width / 2, Y: roomBelow / 4})
	top, bottom, right := height-roomAbove, roomBelow, width-dayRight
	low, high := math.Inf(1), math.Inf(-1)
	for _, dot := range d.Dots {
		low, high = min(low, math.Floor(rung(dot.Took))), max(high, math.Floor(rung(dot.Took))+1)
	}
	if len(d.Dots) == 0 {
		pen.write("no run has ended", 10, faint, text.XCenter, vg.Point{X: width / 2, Y: (top + bottom) / 2})
		return
	}
	y := func(took time.Duration) vg.Length {
		return bottom + (top-bottom)*vg.Length((rung(took)-low)/(high-low))
	}
	span := &Day{Zone: d.Zone, From: d.From, To: max(d.To, d.From+1)}
	for _, at := range span.ticks() {
		line(c, span.x(at), bottom, top, night)
		pen.write(span.tickText(at), 9, ink, text.XCenter, vg.Point{X: span.x(at), Y: roomBelow * 3 / 4})
	}
	for i := int(low); i <= int(high) && i < len(rungs); i++ {
		line2(c, dayLeft, right, y(rungs[i]), night)
		pen.write(words.Duration(rungs[i]), 9, ink, text.XRight, vg.Point{X: dayLeft - 8, Y: y(rungs[i])})
	}
	if d.Usual > 0 {
		line2(c, dayLeft, right, y(d.Usual), many)
		pen.write("usual", 9, many, text.XLeft, vg.Point{X: dayLeft + 4, Y: y(d.Usual) + 7})
	}
	const half vg.Length = 2.5
	for _, dot := range d.Dots {
		fill := color.Color(many)
		if dot.Bad {
			fill = failed
		}
		square(c, span.x(dot.At), y(dot.Took), half, fill)
	}
}
