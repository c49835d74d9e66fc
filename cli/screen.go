package cli

import (
	"encoding/json"
	"io"
	"os"
	"strings"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"
)

// screen is where output goes: a terminal or a file. Colours are dropped where
// the terminal has none, where NO_COLOR asks for it, and in files.
type screen struct {
	*colorprofile.Writer
	width    int // 0 where it is no terminal
	terminal bool
	ascii    bool
}

func newScreen(f *os.File) *screen {
	s := &screen{Writer: colorprofile.NewWriter(f, os.Environ())}
	if s.terminal = term.IsTerminal(int(f.Fd())); s.terminal {
		s.width, _, _ = term.GetSize(int(f.Fd()))
	}
	return s
}

// plainly drops colours and signs beyond ASCII.
func (s *screen) plainly() { s.Profile, s.ascii = colorprofile.NoTTY, true }

var (
	styleGood  = ansi.NewStyle().ForegroundColor(ansi.Green)
	styleBad   = ansi.NewStyle().Bold().ForegroundColor(ansi.Red)
	styleWarn  = ansi.NewStyle().ForegroundColor(ansi.Yellow)
	styleFaint = ansi.NewStyle().ForegroundColor(ansi.BrightBlack)
	styleHead  = ansi.NewStyle().Bold()
)

func (s *screen) good(t string) string  { return s.styled(styleGood, t) }
func (s *screen) bad(t string) string   { return s.styled(styleBad, t) }
func (s *screen) warn(t string) string  { return s.styled(styleWarn, t) }
func (s *screen) faint(t string) string { return s.styled(styleFaint, t) }
func (s *screen) head(t string) string  { return s.styled(styleHead, t) }

// styled dresses text where the terminal shows colours.
func (s *screen) styled(style ansi.Style, t string) string {
	if s.Profile <= colorprofile.ASCII {
		return t
	}
	return style.Styled(t)
}

// dot stands between two pieces of one value.
func (s *screen) dot() string {
	if s.ascii {
		return " - "
	}
	return " · "
}

// gap stands between two columns.
const gap = 2

// table prints rows below headers, in the terminal's width: where they need
// more, the widest columns are cut, with a mark. In a file, lines are as long
// as they come.
func (s *screen) table(headers []string, rows [][]string) {
	widths := make([]int, len(headers))
	for _, row := range append([][]string{headers}, rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], ansi.StringWidth(cell))
		}
	}
	if s.width > 0 {
		narrow(widths, s.width-gap*(len(widths)-1))
	}
	more := "…"
	if s.ascii {
		more = "~"
	}
	var b strings.Builder
	line := func(row []string, style func(string) string) {
		pad := 0
		for i, cell := range row {
			width := ansi.StringWidth(cell)
			if width > widths[i] {
				cell = ansi.Truncate(cell, widths[i], more)
				width = ansi.StringWidth(cell)
			}
			if width > 0 {
				b.WriteString(strings.Repeat(" ", pad) + style(cell))
				pad = 0
			}
			pad += widths[i] - width + gap
		}
		b.WriteByte('\n')
	}
	line(headers, s.head)
	for _, row := range rows {
		line(row, func(cell string) string { return cell })
	}
	io.WriteString(s, b.String())
}

// narrow takes from the widest columns until all fit.
func narrow(widths []int, room int) {
	const least = 6
	for {
		total, widest := 0, 0
		for i, w := range widths {
			total += w
			if w >= widths[widest] {
				widest = i
			}
		}
		if total <= room || widths[widest] <= least {
			return
		}
		widths[widest]--
	}
}

// printJSON prints one document.
func (s *screen) printJSON(v any) error {
	enc := json.NewEncoder(s.Forward)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

func terminal(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }

func isTerminal(r any) bool {
	f, ok := r.(*os.File)
	return ok && terminal(f)
}
