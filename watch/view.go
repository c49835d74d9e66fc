package watch

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/words"
)

// Style is how text is dressed.
type Style struct {
	Good, Bad, Warn, Faint, Head func(string) string
	ASCII                        bool // no signs beyond it
}

// signs are what is drawn with.
type signs struct {
	run, failed, passed, due, now, cursor, dot, rule, more string
	curve                                                  []string
}

func (y *Style) signs() signs {
	if y.ASCII {
		return signs{run: "#", failed: "x", passed: "-", due: "o", now: "|", cursor: ">", dot: " - ", rule: "-", more: "~"}
	}
	return signs{run: "■", failed: "×", passed: "–", due: "□", now: "│", cursor: "›", dot: " · ", rule: "─", more: "…",
		curve: []string{"▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"}}
}

// result dresses a word by how well it is.
func (y *Style) result(word string, r engine.Result) string {
	switch r {
	case engine.ResultOK:
		return y.Good(word)
	case engine.ResultFailed, engine.ResultOverran, engine.ResultRefused, engine.ResultLost:
		return y.Bad(word)
	case engine.ResultSkipped, engine.ResultMissed, engine.ResultStopped:
		return y.Warn(word)
	}
	return word
}

// picture draws the state in a terminal's width and height.
func (s *state) picture(y *Style, m *marks, width, height int) []string {
	room := height - 1 // the keys are below
	lines := s.header(y, width)
	if !s.loaded {
		return fill(append(lines, "", "  waiting for the keeper …"), width, room, y.signs().more)
	}
	least := 4                                            // of gates
	runs := min(len(s.runs), max(1, (room-len(lines))/5)) // that are shown
	events := min(len(s.events), max(3, (room-len(lines)-runs)/3))
	rows := s.rows(m.filter)
	gates := room - len(lines) - runs - events - 2
	if len(s.runs) > 0 {
		gates--
	}
	if gates < least {
		events, gates = max(0, events-(least-gates)), least
	}
	if more := gates - max(len(rows), least); more > 0 { // what the gates do not need
		gates -= more
		events = min(len(s.events), events+more)
	}
	if len(s.runs) > 0 {
		lines = append(lines, y.title(width, "running", fmt.Sprintf("%d", len(s.runs))))
		for _, r := range s.runs[len(s.runs)-runs:] {
			lines = append(lines, s.runLine(y, r, width))
		}
	}
	lines = append(lines, s.gatesTitle(y, m, width, len(rows)))
	m.top = scrolled(m.top, m.cursor, gates, len(rows))
	m.firstRow = len(lines)
	m.rowsShown = min(gates, len(rows)-m.top)
	for i := m.top; i < m.top+m.rowsShown; i++ {
		lines = append(lines, s.gateLine(y, &rows[i], i == m.cursor, width))
	}
	lines = fill(lines, width, room-events-1, y.signs().more)
	lines = append(lines, y.title(width, "happened", ""))
	for i := range s.events[:events] {
		lines = append(lines, s.eventLine(y, &s.events[i], width))
	}
	return fill(lines, width, room, y.signs().more)
}

// fill cuts lines to a width, with a sign where something is cut off, and makes them as many
// as are wanted.
func fill(lines []string, width, n int, more string) []string {
	for len(lines) < n {
		lines = append(lines, "")
	}
	lines = lines[:max(n, 0)]
	for i := range lines {
		lines[i] = ansi.Truncate(lines[i], width, more)
	}
	return lines
}

// scrolled returns the first row that is shown, so that the cursor is among them.
func scrolled(top, cursor, shown, all int) int {
	top = min(top, cursor)
	if cursor >= top+shown {
		top = cursor - shown + 1
	}
	return max(0, min(top, all-shown))
}

// header tells of the machine, the keeper, and what is wrong.
func (s *state) header(y *Style, width int) []string {
	dot := y.signs().dot
	local := s.now.In(s.zone.Location())
	parts := []string{y.Head(s.host)}
	if !s.now.IsZero() {
		parts = append(parts, local.Format("Mon 2 Jan 15:04:05"))
	}
	if s.loaded {
		power := "on mains"
		if f := &s.status.Facts; f.OnBattery {
			power = "on battery"
			if f.Charge > 0 {
				power += fmt.Sprintf(" %d%%", f.Charge)
			}
			power = y.Warn(power)
		}
		parts = append(parts, power)
		if p := s.status.Facts.People; len(p) > 0 {
			parts = append(parts, strings.Join(p, ", ")+" logged on")
		}
		if s.status.Staged {
			parts = append(parts, "STAGED")
		}
		if s.status.Asleep {
			parts = append(parts, y.Warn("asleep"))
		}
		if s.status.Paused {
			text := "paused"
			if u := s.status.PauseUntil; u != nil {
				text += " until " + u.In(s.zone.Location()).Format("15:04")
			}
			parts = append(parts, y.Warn(text))
		}
	}
	lines := joined(parts, dot, width)
	if s.gone != "" {
		lines = append(lines, y.Bad("no keeper answers")+": "+s.gone)
	}
	for _, t := range s.status.Troubles {
		lines = append(lines, y.Warn("cannot tell "+words.Line(t.What))+": "+words.Line(t.Why))
	}
	for _, text := range s.found {
		lines = append(lines, y.Warn("check")+": "+words.Line(text))
	}
	const most = 4 // lines of what is wrong
	if len(lines) > most {
		more := len(lines) - most + 1
		lines = append(lines[:most-1], y.Faint(fmt.Sprintf("and %d more: timegate check", more)))
	}
	return lines
}

