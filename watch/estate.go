package watch

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"timegate/core/words"
)

// EstateSource is what the view of an estate is fed by.
type EstateSource interface {
	// News is told when there is something new.
	News() <-chan struct{}
	// Look returns what is known now.
	Look() *Estate
	// Show tells all of a workstation, a line each.
	Show(host string) []string
}

// Estate is what is known of many workstations.
type Estate struct {
	Name    string
	Summary string // how many there are, and so on
	Trouble string // why the broker is not reached; "" where it is
	Bundle  string // and how its waves come along; "" for none
	// Of those that the bundle is for: how many have it, how many have refused it, taken it
	// back or do worse with it, and how many there are.
	Taken, Bad, All int
	Columns         []string
	Hosts           []EstateHost // those with trouble first
	Events          []EstateEvent
}

// EstateHost is a workstation.
type EstateHost struct {
	Name   string
	Groups []string
	Bad    bool            // something is wrong there
	Cells  func() []string // of the columns, dressed
}

// EstateEvent is something that has happened, the latest first.
type EstateEvent struct {
	At   time.Time
	Host string
	Text string // dressed
}

// estateModel is the terminal program.
type estateModel struct {
	frame
	zone    *time.Location
	source  EstateSource
	estate  *Estate // nil until something is known
	onlyBad bool    // only workstations with trouble are shown
	widths  []int   // of the columns, as far as they were drawn
}

type estateMsg struct{ *Estate }

// RunEstate shows the view until it is quit, or the context ends.
func RunEstate(ctx context.Context, source EstateSource, o Options) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	m := &estateModel{frame: frame{style: o.Style}, zone: o.Zone.Location(), source: source}
	return show(ctx, stop, m, o, func(send func(tea.Msg)) { feedEstate(ctx, source, send) })
}

// show shows a view, and feeds it meanwhile.
func show(ctx context.Context, stop func(), m tea.Model, o Options, feed func(send func(tea.Msg))) error {
	const frames = 10 // a second, at most
	p := tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(o.In), tea.WithOutput(o.Out), tea.WithFPS(frames))
	var feeding sync.WaitGroup
	feeding.Go(func() { feed(p.Send) })
	_, err := p.Run()
	stop()
	feeding.Wait()
	if errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil || errors.Is(err, tea.ErrInterrupted) {
		return nil // it was asked to end
	}
	return err
}

// How an estate is looked at: together what comes within a time, and now and then also where
// nothing comes, as to be silent is something, too.
const (
	estateTogether = 200 * time.Millisecond
	estateLook     = 10 * time.Second
)

// feedEstate tells the view what there is, until the context ends.
func feedEstate(ctx context.Context, source EstateSource, send func(tea.Msg)) {
	look := time.NewTicker(estateLook)
	defer look.Stop()
	for {
		send(estateMsg{source.Look()})
		select {
		case <-ctx.Done():
			return
		case <-look.C:
		case <-source.News():
			select {
			case <-ctx.Done():
				return
			case <-time.After(estateTogether):
			}
		}
	}
}

// Init implements [tea.Model].
func (m *estateModel) Init() tea.Cmd { return nil }

// Update implements [tea.Model].
func (m *estateModel) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height, m.widths = msg.Width, msg.Height, nil
	case estateMsg:
		m.estate = msg.Estate
	case tea.MouseWheelMsg:
		m.wheel(msg, m.names())
	case tea.MouseClickMsg:
		m.click(msg, m.names())
	case tea.KeyPressMsg:
		return m, m.key(msg)
	}
	return m, nil
}

// rows returns the workstations that are shown.
func (m *estateModel) rows() []EstateHost {
	switch {
	case m.estate == nil:
		return nil
	case m.filter == "" && !m.onlyBad:
		return m.estate.Hosts
	}
	var out []EstateHost
	for _, h := range m.estate.Hosts {
		if (h.Bad || !m.onlyBad) && (strings.Contains(h.Name, m.filter) || slices.Contains(h.Groups, m.filter)) {
			out = append(out, h)
		}
	}
	return out
}

var estateKeys = []string{
	"up, down, page up, page down   choose a workstation; the mouse does, too",
	"enter   all of it: its bundle, its gates, its latest failures",
	"t   only those with trouble; once more for all",
	"/   only those with a text in their names, or of a group",
	"?   this page",
	"q   quit",
}

// names are those of the workstations as they are shown.
func (m *estateModel) names() []string {
	var out []string
	for _, h := range m.rows() {
		out = append(out, h.Name)
	}
	return out
}

func (m *estateModel) key(msg tea.KeyPressMsg) tea.Cmd {
	if cmd, ok := m.taken(msg, m.names(), estateKeys); ok {
		return cmd
	}
	switch msg.String() {
	case "t":
		m.onlyBad = !m.onlyBad
	case "enter":
		if m.settle(m.names()); m.chosen != "" {
			m.page = &page{title: m.chosen, lines: m.source.Show(m.chosen)}
		}
	}
	return nil
}

