package watch

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/words"
)

// question is asked before something is done that ends a program.
type question struct {
	text string
	do   Action
	gate string
}

// Action is what a keeper, or a gate's file, is asked for.
type Action string

// The actions.
const (
	Open    Action = "open"
	Stop    Action = "stop"
	Enable  Action = "enable"
	Disable Action = "disable"
	Pause   Action = "pause"
	Resume  Action = "resume"
)

// model is the terminal program.
type model struct {
	state
	frame
	source Source
	ctx    context.Context

	ask     *question
	asking  bool // the keeper is being asked how it is
	looking bool // runs are being looked at
}

// What the program is told.
type (
	tickMsg   time.Time
	foundMsg  []string
	loadedMsg struct {
		status control.Status
		loaded *Loaded
	}
	itemsMsg  []control.Item
	statusMsg struct {
		status control.Status
		err    error
	}
	goneMsg struct{ err error }
	lookMsg map[int64]Activity
	noteMsg string
	pageMsg struct{ page *page }
)

// Init implements [tea.Model].
func (m *model) Init() tea.Cmd { return tick() }

// tick comes with every second of the clock.
func tick() tea.Cmd { return tea.Every(time.Second, func(t time.Time) tea.Msg { return tickMsg(t) }) }

// Update implements [tea.Model].
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tickMsg:
		return m, m.second()
	case loadedMsg:
		m.load(msg.status, msg.loaded)
		return m, m.check()
	case foundMsg:
		m.found = msg
	case itemsMsg:
		changed := false
		for _, it := range msg {
			m.take(it)
			changed = changed || it.Event == string(engine.KindGatesChanged)
		}
		if changed {
			return m, func() tea.Msg { return m.reload() }
		}
		return m, m.askStatus()
	case statusMsg:
		if m.asking = false; msg.err == nil {
			m.refresh(msg.status)
		}
	case goneMsg:
		m.gone, m.runs = msg.err.Error(), nil
	case lookMsg:
		m.looking = false
		for run, a := range msg {
			m.look(run, a, m.now)
		}
	case noteMsg:
		m.note = string(msg)
		return m, m.askStatus()
	case pageMsg:
		m.turn(msg.page)
	case tea.MouseWheelMsg:
		m.wheel(msg, m.names())
	case tea.MouseClickMsg:
		if m.ask == nil {
			m.click(msg, m.names())
		}
	case tea.KeyPressMsg:
		return m, m.key(msg)
	}
	return m, nil
}

// check looks for what is wrong or unwise, beside the view: it may take a while.
func (m *model) check() tea.Cmd {
	return func() tea.Msg {
		list, err := m.source.Check(m.ctx)
		if err != nil {
			list = []string{err.Error()}
		}
		return foundMsg(list)
	}
}

// second lets a second pass: the clock goes on, and what is shown is looked at again.
func (m *model) second() tea.Cmd {
	if m.gone == "" && m.loaded {
		m.now = m.now.Add(time.Second)
	}
	cmds := []tea.Cmd{tick()}
	if day, _ := m.zone.Local(calendar.InstantOf(m.now)); m.loaded && day != m.day {
		m.day = day
		cmds = append(cmds, func() tea.Msg { return m.reload() })
	}
	if len(m.runs) > 0 && !m.looking && m.page == nil {
		m.looking = true
		cmds = append(cmds, m.lookAt(m.shownRuns()))
	}
	if p := m.page; p != nil && p.run != 0 {
		cmds = append(cmds, m.output(p.run, p.title))
	}
	return tea.Batch(cmds...)
}

// shownRuns are the runs that are looked at: the last ones.
func (m *model) shownRuns() []int64 {
	const most = 8
	var out []int64
	for _, r := range m.runs[max(0, len(m.runs)-most):] {
		out = append(out, r.run)
	}
	return out
}

func (m *model) lookAt(runs []int64) tea.Cmd {
	return func() tea.Msg {
		out := lookMsg{}
		for _, run := range runs {
			if a, ok := m.source.Activity(run); ok {
				out[run] = a
			}
		}
		return out
	}
}

// How long is waited before a keeper is asked how it is, after something has happened: it
// may go on.
const statusPause = 400 * time.Millisecond

// askStatus asks the keeper how it is.
func (m *model) askStatus() tea.Cmd {
	if m.asking {
		return nil
	}
	m.asking = true
	return tea.Tick(statusPause, func(time.Time) tea.Msg {
		status, err := m.source.Status(m.ctx)
		return statusMsg{status, err}
	})
}

// reload reads again what the view begins with.
func (m *model) reload() tea.Msg {
	status, err := m.source.Status(m.ctx)
	if err != nil {
		return goneMsg{err}
	}
	loaded, err := m.source.Load(status)
	if err != nil {
		return goneMsg{err}
	}
	return loadedMsg{status, loaded}
}

// turn puts a page in front, or goes on with the one that is there.
func (m *model) turn(p *page) {
	if now := m.page; now != nil && p.run != 0 && now.run == p.run {
		now.lines = p.lines
		return
	}
	if p.run != 0 && m.page != nil {
		return // it was put away while it was read
	}
	m.page = p
}

