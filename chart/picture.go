// Package chart draws when gates open: the week as a grid of days by hours.
package chart

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"strconv"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"timegate/core/calendar"
	"timegate/core/forecast"
)

// Format is a picture's file format.
type Format int

// Formats of pictures.
const (
	PNG Format = iota
	SVG
)

// The picture's size in points; a PNG has 1280 by 520 pixels.
const (
	width  vg.Length = 960
	height vg.Length = 390
	dpi              = 96
)

var (
	ink   = color.RGBA{0x22, 0x2b, 0x33, 0xff}
	faint = color.RGBA{0x7b, 0x87, 0x91, 0xff}
	night = color.RGBA{0xf3, 0xf4, 0xf6, 0xff}
	blank = color.RGBA{0xfb, 0xfa, 0xf7, 0xff}
	// A cell's colour runs from few to many.
	few  = color.RGBA{0xdc, 0xe9, 0xdf, 0xff}
	many = color.RGBA{0x1f, 0x5f, 0x4a, 0xff}
)

// Room around the grid, in points: for the title, the days, the hours with the
// line below, and the last hour's label.
const (
	roomAbove vg.Length = 44
	roomLeft  vg.Length = 84
	roomBelow vg.Length = 56
	roomRight vg.Length = 36
)

// DrawWeek writes a week as a picture with a title above and a line below.
func DrawWeek(out io.Writer, w *forecast.Week, format Format, title, below string) error {
	return picture(out, format, height, func(c draw.Canvas) { drawWeek(c, w, title, below) })
}

// picture writes a picture of the usual width, and of a height.
func picture(out io.Writer, format Format, height vg.Length, paint func(draw.Canvas)) error {
	if format == SVG {
		c := vgsvg.New(width, height)
		paint(draw.New(c))
		_, err := c.WriteTo(out)
		return err
	}
	c := vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(width, height), vgimg.UseDPI(dpi))}
	paint(draw.New(c))
	_, err := c.WriteTo(out)
	return err
}

func drawWeek(c draw.Canvas, w *forecast.Week, title, below string) {
	words := newWriter(c)
	c.FillPolygon(color.White, []vg.Point{{}, {X: width}, {X: width, Y: height}, {Y: height}})
	g := grid{canvas: c, words: words, left: roomLeft, bottom: roomBelow,
		hour: (width - roomLeft - roomRight) / 24, day: (height - roomAbove - roomBelow) / 7}
	middle := roomLeft + 12*g.hour
	words.write(title, 14, ink, text.XCenter, vg.Point{X: middle, Y: height - roomAbove/2})
	words.write(below, 10, faint, text.XCenter, vg.Point{X: middle, Y: roomBelow / 4})
	for h := 0; h <= 24; h += 2 {
		words.write(fmt.Sprintf("%02d:00", h), 10, ink, text.XCenter, vg.Point{X: g.left + vg.Length(h)*g.hour, Y: roomBelow * 3 / 4})
	}
	for d := range w.Cells {
		label := (w.From + calendar.Day(d)).Noon().Format("Mon 2 Jan")
		words.write(label, 10, ink, text.XRight, vg.Point{X: g.left - 8, Y: g.bottom + (vg.Length(6-d)+0.5)*g.day})
	}
	g.draw(w)
}

// writer writes words. Fonts are read when a picture is drawn, and not by
// commands that draw none.
type writer struct {
	canvas draw.Canvas
	plain  text.Plain
}

func newWriter(c draw.Canvas) writer {
	return writer{c, text.Plain{Fonts: font.NewCache(liberation.Collection())}}
}

func (w writer) write(words string, size vg.Length, c color.Color, align text.XAlignment, at vg.Point) {
	style := draw.TextStyle{Color: c, Font: font.Font{Typeface: "Liberation", Variant: "Sans", Size: size}, XAlign: align, YAlign: text.YCenter, Handler: w.plain}
	w.canvas.FillText(style, at, words)
}

// grid draws the cells.
type grid struct {
	canvas                  draw.Canvas
	words                   writer
	left, bottom, hour, day vg.Length
}

func (g grid) draw(w *forecast.Week) {
	most := float64(max(1, w.Most()))
	for d := range w.Cells {
		for h, n := range w.Cells[d] {
			const gap = 0.04
			x, y := g.left+vg.Length(h)*g.hour, g.bottom+vg.Length(6-d)*g.day
			x0, x1, y0, y1 := x+gap*g.hour, x+(1-gap)*g.hour, y+gap*g.day, y+(1-gap)*g.day
			fill, ink := color.Color(blank), color.Color(ink)
			if h < 6 || h >= 22 {
				fill = night
			}
			if n > 0 {
				// By the logarithm: one start more among few is seen too.
				share := math.Log1p(float64(n)) / math.Log1p(most)
				fill = mix(few, many, share)
				if share > 0.55 {
					ink = color.White
				}
			}
			g.canvas.FillPolygon(fill, []vg.Point{{X: x0, Y: y0}, {X: x1, Y: y0}, {X: x1, Y: y1}, {X: x0, Y: y1}})
			if n > 0 {
				g.words.write(number(n), 10, ink, text.XCenter, vg.Point{X: x + g.hour/2, Y: y + g.day/2})
			}
		}
	}
}

// number prints a count in at most four signs.
func number(n int64) string {
	if n >= 10_000 {
		return strconv.FormatInt(n/1000, 10) + "k"
	}
	return strconv.FormatInt(n, 10)
}

func mix(a, b color.RGBA, share float64) color.RGBA {
	part := func(x, y uint8) uint8 { return uint8(math.Round(float64(x) + (float64(y)-float64(x))*share)) }
	return color.RGBA{part(a.R, b.R), part(a.G, b.G), part(a.B, b.B), 0xff}
}
