package chart

import (
	"image/color"
	"io"
	"math"

	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"timegate/core/calendar"
)

// Readings are what was measured before and after runs, by when they began.
type Readings struct {
	Title, Below string
	Zone         *calendar.Zone
	From, To     calendar.Instant
	Text         func(value, step float64) string // how a value is written, where others are a step away
	Runs         []MeasuredRun                    // the oldest first
}

// MeasuredRun is a run with what was measured.
type MeasuredRun struct {
	At            calendar.Instant
	Before, After float64
}

// readingsHeight leaves room for several below each other.
const readingsHeight vg.Length = 250

// DrawReadings writes readings as a picture.
func DrawReadings(out io.Writer, r *Readings, format Format) error {
	return picture(out, format, readingsHeight, r.draw)
}

// bounds are the least and the greatest value, with some room.
func (r *Readings) bounds() (low, high float64) {
	low, high = math.Inf(1), math.Inf(-1)
	for _, m := range r.Runs {
		low, high = min(low, m.Before, m.After), max(high, m.Before, m.After)
	}
	room := (high - low) / 12
	if room == 0 {
		room = max(math.Abs(high)/12, 1)
	}
	return low - room, high + room
}

func (r *Readings) draw(c draw.Canvas) {
	pen := newWriter(c)
	c.FillPolygon(color.White, []vg.Point{{}, {X: width}, {X: width, Y: readingsHeight}, {Y: readingsHeight}})
	pen.write(r.Title, 14, ink, text.XCenter, vg.Point{X: width / 2, Y: readingsHeight - roomAbove/2})
	pen.write(r.Below, 10, faint, text.XCenter, vg.Point{X: width / 2, Y: roomBelow / 4})
	top, bottom, right := readingsHeight-roomAbove, roomBelow, width-dayRight
	if len(r.Runs) == 0 {
		pen.write("nothing was measured", 10, faint, text.XCenter, vg.Point{X: width / 2, Y: (top + bottom) / 2})
		return
	}
	low, high := r.bounds()
	y := func(value float64) vg.Length { return bottom + (top-bottom)*vg.Length((value-low)/(high-low)) }
	span := &Day{Zone: r.Zone, From: r.From, To: max(r.To, r.From+1)}
	for _, at := range span.ticks() {
		line(c, span.x(at), bottom, top, night)
		pen.write(span.tickText(at), 9, ink, text.XCenter, vg.Point{X: span.x(at), Y: roomBelow * 3 / 4})
	}
	step := niceStep(2 * (high - low)) // about four lines
	for value := math.Ceil(low/step)*step + 0; value <= high; value += step {
		line2(c, dayLeft, right, y(value), night)
		pen.write(r.Text(value, step), 9, ink, text.XRight, vg.Point{X: dayLeft - 8, Y: y(value)})
	}
	for i, m := range r.Runs { // how it went on from run to run
		if i > 0 {
			stroke(c, vg.Point{X: span.x(r.Runs[i-1].At), Y: y(r.Runs[i-1].After)}, vg.Point{X: span.x(m.At), Y: y(m.Before)}, faint, 0.7)
		}
	}
	const half vg.Length = 2.5
	for _, m := range r.Runs {
		x := span.x(m.At)
		stroke(c, vg.Point{X: x, Y: y(m.Before)}, vg.Point{X: x, Y: y(m.After)}, many, 1.6)
		square(c, x, y(m.Before), half, faint)
		square(c, x, y(m.After), half, many)
	}
	legend := vg.Point{X: dayLeft, Y: roomBelow / 4}
	square(c, legend.X, legend.Y, half, faint)
	pen.write("before a run", 10, faint, text.XLeft, vg.Point{X: legend.X + 8, Y: legend.Y})
	square(c, legend.X+100, legend.Y, half, many)
	pen.write("after it", 10, many, text.XLeft, vg.Point{X: legend.X + 108, Y: legend.Y})
}

// square fills a square around a point.
func square(c draw.Canvas, x, y, half vg.Length, fill color.Color) {
	c.FillPolygon(fill, []vg.Point{{X: x - half, Y: y - half}, {X: x + half, Y: y - half}, {X: x + half, Y: y + half}, {X: x - half, Y: y + half}})
}

// stroke draws a line.
func stroke(c draw.Canvas, from, to vg.Point, ink color.Color, thick vg.Length) {
	c.StrokeLine2(draw.LineStyle{Color: ink, Width: thick}, from.X, from.Y, to.X, to.Y)
}