func (m *model) output(run int64, title string) tea.Cmd {
	return func() tea.Msg {
		text, err := m.source.Output(run)
		if err != nil {
			return noteMsg(err.Error())
		}
		lines := strings.Split(strings.TrimRight(words.Lines(string(text)), "\n"), "\n")
		return pageMsg{&page{title: title, lines: lines, run: run, tail: true}}
	}
}

// names are those of the gates as they are shown.
func (m *model) names() []string {
	var out []string
	for _, g := range m.rows(m.filter) {
		out = append(out, g.Name)
	}
	return out
}

// pick returns the gate that is chosen.
func (m *model) pick() (Gate, bool) {
	m.settle(m.names())
	return m.gate(m.chosen)
}

// View implements [tea.Model].
func (m *model) View() tea.View {
	return m.screen(func() []string {
		m.settle(m.names())
		return m.picture(&m.style, &m.marks, m.width, m.height)
	}, m.bottom())
}

// bottom is the last line: a question, what came of a key, or the keys.
func (m *model) bottom() string {
	text := ""
	switch {
	case m.ask != nil:
		text = m.style.Warn(m.ask.text) + " y or n"
	case m.page != nil:
		text = m.style.Faint(pageKeys)
	case m.typing:
		text = m.style.Faint(typingKeys)
	case m.note != "":
		text = words.Line(m.note)
	default:
		text = m.keys()
	}
	return text
}

// keys says what the keys do, and with which gate.
func (m *model) keys() string {
	text, pause := "", "p pause"
	if m.status.Paused {
		pause = "p resume"
	}
	if g, ok := m.pick(); ok {
		with := []string{"o open"}
		if len(m.status.Gates[g.Name].Running) > 0 {
			with = append(with, "s stop")
		}
		if g.Enabled {
			with = append(with, "d off")
		} else if g.Broken == "" {
			with = append(with, "e on")
		}
		text = m.style.Head(words.Line(g.Name)) + m.style.Faint(": "+strings.Join(append(with, "f follow", "w why"), "  ")+m.style.signs().dot)
	}
	return text + m.style.Faint(pause+"  / find  ? keys  q quit")
}

// keysHelp lists the keys.
var keysHelp = []string{
	"up, down, page up, page down   choose a gate; the mouse does, too",
	"o   open the gate: start its program now",
	"s   stop its programs; you are asked first",
	"e   enable the gate",
	"d   disable it; what runs goes on",
	"p   pause: nothing starts by itself; once more to resume",
	"f   follow what the gate's program prints, or read what its last run printed",
	"w   why it opened, or did not",
	"/   show only gates with a text in their names",
	"?   this page",
	"q   quit; the keeper goes on",
}

// key does what a key asks for.
func (m *model) key(msg tea.KeyPressMsg) tea.Cmd {
	k := msg.String()
	if q := m.ask; q != nil && k != "ctrl+c" {
		if m.ask = nil; k == "y" {
			return m.do(q.do, q.gate)
		}
		return nil
	}
	if cmd, ok := m.taken(msg, m.names(), keysHelp); ok {
		return cmd
	}
	if k != "p" {
		return m.gateKey(k)
	}
	if m.status.Paused {
		return m.do(Resume, "")
	}
	return m.do(Pause, "")
}

// gateKey does something with the gate under the cursor.
func (m *model) gateKey(k string) tea.Cmd {
	g, there := m.pick()
	if !there {
		return nil
	}
	switch k {
	case "o":
		return m.do(Open, g.Name)
	case "s":
		n := len(m.status.Gates[g.Name].Running)
		if n == 0 && !slices.ContainsFunc(m.runs, func(r *running) bool { return r.gate == g.Name }) {
			m.note = g.Name + " does not run"
			return nil
		}
		m.ask = &question{fmt.Sprintf("End the program of %s?", words.Line(g.Name)), Stop, g.Name}
	case "e":
		return m.do(Enable, g.Name)
	case "d":
		return m.do(Disable, g.Name)
	case "f":
		return m.follow(g.Name)
	case "w", "enter":
		return func() tea.Msg {
			text, err := m.source.Why(m.ctx, g.Name)
			if err != nil {
				return noteMsg(err.Error())
			}
			return pageMsg{&page{title: "why " + g.Name, lines: strings.Split(strings.TrimSpace(text), "\n")}}
		}
	}
	return nil
}

// follow shows what a gate's program prints, or what its last run printed.
func (m *model) follow(name string) tea.Cmd {
	run := m.last[name].run
	for _, r := range m.runs {
		if r.gate == name {
			run = r.run
		}
	}
	if run == 0 {
		m.note = name + " has not run yet"
		return nil
	}
	m.page = &page{title: fmt.Sprintf("%s run %d", name, run), run: run, tail: true}
	return m.output(run, m.page.title)
}

// do asks for something, and notes what came of it.
func (m *model) do(what Action, gate string) tea.Cmd {
	return func() tea.Msg {
		text, err := m.source.Do(m.ctx, what, gate)
		if err != nil {
			text = err.Error()
		}
		return noteMsg(text)
	}
}
