package chart

import (
	"fmt"
	"image/color"
	"io"
	"math"

	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// Bars are spans of time one below the other, in seconds from one beginning.
type Bars struct {
	Title, Below string
	Mark         float64 // a moment that a line marks, and its word
	MarkText     string
	Rows         []Bar
}

// Bar is one span, the darker the heavier.
type Bar struct {
	Label, Text string
	From, To    float64
	Heavy       float64
}

// What bars look like, in points.
const (
	barRow   vg.Length = 26
	barLeft  vg.Length = 150
	barRight vg.Length = 130
	mostBars           = 24
)

var warm = color.RGBA{0xb4, 0x53, 0x09, 0xff}

// DrawBars writes bars as a picture, at most 24 of them.
func DrawBars(out io.Writer, b *Bars, format Format) error {
	rows := b.Rows[:min(len(b.Rows), mostBars)]
	size := max(height, roomAbove+roomBelow+barRow*vg.Length(len(rows)))
	return picture(out, format, size, func(c draw.Canvas) { b.draw(c, rows, size) })
}

func (b *Bars) draw(c draw.Canvas, rows []Bar, height vg.Length) {
	words := newWriter(c)
	c.FillPolygon(color.White, []vg.Point{{}, {X: width}, {X: width, Y: height}, {Y: height}})
	end, heaviest := b.Mark*1.15, 0.0
	for _, r := range rows {
		end, heaviest = max(end, min(r.To, 2*b.Mark)), max(heaviest, r.Heavy)
	}
	end = max(end, 1)
	x := func(s float64) vg.Length {
		return barLeft + (width-barLeft-barRight)*vg.Length(min(s, end)/end)
	}
	middle := (barLeft + width - barRight) / 2
	words.write(b.Title, 14, ink, text.XCenter, vg.Point{X: middle, Y: height - roomAbove/2})
	words.write(b.Below, 10, faint, text.XCenter, vg.Point{X: width / 2, Y: roomBelow / 4})
	top, bottom := height-roomAbove, roomBelow
	step := niceStep(end)
	for s := 0.0; s <= end; s += step {
		line(c, x(s), bottom, top, night)
		words.write(fmt.Sprintf("%g s", s), 10, ink, text.XCenter, vg.Point{X: x(s), Y: roomBelow * 3 / 4})
	}
	line(c, x(b.Mark), bottom, top+6, warm)
	row := (top - bottom) / vg.Length(max(len(rows), 1))
	row = min(row, barRow*3/2)
	for i, r := range rows {
		y := top - row*(vg.Length(i)+0.5)
		words.write(r.Label, 10, ink, text.XRight, vg.Point{X: barLeft - 8, Y: y})
		x0, x1 := x(r.From), max(x(r.To), x(r.From)+2)
		fill := few
		if heaviest > 0 {
			fill = mix(few, many, r.Heavy/heaviest)
		}
		const thick = 0.3
		c.FillPolygon(fill, []vg.Point{{X: x0, Y: y - thick*row}, {X: x1, Y: y - thick*row}, {X: x1, Y: y + thick*row}, {X: x0, Y: y + thick*row}})
		words.write(r.Text, 10, faint, text.XLeft, vg.Point{X: x1 + 6, Y: y})
	}
	if len(rows) == 0 {
		words.write("nothing started meanwhile", 10, faint, text.XCenter, vg.Point{X: middle, Y: (top + bottom) / 2})
	}
	words.write(b.MarkText, 10, warm, text.XLeft, vg.Point{X: x(b.Mark) + 4, Y: top + 5})
}

// line draws an upright line.
func line(c draw.Canvas, x, from, to vg.Length, ink color.Color) {
	const thick = 0.6
	c.FillPolygon(ink, []vg.Point{{X: x - thick, Y: from}, {X: x + thick, Y: from}, {X: x + thick, Y: to}, {X: x - thick, Y: to}})
}

// niceStep returns a round step that parts a span into about eight.
func niceStep(span float64) float64 {
	rough := span / 8
	unit := math.Pow(10, math.Floor(math.Log10(rough)))
	for _, m := range []float64{1, 2, 5, 10} {
		if m*unit >= rough {
			return m * unit
		}
	}
	return 10 * unit
}
