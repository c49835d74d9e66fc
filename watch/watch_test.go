package watch

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/journal"
)

var update = flag.Bool("update", false, "write the pictures anew")

// monday is a Monday at the bindery.
func monday(h, m, s int) time.Time { return time.Date(2026, 11, 30, h, m, s, 0, time.UTC) }

func instant(t time.Time) calendar.Instant { return calendar.InstantOf(t) }

// plainStyle dresses nothing.
func plainStyle(ascii bool) Style {
	same := func(s string) string { return s }
	return Style{Good: same, Bad: same, Warn: same, Faint: same, Head: same, ASCII: ascii}
}

// fake is a source without a keeper.
type fake struct {
	status control.Status
	err    error
	done   []string
}

func (f *fake) Status(context.Context) (control.Status, error) { return f.status, f.err }
func (f *fake) Follow(context.Context, int64, func(control.Item) error) error {
	return control.ErrNoKeeper
}
func (f *fake) Load(control.Status) (*Loaded, error) { return bindery(), nil }
func (f *fake) Check(context.Context) ([]string, error) {
	if f.err != nil {
		return nil, f.err
	}
	return []string{"glue-warm: /opt/larkspur/bin/glue-warm is\x1b[2J not there", "spool-reset and stock-count start the same"}, nil
}
func (f *fake) Activity(run int64) (Activity, bool) {
	return Activity{Processor: time.Duration(run) * time.Second, Memory: 12e6, Output: 40, LastLine: "page 7\x1b[2J"}, true
}
func (f *fake) Output(run int64) ([]byte, error) {
	return fmt.Appendf(nil, "run %d\nsays \x1b]0;x\x07\n", run), nil
}
func (f *fake) Why(_ context.Context, gate string) (string, error) { return gate + " was due.\n", nil }
func (f *fake) Do(_ context.Context, what Action, gate string) (string, error) {
	f.done = append(f.done, strings.TrimSpace(string(what)+" "+gate))
	if what == Stop {
		return "", errors.New("not permitted")
	}
	return string(what) + " done", nil
}

func bindery() *Loaded {
	day, _ := calendar.UTC.Local(instant(monday(12, 0, 0)))
	dues := func(hours ...int) (out []calendar.Instant) {
		for _, h := range hours {
			out = append(out, instant(monday(h, 0, 0)))
		}
		return out
	}
	return &Loaded{Day: day, Gates: []Gate{
		{Name: "cover-proof", Enabled: true, Usual: journal.Cost{Runs: 15, Took: 20 * time.Second}}, {Name: "glue-warm", Dues: dues(20)}, {Name: "humidity-log", About: "press room", Enabled: true, Dues: dues(8, 9, 10, 11, 12, 13, 14)},
		{Name: "job-board", Enabled: true}, {Name: "label-sheet", Broken: "line 1: expected\x1b[2J a list"}, {Name: "stock-count", Enabled: true, Dues: dues(8, 11, 14, 17)}, {Name: "vault-copy", Enabled: true, Dues: dues(12)},
	}, Past: []journal.Entry{
		{Run: 5, Gate: "cover-proof", Decided: instant(monday(11, 58, 0)), Started: instant(monday(11, 58, 0))},
		{Gate: "vault-copy", Due: instant(monday(12, 0, 0)), Decided: instant(monday(12, 0, 0)), Result: engine.ResultSkipped, Reason: engine.Reason{Code: engine.CodeUnmet, Args: engine.Args{Need: &engine.Need{Kind: engine.NeedPower}}}},
		{Run: 4, Gate: "stock-count", Decided: instant(monday(11, 0, 0)), Started: instant(monday(11, 0, 0)), Ended: instant(monday(11, 40, 0)), Result: engine.ResultFailed, Outcome: engine.Reason{Code: engine.CodeExit, Args: engine.Args{Status: 4}}},
		{Run: 3, Gate: "humidity-log", Decided: instant(monday(11, 0, 0)), Started: instant(monday(11, 0, 0)), Ended: instant(monday(11, 0, 1)), Result: engine.ResultOK, Outcome: engine.Reason{Code: engine.CodeExit}},
	}}
}

