package watch

import (
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"

	tea "charm.land/bubbletea/v2"
)

// marks are where the person is in the view. What is chosen is a row by its name: when
// rows change their places, the cursor goes with it.
type marks struct {
	cursor, top int
	chosen      string
	filter      string
	typing      bool // a filter
	// What was drawn last: on which line the first row is, and how many there are.
	firstRow, rowsShown int
}

// page is a text in front of the view, such as a run's output.
type page struct {
	title string
	lines []string
	top   int
	run   int64 // whose output it follows; 0 for none
	tail  bool  // its end is shown
}

// frame is what every view has: rows to choose from, a filter, a page in front, and a last line.
type frame struct {
	marks
	style         Style
	width, height int
	page          *page
	note          string // what came of the last key
}

func (f *frame) scroll(by int) {
	shown := max(1, f.height-2)
	last := max(0, len(f.wrapped())-shown)
	if f.page.tail {
		f.page.top = last
	}
	f.page.top = max(0, min(f.page.top+by, last))
	f.page.tail = f.page.run != 0 && f.page.top == last
}

// wrapped are the lines of the page, none wider than the terminal.
func (f *frame) wrapped() []string {
	var out []string
	for _, l := range f.page.lines {
		out = append(out, strings.Split(ansi.Wrap(l, max(f.width-2, 1), ""), "\n")...)
	}
	return out
}

func (f *frame) pageLines() []string {
	p, room := f.page, f.height-1
	wrapped := f.wrapped()
	shown := max(1, room-1)
	if p.tail {
		p.top = max(0, len(wrapped)-shown)
	}
	lines := []string{f.style.title(f.width, p.title, "")}
	for _, l := range wrapped[min(p.top, len(wrapped)):min(p.top+shown, len(wrapped))] {
		lines = append(lines, " "+l)
	}
	return fill(lines, f.width, room, f.style.signs().more)
}

func (f *frame) pageKey(k string) {
	shown := max(1, f.height-3)
	switch k {
	case "up":
		f.scroll(-1)
	case "down":
		f.scroll(1)
	case "pgup":
		f.scroll(-shown)
	case "pgdown", "space":
		f.scroll(shown)
	case "home":
		f.scroll(-len(f.wrapped()))
	case "end":
		f.scroll(len(f.wrapped()))
	case "esc", "q":
		f.page = nil
	}
}

// typed takes a key of a filter.
func (m *marks) typed(k, text string) {
	switch k {
	case "enter":
		m.typing = false
	case "esc":
		m.typing, m.filter = false, ""
	case "backspace":
		_, n := utf8.DecodeLastRuneInString(m.filter)
		m.filter = m.filter[:len(m.filter)-n]
	default:
		m.filter += text
	}
	m.choose("")
}

// choose chooses a row by its name, "" for the first one.
func (m *marks) choose(name string) { m.chosen, m.cursor = name, 0 }

// settle puts the cursor on the row that is chosen, given the names of all rows as they are
// now. Where that row is gone, the one in its place is chosen.
func (m *marks) settle(rows []string) {
	if i := slices.Index(rows, m.chosen); i >= 0 {
		m.cursor = i
		return
	}
	m.cursor = max(0, min(m.cursor, len(rows)-1))
	if m.chosen = ""; len(rows) > 0 {
		m.chosen = rows[m.cursor]
	}
}

// move chooses another one of some rows.
func (m *marks) move(by int, rows []string) {
	m.settle(rows)
	m.chosen, m.cursor = "", m.cursor+by
	m.settle(rows)
}

// moved takes a key that chooses a row, and reports whether it is one.
func (m *marks) moved(k string, rows []string) bool {
	shown := max(1, m.rowsShown)
	by, ok := map[string]int{"up": -1, "down": 1, "pgup": -shown, "pgdown": shown, "home": -len(rows), "end": len(rows)}[k]
	if ok {
		m.move(by, rows)
	}
	return ok
}

// taken takes a key that all views have, and reports whether it was one.
func (f *frame) taken(msg tea.KeyPressMsg, rows []string, help []string) (cmd tea.Cmd, ok bool) {
	k := msg.String()
	switch {
	case k == "ctrl+c":
		return tea.Quit, true
	case f.page != nil:
		f.pageKey(k)
		return nil, true
	case f.typing:
		f.typed(k, msg.Text)
		return nil, true
	}
	f.note = ""
	switch k {
	case "/":
		f.typing = true
	case "esc":
		f.filter = ""
	case "?":
		f.page = &page{title: "keys", lines: help}
	case "q":
		return tea.Quit, true
	default:
		return nil, f.moved(k, rows)
	}
	return nil, true
}

// wheel takes a turn of the mouse's wheel.
func (f *frame) wheel(msg tea.MouseWheelMsg, rows []string) {
	const step = 3
	by := step
	if msg.Button == tea.MouseWheelUp {
		by = -step
	}
	if f.page != nil {
		f.scroll(by)
		return
	}
	f.move(by, rows)
}

// click chooses the row that is clicked on.
func (f *frame) click(msg tea.MouseClickMsg, rows []string) {
	if row := msg.Y - f.firstRow; f.page == nil && row >= 0 && row < f.rowsShown && f.top+row < len(rows) {
		f.choose(rows[f.top+row])
		f.settle(rows)
	}
}

// screen is what is drawn: lines, with what is in front, and the last line.
func (f *frame) screen(lines func() []string, bottom string) tea.View {
	v := tea.View{AltScreen: true, MouseMode: tea.MouseModeCellMotion, WindowTitle: "Time Gate"}
	if f.width == 0 || f.height == 0 {
		return v
	}
	var drawn []string
	if f.page != nil {
		drawn = f.pageLines()
	} else {
		drawn = lines()
	}
	v.Content = strings.Join(append(drawn, ansi.Truncate(bottom, f.width, "")), "\n")
	return v
}

// title is a line above others.
func (y *Style) title(width int, text, more string) string {
	line := y.Head(text)
	if more != "" {
		line += " " + y.Faint(more)
	}
	rest := width - ansi.StringWidth(line) - 1
	return line + " " + y.Faint(strings.Repeat(y.signs().rule, max(rest, 0)))
}

// How the last line says what keys do where something is typed, or in front.
const (
	typingKeys = "type a part of a name; enter keeps the filter, esc drops it"
	pageKeys   = "up, down, page up, page down; esc puts it away"
)
