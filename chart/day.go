package chart

import (
	"cmp"
	"fmt"
	"image/color"
	"io"
	"time"

	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"timegate/core/calendar"
)

// Day is a span of time on a machine: what held on it above, and a lane for each gate.
type Day struct {
	Title, Below string
	Zone         *calendar.Zone
	Off          string // what is written where the machine is off; "" for that
	From, To     calendar.Instant
	States       []DayState
	Lanes        []Lane
}

// DayState is what held on the machine for a while.
type DayState struct {
	From, To             calendar.Instant
	Off, Asleep, Battery bool
	People               string // who was logged on
}

// Lane is what a gate did.
type Lane struct {
	Gate  string
	Runs  []LaneRun
	Marks []LaneMark
}

// LaneRun is a run.
type LaneRun struct {
	From, To calendar.Instant
	Bad      bool // it did not end well
}

// LaneMark is a moment without a start, or a start that waits.
type LaneMark struct {
	At   calendar.Instant
	Text string
}

// What a day looks like, in points.
const (
	dayLeft   vg.Length = 130
	dayRight  vg.Length = 24
	band      vg.Length = 16
	laneMost  vg.Length = 28
	laneLeast vg.Length = 14
	mostLanes           = 60
)

var (
	awake   = color.RGBA{0xe8, 0xf1, 0xea, 0xff}
	asleep  = color.RGBA{0x39, 0x4b, 0x6b, 0xff}
	gone    = color.RGBA{0xb9, 0xbf, 0xc6, 0xff}
	amber   = color.RGBA{0xf0, 0xc3, 0x62, 0xff}
	present = color.RGBA{0xa9, 0xc9, 0xe8, 0xff}
	failed  = color.RGBA{0xb4, 0x2b, 0x2b, 0xff}
)

// DrawDay writes a day as a picture, with at most 60 lanes.
func DrawDay(out io.Writer, d *Day, format Format) error {
	lanes := d.Lanes[:min(len(d.Lanes), mostLanes)]
	row := laneMost
	if len(lanes) > 14 {
		row = laneLeast
	}
	size := max(height, roomAbove+roomBelow+4*band+row*vg.Length(len(lanes)))
	return picture(out, format, size, func(c draw.Canvas) { d.draw(c, lanes, row, size) })
}

// x is where an instant lies.
func (d *Day) x(at calendar.Instant) vg.Length {
	at = max(d.From, min(at, d.To))
	return dayLeft + (width-dayLeft-dayRight)*vg.Length(float64(at-d.From)/float64(d.To-d.From))
}

func (d *Day) draw(c draw.Canvas, lanes []Lane, row, height vg.Length) {
	words := newWriter(c)
	box := func(fill color.Color, x0, x1, y0, y1 vg.Length) {
		c.FillPolygon(fill, []vg.Point{{X: x0, Y: y0}, {X: x1, Y: y0}, {X: x1, Y: y1}, {X: x0, Y: y1}})
	}
	box(color.White, 0, width, 0, height)
	words.write(d.Title, 14, ink, text.XCenter, vg.Point{X: width / 2, Y: height - roomAbove/2})
	below := d.Below
	if more := len(d.Lanes) - len(lanes); more > 0 {
		below += fmt.Sprintf("; %d more gates are not drawn", more)
	}
	words.write(below, 10, faint, text.XCenter, vg.Point{X: width / 2, Y: roomBelow / 4})
	top := height - roomAbove
	for i, label := range []string{"machine", "on battery", "logged on"} {
		words.write(label, 10, faint, text.XRight, vg.Point{X: dayLeft - 8, Y: top - band*(vg.Length(i)+0.5)})
		y := top - band*vg.Length(i)
		for _, s := range d.band(i) {
			x0, x1 := d.x(s.from), d.x(s.to)
			box(s.fill, x0, x1, y-band+1, y-1)
			words.within(s.word, 9, s.ink, x0, x1, y-band/2)
		}
	}
	bottom := roomBelow
	lanesTop := top - 3*band - 8
	for _, at := range d.ticks() {
		line(c, d.x(at), bottom, lanesTop, night)
		words.write(d.tickText(at), 9, ink, text.XCenter, vg.Point{X: d.x(at), Y: roomBelow * 3 / 4})
	}
	for i, l := range lanes {
		y := lanesTop - row*(vg.Length(i)+0.5)
		words.write(clip(l.Gate), 9, ink, text.XRight, vg.Point{X: dayLeft - 8, Y: y})
		line2(c, dayLeft, width-dayRight, y, night)
		const thick = 0.3
		for _, r := range l.Runs {
			fill := color.Color(many)
			if r.Bad {
				fill = failed
			}
			x0 := d.x(r.From)
			box(fill, x0, max(d.x(r.To), x0+1.5), y-thick*row, y+thick*row)
		}
		d.marks(c, words, &l, y, row)
	}
	if len(lanes) == 0 {
		words.write("nothing is decided", 10, faint, text.XCenter, vg.Point{X: (dayLeft + width - dayRight) / 2, Y: (lanesTop + bottom) / 2})
	}
}