func status(now time.Time, running ...int64) control.Status {
	next := monday(14, 0, 0)
	return control.Status{Now: now, Facts: control.Facts{OnBattery: true, Charge: 64, People: []string{"maren"}}, Gates: map[string]control.GateStatus{
		"cover-proof": {Running: running}, "humidity-log": {Next: &next}, "stock-count": {Next: &next}, "vault-copy": {Waiting: "mains power"}, "job-board": {}}}
}

// shown returns a model that has been loaded.
func shown(src Source, width, height int, style Style) *model {
	m := &model{state: state{zone: calendar.UTC, host: "studio-laptop"}, frame: frame{style: style}, source: src, ctx: context.Background()}
	m.Update(tea.WindowSizeMsg{Width: width, Height: height})
	if _, check := m.Update(loadedMsg{status(monday(12, 10, 0), 5), bindery()}); check != nil {
		m.Update(check())
	}
	return m
}

// TestPictures draws the view in several sizes, and compares with pictures that were read.
func TestPictures(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {200, 60}, {40, 12}, {20, 4}, {1, 1}} {
		m := shown(&fake{}, size[0], size[1], plainStyle(size[0] == 80))
		m.Update(lookMsg{5: {Processor: time.Second, Memory: 3e6}})
		m.Update(tickMsg{})
		m.Update(lookMsg{5: {Processor: 1500 * time.Millisecond, Memory: 3e6, Output: 900, LastLine: "page 33\x1b[2J"}})
		checkPicture(t, m.View().Content, size, "testdata/%dx%d.txt")
	}
}