// View implements [tea.Model].
func (m *estateModel) View() tea.View {
	bottom := m.style.Faint("enter details  t only trouble  / find  ? keys  q quit")
	switch {
	case m.page != nil:
		bottom = m.style.Faint(pageKeys)
	case m.typing:
		bottom = m.style.Faint(typingKeys)
	}
	return m.screen(func() []string { return m.picture(m.width, m.height) }, bottom)
}

// picture draws what is known in a terminal's width and height.
func (m *estateModel) picture(width, height int) []string {
	room, e := height-1, m.estate // the keys are below
	if e == nil {
		return fill([]string{"  looking at the estate …"}, width, room, m.style.signs().more)
	}
	lines := m.header(e, width)
	rows := m.rows()
	m.settle(m.names())
	events := min(len(e.Events), max(3, (room-len(lines))/3))
	least := 3 // workstations
	hosts := room - len(lines) - events - 3
	if hosts < least {
		events, hosts = max(0, events-(least-hosts)), least
	}
	if more := hosts - max(len(rows), least); more > 0 { // what they do not need
		hosts -= more
		events = min(len(e.Events), events+more)
	}
	lines = append(lines, m.style.title(width, "workstations", m.which(len(rows))))
	m.top = scrolled(m.top, m.cursor, hosts, len(rows))
	m.rowsShown = min(hosts, len(rows)-m.top)
	table := m.table(e.Columns, rows[m.top:m.top+m.rowsShown])
	lines = append(lines, m.style.Faint("  "+table[0]))
	m.firstRow = len(lines)
	for i, text := range table[1:] {
		mark := " "
		if m.top+i == m.cursor {
			mark = m.style.signs().cursor
		}
		lines = append(lines, mark+" "+text)
	}
	lines = append(fill(lines, width, room-events-1, m.style.signs().more), m.style.title(width, "happened", ""))
	longest := 0
	for _, ev := range e.Events[:events] {
		longest = max(longest, ansi.StringWidth(words.Line(ev.Host)))
	}
	for _, ev := range e.Events[:events] {
		lines = append(lines, fmt.Sprintf(" %s  %s %s", ev.At.In(m.zone).Format("Mon 15:04:05"), pad(words.Line(ev.Host), longest+1), ev.Text))
	}
	return fill(lines, width, room, m.style.signs().more)
}

// header tells of the shop and its bundle.
func (m *estateModel) header(e *Estate, width int) []string {
	lines := []string{m.style.Head(e.Name) + m.style.signs().dot + e.Summary}
	if e.Trouble != "" {
		lines = append(lines, m.style.Bad("the broker is not reached: "+words.Line(e.Trouble)))
	}
	if e.Bundle == "" {
		return append(lines, "no bundle was published yet", "")
	}
	lines = append(lines, ansi.Truncate(e.Bundle, width, ""))
	if e.All > 0 {
		lines = append(lines, m.bar(e, width))
	}
	return append(lines, "")
}

// bar draws how many workstations have the bundle.
func (m *estateModel) bar(e *Estate, width int) string {
	text := fmt.Sprintf(" %d of %d", e.Taken, e.All)
	if e.Bad > 0 {
		text += ", " + m.style.Bad(fmt.Sprintf("%d with trouble", e.Bad))
	}
	const most = 60
	room := min(most, width-ansi.StringWidth(text))
	if room < 8 {
		return text[1:]
	}
	// One workstation is seen, however many there are.
	part := func(n int) int {
		if n == 0 {
			return 0
		}
		return max(1, n*room/e.All)
	}
	bad := part(min(e.Bad, e.All))
	good := min(part(max(e.Taken-e.Bad, 0)), room-bad)
	sign := m.style.signs()
	return m.style.Good(strings.Repeat(sign.run, good)) + m.style.Bad(strings.Repeat(sign.failed, bad)) + m.style.Faint(strings.Repeat(sign.rule, room-good-bad)) + text
}

// which says which workstations are shown.
func (m *estateModel) which(n int) string {
	text := fmt.Sprint(n)
	if m.onlyBad {
		text += " with trouble"
	}
	switch {
	case m.typing:
		text += "  filter: " + words.Line(m.filter) + "_"
	case m.filter != "":
		text += fmt.Sprintf(" with %q", m.filter)
	}
	return text
}

// table draws the rows below the columns, each as wide as it ever was.
func (m *estateModel) table(columns []string, rows []EstateHost) []string {
	cells := [][]string{columns}
	for _, h := range rows {
		cells = append(cells, h.Cells())
	}
	for len(m.widths) < len(columns) {
		m.widths = append(m.widths, 0)
	}
	for _, row := range cells {
		for i, text := range row {
			m.widths[i] = max(m.widths[i], ansi.StringWidth(text))
		}
	}
	var out []string
	for _, row := range cells {
		var line strings.Builder
		for i, text := range row {
			line.WriteString(pad(text, m.widths[i]+2))
		}
		out = append(out, strings.TrimRight(line.String(), " "))
	}
	return out
}
