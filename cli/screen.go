package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"regexp"
	"strings"

	"timegate/core/words"

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
	// With --json what is shown is kept, and goes with the one document that goes here; nil
	// where there is none.
	document   io.Writer
	documented bool // a command has printed a document of its own
}

// documents is where documents go.
func (s *screen) documents() io.Writer {
	if s.document == nil {
		return s.Forward
	}
	s.documented = true
	return s.document
}

func newScreen(f *os.File) *screen {
	s := &screen{Writer: colorprofile.NewWriter(f, os.Environ())}
	if s.terminal = term.IsTerminal(int(f.Fd())); s.terminal {
		s.width, _, _ = term.GetSize(int(f.Fd()))
	}
	return s
}

// onto is a screen that looks the same, of which the text goes somewhere else.
func (s *screen) onto(w io.Writer) *screen {
	return &screen{Writer: &colorprofile.Writer{Forward: w, Profile: s.Profile}, width: s.width, ascii: s.ascii}
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
	return strings.TrimSuffix(style.String(), "m") + seal + "m" + t + "\x1b[" + seal + "m"
}

// dress returns what dresses text for another that draws, where the terminal shows colours.
func (s *screen) dress(style ansi.Style) func(string) string {
	if s.Profile <= colorprofile.ASCII {
		return func(t string) string { return t }
	}
	return style.Styled
}

// seal is a parameter of the control sequences that are our own, by which they
// are told from those in what others have written: nobody could have known it.
var seal = fmt.Sprintf(";%d", 1_000_000_000+rand.Int64N(9_000_000_000))

// sealed matches our own control sequences (SGR in ECMA-48).
var sealed = regexp.MustCompile("\x1b\\[([0-9;]*)" + seal + "m")

// Write shows text. Whatever others have written that a terminal would take for
// more than text is written out; this is the one place for that.
func (s *screen) Write(p []byte) (int, error) {
	var b strings.Builder
	text := string(p)
	for text != "" {
		at := sealed.FindStringSubmatchIndex(text)
		if at == nil {
			at = []int{len(text), len(text), 0, 0}
		}
		b.WriteString(words.Lines(text[:at[0]]))
		if at[1] > at[0] {
			b.WriteString("\x1b[" + text[at[2]:at[3]] + "m")
		}
		text = text[at[1]:]
	}
	if _, err := s.Writer.Write([]byte(b.String())); err != nil {
		return 0, err
	}
	return len(p), nil
}

// WriteString is Write.
func (s *screen) WriteString(text string) (int, error) { return s.Write([]byte(text)) }

// clearLine takes the line away that is being written (EL in ECMA-48).
func (s *screen) clearLine() { io.WriteString(s.Writer, "\r\x1b[K") }

// cell is what a table shows of a text: one line.
var cell = strings.NewReplacer("\n", `\n`, "\t", `\t`, "\r", `\r`)