// checkPicture looks whether a picture of a width and a height fits there and is plain text, and
// compares a large one with one that was read. One of 80 columns has no signs beyond ASCII.
func checkPicture(t *testing.T, text string, size [2]int, file string) {
	t.Helper()
	lines := strings.Split(text, "\n")
	if len(lines) != size[1] {
		t.Errorf("%v: %d lines", size, len(lines))
	}
	for _, l := range lines {
		if n := ansi.StringWidth(l); n > size[0] || strings.ContainsAny(l, "\x1b\x07\r") {
			t.Errorf("%v: a line of %d, or with control signs: %q", size, n, l)
		}
		if size[0] == 80 && strings.IndexFunc(l, func(r rune) bool { return r > 126 }) >= 0 {
			t.Errorf("a plain line has signs beyond ASCII: %q", l)
		}
	}
	if size[0] < 80 {
		return
	}
	file = fmt.Sprintf(file, size[0], size[1])
	if *update {
		if err := os.WriteFile(file, []byte(text+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if text+"\n" != string(want) {
		t.Errorf("%v is\n%s\nwant\n%s", size, text, want)
	}
}

// TestItems: what the stream tells is in the view at once, and what the keeper says settles
// what still runs.
func TestItems(t *testing.T) {
	m := shown(&fake{}, 120, 40, plainStyle(false))
	item := func(at time.Time, decision, gate string, run int64, result string) control.Item {
		return control.Item{At: at, Decisions: []control.Decision{{At: at, Gate: gate, Decision: decision, Run: run, Result: result, Reason: "due\x1b[1m"}}}
	}
	for _, step := range []struct {
		msg  tea.Msg
		want []string
		not  []string
	}{
		{itemsMsg{item(monday(12, 10, 5), "start", "stock-count", 6, "")}, []string{"stock-count run 6, 1 s", "12:10:05", "running 2"}, nil},
		{itemsMsg{item(monday(12, 10, 9), "end", "stock-count", 6, "ok")}, []string{"ok 1 s ago", "running 1"}, []string{"stock-count run 6,"}},
		{itemsMsg{item(monday(12, 10, 9), "skip", "glue-warm", 0, "missed")}, []string{"missed"}, nil},
		{itemsMsg{item(monday(12, 10, 9), "stop", "cover-proof", 5, "")}, []string{"asked to end"}, nil},
		{statusMsg{status: status(monday(12, 20, 0))}, []string{"12:20:01"}, []string{"running"}},
		{goneMsg{control.ErrNoKeeper}, []string{"no keeper answers"}, nil},
		{statusMsg{err: control.ErrNoKeeper}, []string{"no keeper answers"}, nil},
		{loadedMsg{status(monday(12, 21, 0), 5), bindery()}, []string{"running 1", "cover-proof run 5, 23 min 1 s (long: usually 20 s)"}, []string{"no keeper answers"}},
	} {
		m.Update(step.msg)
		m.Update(tickMsg{})
		text := m.View().Content
		for _, want := range step.want {
			if !strings.Contains(text, want) {
				t.Errorf("after %T the view has no %q:\n%s", step.msg, want, text)
			}
		}
		for _, not := range step.not {
			if strings.Contains(text, not) {
				t.Errorf("after %T the view still has %q:\n%s", step.msg, not, text)
			}
		}
	}
}

// TestKeys types keys and reads what is shown and asked for.
func TestKeys(t *testing.T) {
	for _, tt := range []struct{ keys, done, want, not string }{
		{"", "", "› label-sheet", "y or n"},
		{"down", "", "› cover-proof", ""},
		{"down down up up up up", "", "› label-sheet", ""},
		{"end", "", "› glue-warm", ""},
		{"pgdown home", "", "› label-sheet", ""},
		{"down o", "open cover-proof", "open done", ""},
		{"down s", "", "End the program of cover-proof? y or n", ""},
		{"down s y", "stop cover-proof", "not permitted", "y or n"},
		{"down s n", "", "q quit", "y or n"},
		{"down s q", "", "q quit", "y or n"},
		{"end s", "", "glue-warm does not run", ""},
		{"end e", "enable glue-warm", "enable done", ""},
		{"down d", "disable cover-proof", "disable done", ""},
		{"p", "pause", "pause done", ""},
		{"down f", "", "says \\x1b]0;x\\x07", "gates"},
		{"end f", "", "glue-warm has not run yet", ""},
		{"down f esc", "", "gates", "says"},
		{"down w", "", "cover-proof was due.", "gates"},
		{"?", "", "open the gate: start its program now", "gates 7"},
		{"? q", "", "gates 7", "start its program"},
		{"/ s t o enter", "", "1 with \"sto\"", "job-board"},
		{"/ p r e s s", "", "filter: press_", "vault-copy      waits"},
		{"/ s t backspace esc", "", "gates 7", ""},
		{"/ n o t h i n g enter o", "", "0 with", ""},
		{"/ é enter", "", "0 with \"é\"", ""},
	} {
		src := &fake{status: status(monday(12, 10, 0), 5)}
		m := shown(src, 120, 40, plainStyle(false))
		for _, k := range strings.Fields(tt.keys) {
			run(m, press(k))
		}
		text := m.View().Content
		if got := strings.Join(src.done, ", "); got != tt.done {
			t.Errorf("%q does %q, want %q", tt.keys, got, tt.done)
		}
		if !strings.Contains(text, tt.want) || tt.not != "" && strings.Contains(text, tt.not) {
			t.Errorf("%q shows\n%s\nwant …%s…, not %q", tt.keys, text, tt.want, tt.not)
		}
	}
	m := shown(&fake{}, 80, 24, plainStyle(true))
	m.View() // says where the rows are
	run(m, tea.MouseClickMsg{X: 4, Y: m.firstRow + 2})
	if g, _ := m.pick(); m.cursor != 2 || g.Name != "vault-copy" {
		t.Errorf("a click on the third row chooses %d, %s", m.cursor, g.Name)
	}
	run(m, tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	run(m, tea.MouseClickMsg{X: 4, Y: 0})
	if m.cursor != 5 {
		t.Errorf("the wheel, and a click beside, choose %d", m.cursor)
	}
}

// TestChosen: what is chosen is a gate, whatever comes and goes above it: two keys in turn
// are for the same one.
func TestChosen(t *testing.T) {
	src := &fake{status: status(monday(12, 10, 0), 5)}
	m := shown(src, 80, 24, plainStyle(true))
	for _, k := range []string{"down", "down", "down", "down"} {
		run(m, press(k))
	}
	if g, _ := m.pick(); g.Name != "stock-count" {
		t.Fatalf("chosen is %s", g.Name)
	}
	r := rand.New(rand.NewPCG(7, 7))
	names := []string{"cover-proof", "glue-warm", "humidity-log", "job-board", "vault-copy", "stock-count"}
	for i := range int64(200) { // a storm: each makes other rows the first ones
		gates := map[string]control.GateStatus{}
		for _, name := range names {
			next := monday(12, r.IntN(59), 0)
			g := control.GateStatus{Next: &next}
			if r.IntN(3) == 0 {
				g.Running = []int64{i}
			}
			gates[name] = g
		}
		m.Update(statusMsg{status: control.Status{Now: monday(12, 10, 0), Gates: gates}})
		if i%20 == 0 {
			m.Update(loadedMsg{m.status, bindery()})
		}
		if lines := strings.Split(m.View().Content, "\n"); !strings.HasPrefix(lines[m.firstRow+m.cursor-m.top], "> stock-count ") || m.note == "" && !strings.HasPrefix(lines[23], "stock-count: o open") {
			t.Fatalf("after %d changes\n%s", i+1, m.View().Content)
		}
		run(m, press([]string{"d", "e", "o"}[i%3]))
	}
	for _, did := range src.done {
		if !strings.HasSuffix(did, " stock-count") {
			t.Fatalf("a key was for another gate: %s", did)
		}
	}
	if len(src.done) != 200 {
		t.Errorf("%d keys did something", len(src.done))
	}
	// Where it is gone, the one in its place is chosen.
	l := bindery()
	l.Gates = slices.DeleteFunc(l.Gates, func(g Gate) bool { return g.Name == "stock-count" })
	row := m.cursor
	m.Update(loadedMsg{m.status, l})
	if g, ok := m.pick(); !ok || g.Name == "stock-count" || m.cursor != min(row, len(l.Gates)-1) {
		t.Errorf("then %v is chosen, in row %d", g.Name, m.cursor)
	}
}

// press is a key by its name.
func press(name string) tea.Msg {
	named := map[string]rune{"up": tea.KeyUp, "down": tea.KeyDown, "pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown, "home": tea.KeyHome, "end": tea.KeyEnd, "enter": tea.KeyEnter, "esc": tea.KeyEscape, "backspace": tea.KeyBackspace}
	if code, ok := named[name]; ok {
		return tea.KeyPressMsg{Code: code}
	}
	return tea.KeyPressMsg{Code: []rune(name)[0], Text: name}
}

// run gives a message to a model, and what follows from it at once.
func run(m *model, msg tea.Msg) {
	_, cmd := m.Update(msg)
	if _, noted := msg.(noteMsg); cmd != nil && !noted {
		run(m, cmd())
	}
}

// TestFeed: a keeper that goes is said to be gone, and looked for again; one that a reader
// has fallen behind is read anew without a word.
func TestFeed(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	got := make(chan tea.Msg, 10)
	src := &fake{status: status(monday(12, 0, 0))}
	go feed(ctx, src, func(m tea.Msg) { got <- m })
	for i, want := range []string{"watch.loadedMsg", "watch.goneMsg", "watch.loadedMsg"} {
		if is := fmt.Sprintf("%T", <-got); is != want {
			t.Errorf("message %d is a %s, want %s", i, is, want)
		}
	}
	stop()
	items := make(chan control.Item, 3)
	for i := range 3 {
		items <- control.Item{Number: int64(i)}
	}
	close(items)
	var sizes []int
	passOn(items, func(m tea.Msg) { sizes = append(sizes, len(m.(itemsMsg))) })
	if len(sizes) != 1 || sizes[0] != 3 {
		t.Errorf("items that come together are told in %v", sizes)
	}
}
