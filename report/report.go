// Package report writes what happened on a machine, and what comes, as one page that needs
// nothing else to be read: HTML with its pictures in it, without a script.
package report

import (
	"bytes"
	_ "embed"
	"html/template"
	"io"
	"strings"
	"time"

	"timegate/chart"
	"timegate/core/forecast"
)

// Page is what a report tells.
type Page struct {
	Title string // such as "studio-laptop, Mon 30 Nov 2026"
	Span  string // in words
	Made  string // when, in words
	// Figures are the sums at the top.
	Figures  []Figure
	Bad      []Line // runs that did not end well, the newest first
	MoreBad  int    // that are left out
	Passed   []Line // moments without a run, those of one gate and reason together
	Gates    []Gate
	Startups []Startup
	Findings []Finding
	Next     []Line
	Day      *chart.Day // what held on the machine, and what ran
	Week     *forecast.Week
	Readings []Reading // what was measured with runs
}

// Reading is what was measured before and after the runs of a gate.
type Reading struct {
	Gate, What string
	Picture    *chart.Readings
}

// Figure is a number with what it is of.
type Figure struct {
	Number, Of string
	Bad        bool
}

// Line is something at a moment.
type Line struct {
	At, Gate, What, Why string
	Run                 int64
	Count               int64
}

// Gate is what a gate did in the whole time.
type Gate struct {
	Name, About                string
	Runs, Bad, Skipped, Missed int64
	Usual, Longest, Total      string
	Unusual                    string // how the longest stands out
}

// Startup is how the machine fared after a boot or a logon.
type Startup struct{ At, After, Took, Note string }

// Finding is something that is wrong or unwise now.
type Finding struct{ Severity, Place, Message, Remedy string }

//go:embed page.html
var page string

var layout = template.Must(template.New("page").Parse(page))

// Write writes a page.
func Write(out io.Writer, p *Page) error {
	type drawnReading struct {
		Text    string
		Picture template.HTML
	}
	data := struct {
		*Page
		DayPicture, WeekPicture template.HTML
		DayText, WeekText       string
		ReadingPictures         []drawnReading
	}{Page: p}
	var err error
	for _, r := range p.Readings {
		svg, err := drawn(func(w io.Writer) error { return chart.DrawReadings(w, r.Picture, chart.SVG) })
		if err != nil {
			return err
		}
		data.ReadingPictures = append(data.ReadingPictures, drawnReading{r.Gate + ": " + r.What + " before and after each of " + r.Picture.Below, svg})
	}
	if p.Day != nil {
		if data.DayPicture, err = drawn(func(w io.Writer) error { return chart.DrawDay(w, p.Day, chart.SVG) }); err != nil {
			return err
		}
		data.DayText = "What held on the machine, and a line for each gate with what ran. " + p.Day.Below
	}
	if p.Week != nil {
		title := "the week from " + p.Week.From.Noon().Format("Mon 2 Jan")
		if data.WeekPicture, err = drawn(func(w io.Writer) error { return chart.DrawWeek(w, p.Week, chart.SVG, title, "starts by hour") }); err != nil {
			return err
		}
		data.WeekText = "How many starts come in each hour of the next seven days."
	}
	return layout.Execute(out, data)
}

// drawn is a picture as part of a page: without what makes it a document of its own, and as
// wide as there is room.
func drawn(draw func(io.Writer) error) (template.HTML, error) {
	var b bytes.Buffer
	if err := draw(&b); err != nil {
		return "", err
	}
	text := b.String()
	if i := strings.Index(text, "<svg"); i > 0 {
		text = text[i:]
	}
	head, rest, _ := strings.Cut(text, ">")
	var kept []string
	for _, attribute := range strings.Fields(head) {
		if !strings.HasPrefix(attribute, "width=") && !strings.HasPrefix(attribute, "height=") {
			kept = append(kept, attribute)
		}
	}
	return template.HTML(strings.Join(kept, " ") + ` aria-hidden="true">` + rest), nil
}

// Gather makes few spans out of many: those of one kind that are closer together than a
// share of the whole become one.
func Gather(runs []chart.LaneRun, whole time.Duration) []chart.LaneRun {
	const share = 400
	var out []chart.LaneRun
	for _, r := range runs {
		if n := len(out); n > 0 && out[n-1].Bad == r.Bad && r.From.Sub(out[n-1].To) < whole/share {
			out[n-1].To = max(out[n-1].To, r.To)
			continue
		}
		out = append(out, r)
	}
	return out
}