// raw shows bytes as they are, unless it is a terminal that would act on them.
func (s *screen) raw(p []byte) error {
	if s.terminal {
		p = []byte(words.Lines(string(p)))
	}
	_, err := s.Forward.Write(p)
	return err
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
// more, the last column, which has the text, goes on in further lines, broken
// between words; only where that leaves it no room are others cut, with a mark. In
// a file, lines are as long as they come.
func (s *screen) table(headers []string, rows [][]string) {
	for _, row := range rows {
		for i := range row {
			row[i] = cell.Replace(row[i])
		}
	}
	widths := columns(headers, rows)
	if s.width > 0 {
		narrow(widths, s.width-gap*(len(widths)-1))
	}
	var b strings.Builder
	for i, row := range append([][]string{headers}, rows...) {
		style := func(cell string) string { return cell }
		if i == 0 {
			style = s.head
		}
		s.row(&b, row, widths, style)
	}
	io.WriteString(s, b.String())
}

// columns returns how wide each column would like to be.
func columns(headers []string, rows [][]string) []int {
	widths := make([]int, len(headers))
	for _, row := range append([][]string{headers}, rows...) {
		for i, cell := range row {
			widths[i] = max(widths[i], ansi.StringWidth(cell))
		}
	}
	return widths
}

// fits reports whether a table needs no more than the terminal's width.
func (s *screen) fits(headers []string, rows [][]string) bool {
	widths := columns(headers, rows)
	return s.width == 0 || s.offset(widths)+widths[len(widths)-1] <= s.width
}

// wrap breaks text between words, and inside of one only where it has no room in a
// line. A hyphen joins a word, as in --quiet.
func wrap(text string, width int) string {
	const joiner = "\u2011"
	return strings.ReplaceAll(ansi.Wrap(strings.ReplaceAll(text, "-", joiner), width, ""), joiner, "-")
}

// wrapped breaks text between words to the terminal's width, with a margin for the
// further lines.
func (s *screen) wrapped(text string) string {
	const margin, least = 2, 20
	if s.width < least {
		return text
	}
	return strings.ReplaceAll(wrap(text, s.width-margin), "\n", "\n"+strings.Repeat(" ", margin))
}

// row writes one row of a table.
func (s *screen) row(b *strings.Builder, row []string, widths []int, style func(string) string) {
	more := "…"
	if s.ascii {
		more = "~"
	}
	last := len(widths) - 1
	pad := 0
	for i, cell := range row {
		width := ansi.StringWidth(cell)
		switch {
		case width > widths[i] && i == last:
			margin := strings.Repeat(" ", pad)
			for j, line := range strings.Split(wrap(cell, widths[i]), "\n") {
				if j > 0 {
					b.WriteByte('\n')
					margin = strings.Repeat(" ", s.offset(widths))
				}
				b.WriteString(margin + style(strings.TrimRight(line, " ")))
			}
			continue
		case width > widths[i]:
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

// offset is where the last column begins.
func (s *screen) offset(widths []int) int {
	at := 0
	for _, w := range widths[:len(widths)-1] {
		at += w + gap
	}
	return at
}

// textWidth is what the last column has at least, where there is room at all.
const textWidth = 20

// narrow takes from the last column, down to what text needs, and then from the
// widest until all fit.
func narrow(widths []int, room int) {
	const least = 6
	last := len(widths) - 1
	total := 0
	for _, w := range widths {
		total += w
	}
	if over := total - room; over > 0 {
		cut := max(min(over, widths[last]-textWidth), 0)
		widths[last] -= cut
		total -= cut
	}
	for total > room {
		widest := 0
		for i, w := range widths[:last] {
			if w >= widths[widest] {
				widest = i
			}
		}
		if widths[widest] <= least {
			widest = last
		}
		if widths[widest] <= least {
			return
		}
		widths[widest]--
		total--
	}
}

// printJSON prints one document.
func (s *screen) printJSON(v any) error {
	text, err := jsonText(v, "")
	if err == nil {
		_, err = io.WriteString(s.documents(), text+"\n")
	}
	return err
}

// jsonText is a value in JSON, indented behind a prefix. What JSON leaves as it is and a
// terminal acts on becomes an escape of JSON.
func jsonText(v any, prefix string) (string, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetIndent(prefix, "  ")
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return "", err
	}
	return words.JSON(strings.TrimSuffix(b.String(), "\n")), nil
}

// jsonList prints a list as JSON, one value after the other.
type jsonList struct {
	out *bufio.Writer
	n   int
	err error // what came between; nothing is written after it
}

func (s *screen) jsonList() *jsonList { return &jsonList{out: bufio.NewWriter(s.documents())} }

func (l *jsonList) add(v any) {
	if l.err != nil {
		return
	}
	text, err := jsonText(v, "  ")
	if err == nil {
		before := ",\n  "
		if l.n == 0 {
			before = "[\n  "
		}
		l.n++
		_, err = l.out.WriteString(before + text)
	}
	l.err = err
}

// end ends the list.
func (l *jsonList) end() error {
	if l.err != nil {
		return l.err
	}
	text := "\n]\n"
	if l.n == 0 {
		text = "[]\n"
	}
	l.out.WriteString(text) // its error is the next one's
	return l.out.Flush()
}

func terminal(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }

func isTerminal(r any) bool {
	f, ok := r.(*os.File)
	return ok && terminal(f)
}