// joined joins parts into lines of a width.
func joined(parts []string, between string, width int) []string {
	lines := parts[:1:1]
	for _, p := range parts[1:] {
		if last := lines[len(lines)-1] + between + p; ansi.StringWidth(last) <= width {
			lines[len(lines)-1] = last
		} else {
			lines = append(lines, "  "+p)
		}
	}
	return lines
}

// runLine tells what a run does.
func (s *state) runLine(y *Style, r *running, width int) string {
	took := s.now.Sub(r.since)
	text := fmt.Sprintf("  %s run %d, %s", r.gate, r.run, whole(took))
	if g, known := s.gate(r.gate); known && g.Usual.Runs > 0 {
		usual := "usually " + words.Duration(g.Usual.Took)
		if g.Usual.Unusual(took) == "long" {
			usual = y.Warn("long: " + usual)
		}
		text += " (" + usual + ")"
	}
	if !r.watched {
		return text
	}
	if n := len(r.shares); n > 0 {
		text += fmt.Sprintf("  %s%3.0f %%", curve(r.shares, y.signs().curve), r.shares[n-1]*100)
	}
	text += "  " + humanize.Bytes(uint64(max(r.latest.Memory, 0)))
	if r.latest.Output > 0 {
		text += fmt.Sprintf("  %s printed: %s", humanize.Bytes(uint64(r.latest.Output)), y.Faint(words.Line(r.latest.LastLine)))
	} else {
		text += "  " + y.Faint("nothing printed")
	}
	return text
}

// whole is a span in whole seconds.
func whole(d time.Duration) string {
	if d < time.Second {
		return "0 s"
	}
	return words.Duration(d.Truncate(time.Second))
}

// ago is how long something is past, in one unit.
func ago(d time.Duration) string {
	for _, unit := range []time.Duration{24 * time.Hour, time.Hour, time.Minute} {
		if d >= unit {
			return words.Duration(d.Truncate(unit))
		}
	}
	return whole(d)
}

// curve draws shares as small bars, the tallest a whole processor.
func curve(shares []float64, bars []string) string {
	var b strings.Builder
	for _, share := range shares {
		if len(bars) > 0 {
			b.WriteString(bars[min(int(share*float64(len(bars))), len(bars)-1)])
		}
	}
	if b.Len() > 0 {
		b.WriteByte(' ')
	}
	return b.String()
}

// columns are how wide the parts of a gate's line are: its name, what it does or when it
// opens next, how it ended last, and the strip of its day, 0 for none.
type columns struct{ name, next, last, strip int }

// columnsOf divides a width. What a gate waits for and how it ended come before its day.
func columnsOf(width int) columns {
	const (
		small, wide = 60, 110
		leastStrip  = 24
		around      = 4 // the cursor, and the room before the strip
	)
	c := columns{name: 22, next: 30, last: 24}
	switch {
	case width < small:
		c.name, c.next = 16, 16
	case width < wide:
		c.next = 28
	}
	if c.strip = width - c.name - c.next - c.last - around; c.strip < leastStrip {
		c.strip = 0
	}
	return c
}

func (s *state) gatesTitle(y *Style, m *marks, width, n int) string {
	c := columnsOf(width)
	left := y.Head("gates") + " "
	switch {
	case m.typing:
		left += "filter: " + m.filter + "_"
	case m.filter != "":
		left += y.Faint(fmt.Sprintf("%d with %q", n, m.filter))
	default:
		left += y.Faint(fmt.Sprint(n))
	}
	cells := pad(left, c.name+2+c.next+c.last+2)
	return cells + y.Faint(hours(c.strip))
}

// hours names the hours above the strips of days, the last one at their end.
func hours(width int) string {
	if width == 0 {
		return ""
	}
	const day, least = 24, 4 // hours, and what one takes with the room after it
	apart := 6
	for _, h := range []int{1, 2, 3} {
		if width*h/day >= least {
			apart = h
			break
		}
	}
	out := []byte(strings.Repeat(" ", width))
	for h := 0; h < day; h += apart {
		copy(out[h*width/day:], fmt.Sprintf("%02d", h))
	}
	copy(out[width-2:], fmt.Sprint(day))
	return string(out)
}

