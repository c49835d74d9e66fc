package chart

import (
	"fmt"
	"image/color"
	"io"

	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// Shares say what is so on how many of some.
type Shares struct {
	Title, Below string
	Of           int
	Rows         []Share
}

// Share is what is so on some.
type Share struct {
	Text  string
	Names string // of them, as far as there is room
	Count int
	Bad   bool
}

const (
	shareRow   vg.Length = 46
	shareSide  vg.Length = 28
	shareRight vg.Length = 130
	mostShares           = 20
)

// DrawShares writes shares as a picture, at most 20 of them.
func DrawShares(out io.Writer, s *Shares, format Format) error {
	rows := s.Rows[:min(len(s.Rows), mostShares)]
	size := max(height, roomAbove+roomBelow+shareRow*vg.Length(len(rows)))
	return picture(out, format, size, func(c draw.Canvas) { s.draw(c, rows, size) })
}

func (s *Shares) draw(c draw.Canvas, rows []Share, height vg.Length) {
	pen := newWriter(c)
	box := func(x0, x1, y0, y1 vg.Length, fill color.Color) {
		c.FillPolygon(fill, []vg.Point{{X: x0, Y: y0}, {X: x1, Y: y0}, {X: x1, Y: y1}, {X: x0, Y: y1}})
	}
	box(0, width, 0, height, color.White)
	pen.write(s.Title, 14, ink, text.XCenter, vg.Point{X: width / 2, Y: height - roomAbove/2})
	below := s.Below
	if rest := len(s.Rows) - len(rows); rest > 0 {
		below += fmt.Sprintf("; %d more lines are not drawn", rest)
	}
	pen.write(below, 10, faint, text.XCenter, vg.Point{X: width / 2, Y: roomBelow / 4})
	if len(rows) == 0 {
		pen.write("nobody has said anything", 10, faint, text.XCenter, vg.Point{X: width / 2, Y: height / 2})
	}
	left, right := shareSide, width-shareRight
	for i, r := range rows {
		y := height - roomAbove - shareRow*vg.Length(i) - shareRow/2
		words, fill := color.Color(ink), color.Color(many)
		if r.Bad {
			words, fill = failed, failed
		}
		pen.write(r.Text, 11, words, text.XLeft, vg.Point{X: left, Y: y + 13})
		const half = 4
		box(left, right, y-half, y+half, night)
		box(left, left+max((right-left)*vg.Length(r.Count)/vg.Length(max(s.Of, 1)), 1), y-half, y+half, fill)
		pen.write(fmt.Sprintf("%d of %d", r.Count, s.Of), 11, words, text.XLeft, vg.Point{X: right + 10, Y: y})
		pen.write(r.Names, 9, faint, text.XLeft, vg.Point{X: left, Y: y - 12})
	}
}
