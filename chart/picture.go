package chart

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"strconv"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"timegate/core/calendar"
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

// Draw writes the week as a picture with a title above and a line below.
func (w *Week) Draw(out io.Writer, format Format, title, below string) error {
	p := plot.New()
	p.BackgroundColor = color.White
	p.Title.Text = title
	p.Title.Padding = vg.Points(10)
	p.Title.TextStyle = style(14, ink)
	p.X.Label.Text, p.X.Label.Padding = below, vg.Points(8)
	p.X.Label.TextStyle = style(10, faint)
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = -0.02, 24.02, -0.04, 7.04
	for _, axis := range []*plot.Axis{&p.X, &p.Y} {
		axis.LineStyle.Width, axis.Tick.LineStyle.Width = 0, 0
		axis.Padding = 0
		axis.Tick.Label.Color = ink
		axis.Tick.Label.Font = sans(10)
	}
	var hours, days []plot.Tick
	for h := 0; h <= 24; h += 2 {
		hours = append(hours, plot.Tick{Value: float64(h), Label: fmt.Sprintf("%02d:00", h)})
	}
	for d := range w.Cells {
		days = append(days, plot.Tick{Value: 6.5 - float64(d), Label: (w.From + calendar.Day(d)).Noon().Format("Mon 2 Jan")})
	}
	p.X.Tick.Marker, p.Y.Tick.Marker = plot.ConstantTicks(hours), plot.ConstantTicks(days)
	p.Add(grid{w})
	if format == SVG {
		c := vgsvg.New(width, height)
		p.Draw(margin(draw.New(c)))
		_, err := c.WriteTo(out)
		return err
	}
	c := vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(width, height), vgimg.UseDPI(dpi))}
	p.Draw(margin(draw.New(c)))
	_, err := c.WriteTo(out)
	return err
}

// margin leaves room at the edges, where labels would touch.
func margin(c draw.Canvas) draw.Canvas {
	return draw.Crop(c, vg.Points(14), -vg.Points(24), vg.Points(10), -vg.Points(12))
}

func sans(size float64) font.Font {
	return font.Font{Typeface: "Liberation", Variant: "Sans", Size: vg.Points(size)}
}

func style(size float64, c color.Color) draw.TextStyle {
	return draw.TextStyle{Color: c, Font: sans(size), XAlign: text.XCenter, YAlign: text.YTop, Handler: plot.DefaultTextHandler}
}

// grid draws the cells.
type grid struct{ week *Week }

// Plot implements plot.Plotter.
func (g grid) Plot(c draw.Canvas, p *plot.Plot) {
	tx, ty := p.Transforms(&c)
	most := float64(max(1, g.week.Most()))
	for d := range g.week.Cells {
		for h, n := range g.week.Cells[d] {
			y := float64(6 - d)
			const gap = 0.04
			corners := []vg.Point{
				{X: tx(float64(h) + gap), Y: ty(y + gap)}, {X: tx(float64(h+1) - gap), Y: ty(y + gap)},
				{X: tx(float64(h+1) - gap), Y: ty(y + 1 - gap)}, {X: tx(float64(h) + gap), Y: ty(y + 1 - gap)},
			}
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
			c.FillPolygon(fill, corners)
			if n > 0 {
				s := style(10, ink)
				s.YAlign = text.YCenter
				c.FillText(s, vg.Point{X: tx(float64(h) + 0.5), Y: ty(y + 0.5)}, number(n))
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