// pad cuts or fills a text to a width, with a sign where something is cut off.
func (y *Style) pad(text string, width int) string {
	return pad(ansi.Truncate(text, width-1, y.signs().more), width)
}

func pad(text string, width int) string {
	text = ansi.Truncate(text, width-1, "")
	return text + strings.Repeat(" ", max(width-ansi.StringWidth(text), 0))
}

// gateLine tells of a gate: what it does or when it opens next, how it ended last, and
// its day.
func (s *state) gateLine(y *Style, g *Gate, chosen bool, width int) string {
	c := columnsOf(width)
	mark, title := "  ", words.Line(g.Name)
	if chosen {
		mark, title = y.signs().cursor+" ", y.Head(title)
	}
	st := s.status.Gates[g.Name]
	next := ""
	switch {
	case g.Broken != "":
		return mark + pad(title, c.name) + y.Bad("broken") + "  " + words.Line(g.Broken)
	case len(st.Running) > 0:
		next = y.Good("runs")
	case st.Waiting != "":
		next = y.Warn("waits for " + words.Line(st.Waiting))
	case !g.Enabled:
		next = y.Faint("off")
	case st.Next != nil:
		if next = "now"; st.Next.Sub(s.now) >= time.Second {
			next = "in " + whole(st.Next.Sub(s.now))
		}
	default:
		next = y.Faint("on an event")
	}
	last := ""
	if e, known := s.last[g.Name]; known {
		last = y.result(e.what, e.result) + " " + y.Faint(ago(s.now.Sub(e.at))+" ago")
	}
	line := mark + y.pad(title, c.name) + y.pad(next, c.next) + y.pad(last, c.last)
	if c.strip > 0 {
		line += "  " + s.strip(y, g, c.strip)
	}
	return line
}

// strip draws the day of a gate: what ran, what passed without a run, and what comes.
func (s *state) strip(y *Style, g *Gate, width int) string {
	start, ok := s.zone.Start(s.day)
	end, _ := s.zone.Start(s.day + 1)
	if !ok || end <= start {
		return ""
	}
	cell := func(at calendar.Instant) int {
		if at < start || at >= end {
			return -1
		}
		return int(int64(at-start) * int64(width) / int64(end-start))
	}
	now := calendar.InstantOf(s.now)
	sign := y.signs()
	weights := map[string]int{sign.due: 1, sign.now: 2, sign.passed: 3, sign.run: 4, sign.failed: 5}
	cells := make([]string, width)
	set := func(i int, what string) {
		if i >= 0 && i < width && weights[what] > weights[cells[i]] {
			cells[i] = what
		}
	}
	for _, due := range g.Dues {
		if due > now && g.Enabled {
			set(cell(due), sign.due)
		}
	}
	set(cell(now), sign.now)
	for _, sp := range s.spans[g.Name] {
		what := sign.run
		switch sp.result {
		case engine.ResultSkipped, engine.ResultMissed:
			what = sign.passed
		case engine.ResultFailed, engine.ResultOverran, engine.ResultRefused, engine.ResultLost, engine.ResultStopped:
			what = sign.failed
		}
		to := sp.to
		if to == 0 {
			to = now
		}
		if to < start || sp.from >= end {
			continue
		}
		last := cell(min(to, end-1))
		for i := cell(max(sp.from, start)); i <= last; i++ {
			set(i, what)
		}
	}
	var b strings.Builder
	for _, c := range cells {
		switch c {
		case "":
			b.WriteByte(' ')
		case sign.run:
			b.WriteString(y.Good(c))
		case sign.failed:
			b.WriteString(y.Bad(c))
		case sign.passed:
			b.WriteString(y.Warn(c))
		default:
			b.WriteString(y.Faint(c))
		}
	}
	return b.String()
}

func (s *state) eventLine(y *Style, e *event, width int) string {
	at := e.at.In(s.zone.Location())
	when := at.Format("15:04:05")
	if day, _ := s.zone.Local(calendar.InstantOf(e.at)); day != s.day {
		when = at.Format("Mon 15:04")
	}
	run := ""
	if e.run != 0 {
		run = fmt.Sprintf("run %d", e.run)
	}
	const leastForRun = 100 // columns
	line := "  " + pad(when, 11) + y.pad(words.Line(e.gate), columnsOf(width).name)
	if width >= leastForRun {
		line += pad(run, 10)
	}
	return line + pad(y.result(e.what, e.result), 13) + y.Faint(words.Line(e.why))
}
