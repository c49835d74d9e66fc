package cli

import (
	"encoding/json"
	"io"
	"os"
	"strings"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/charmbracelet/colorprofile"
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
	styleGood  = lipgloss.NewStyle().Foreground(lipgloss.Color("2"))
	styleBad   = lipgloss.NewStyle().Foreground(lipgloss.Color("1")).Bold(true)
	styleWarn  = lipgloss.NewStyle().Foreground(lipgloss.Color("3"))
	styleFaint = lipgloss.NewStyle().Foreground(lipgloss.Color("8"))
	styleHead  = lipgloss.NewStyle().Bold(true)
)

func (s *screen) good(t string) string  { return styleGood.Render(t) }
func (s *screen) bad(t string) string   { return styleBad.Render(t) }
func (s *screen) warn(t string) string  { return styleWarn.Render(t) }
func (s *screen) faint(t string) string { return styleFaint.Render(t) }
func (s *screen) head(t string) string  { return styleHead.Render(t) }

// dot stands between two pieces of one value.
func (s *screen) dot() string {
	if s.ascii {
		return " - "
	}
	return " · "
}

// table prints rows below headers, in the terminal's width. In a file, lines
// are as long as they come.
func (s *screen) table(headers []string, rows [][]string) {
	t := table.New().
		BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).BorderHeader(false).
		Headers(headers...).Rows(rows...).
		StyleFunc(func(row, col int) lipgloss.Style {
			style := lipgloss.NewStyle()
			if col < len(headers)-1 {
				style = style.PaddingRight(2)
			}
			if row == table.HeaderRow {
				style = style.Inherit(styleHead)
			}
			return style
		})
	if s.width > 0 && lipgloss.Width(t.String()) > s.width {
		t = t.Width(s.width)
	}
	for line := range strings.Lines(t.String() + "\n") {
		io.WriteString(s, strings.TrimRight(line, " \n")+"\n")
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