// stretch is a part of a band in which one thing holds.
type stretch struct {
	from, to  calendar.Instant
	fill, ink color.Color
	word      string
}

// band returns what holds, one thing at a time: whether the machine is on, runs on its
// battery, and who is logged on.
func (d *Day) band(which int) []stretch {
	var out []stretch
	for _, s := range d.States {
		x := stretch{from: s.From, to: s.To, ink: ink}
		switch {
		case which == 0 && s.Off:
			x.fill, x.word = gone, cmp.Or(d.Off, "off")
		case which == 0 && s.Asleep:
			x.fill, x.ink, x.word = asleep, color.White, "asleep"
		case which == 0:
			x.fill, x.word = awake, "on"
		case which == 1 && s.Battery && !s.Off:
			x.fill, x.word = amber, "battery"
		case which == 2 && s.People != "" && !s.Off:
			x.fill, x.word = present, s.People
		default:
			continue
		}
		if n := len(out); n > 0 && out[n-1].word == x.word && out[n-1].to == x.from {
			out[n-1].to = x.to
			continue
		}
		out = append(out, x)
	}
	return out
}

// marks draws moments without a start, with their words where there is room before the
// next one.
func (d *Day) marks(c draw.Canvas, words writer, l *Lane, y, row vg.Length) {
	const half vg.Length = 3
	for i, m := range l.Marks {
		x := d.x(m.At)
		fill := warm
		if m.Text == "refused" {
			fill = failed
		}
		c.FillPolygon(fill, []vg.Point{{X: x - half, Y: y}, {X: x, Y: y - half}, {X: x + half, Y: y}, {X: x, Y: y + half}})
		room := width - dayRight - x
		if i+1 < len(l.Marks) {
			room = d.x(l.Marks[i+1].At) - x
		}
		for _, r := range l.Runs {
			if x1 := d.x(r.From); x1 > x {
				room = min(room, x1-x)
			} else if d.x(r.To) > x {
				room = 0
			}
		}
		if row >= laneMost && room > textRoom(m.Text)+2*half {
			words.write(m.Text, 8, warm, text.XLeft, vg.Point{X: x + half + 2, Y: y})
		}
	}
}

// textRoom is about how wide a word is, in points.
func textRoom(s string) vg.Length { return vg.Length(len(s)) * 5 }

// within writes a word in the middle of a box, if it has room there.
func (w writer) within(s string, size vg.Length, c color.Color, x0, x1, y vg.Length) {
	if x1-x0 > textRoom(s)+4 {
		w.write(s, size, c, text.XCenter, vg.Point{X: (x0 + x1) / 2, Y: y})
	}
}

// clip shortens a long name.
func clip(s string) string {
	const most = 22
	if len(s) > most {
		return s[:most-1] + "…"
	}
	return s
}

// line2 draws a level line.
func line2(c draw.Canvas, from, to, y vg.Length, ink color.Color) {
	const thick = 0.4
	c.FillPolygon(ink, []vg.Point{{X: from, Y: y - thick}, {X: to, Y: y - thick}, {X: to, Y: y + thick}, {X: from, Y: y + thick}})
}

// ticks are the full hours, days or months that are named below: about twelve of them.
func (d *Day) ticks() []calendar.Instant {
	const about = 12
	hours := d.To.Sub(d.From).Hours()
	first := d.From.Time().In(d.Zone.Location())
	var out []calendar.Instant
	add := func(t time.Time) bool { // reports whether there may be more
		at, _ := d.Zone.Resolve(calendar.DayOf(t.Year(), int(t.Month()), t.Day()), int64(t.Hour())*3_600_000)
		if at >= d.From && at <= d.To && (len(out) == 0 || at > out[len(out)-1]) {
			out = append(out, at)
		}
		return at <= d.To
	}
	if months := hours / 24 / 30; months > about/4 {
		step := int(months)/about + 1
		for n := 0; add(time.Date(first.Year(), time.Month(1+n*step), 1, 0, 0, 0, 0, time.UTC)); n++ {
		}
		return out
	}
	steps := []int{1, 2, 3, 6, 12, 24, 48, 168}
	step := steps[len(steps)-1]
	for _, h := range steps {
		if float64(h*about) >= hours {
			step = h
			break
		}
	}
	for n := 0; add(time.Date(first.Year(), first.Month(), first.Day(), n*step, 0, 0, 0, time.UTC)); n++ {
	}
	return out
}

// tickText names a full hour, and at midnight of several days the day.
func (d *Day) tickText(at calendar.Instant) string {
	t := at.Time().In(d.Zone.Location())
	switch days := d.To.Sub(d.From).Hours() / 24; {
	case days <= 25.0/24 || t.Hour() != 0:
		return t.Format("15:04")
	case days > 14:
		return t.Format("2 Jan")
	}
	return t.Format("Mon 2")
}
