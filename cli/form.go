package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/huh/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/google/shlex"
	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/desktop"
	"timegate/gates"
	"timegate/workstation/accounts"
)

// answers are what a form asks for, as text, so that each can be checked as it is
// typed.
type answers struct {
	command string
	about   string
	opens   [2]string // moments; the second may be empty
	account string    // "" is the one that needs no word
	window  string    // "" is without a desktop
	needs   []string
	path    string
	missed  string // rules.missed
	tries   string // again.times; "" for none
	wake    string // rules.wake; "" for never
	longest string
}

// elevatedAnswer stands for root's rights where an account is asked for.
const elevatedAnswer = "root (elevated)"

// addAsking asks for all that a new gate needs.
func (a *app) addAsking(ctx context.Context, c *cli.Command, name string) error {
	w := answers{about: c.String("about"), account: c.String("user")}
	if open := c.StringSlice("open"); len(open) > 0 {
		w.opens[0] = open[0]
	}
	w.missed = gate.MissedSkip
	off := c.Bool("off")
	if err := a.ask(ctx, "A new gate: "+name, &w); errors.Is(err, errGivenUp) {
		if off = a.keepsDraft(name, &w); !off {
			return &exitError{status: exitFailed}
		}
	} else if err != nil {
		return err
	}
	g := gate.Default(name)
	g.Enabled = !off
	if err := a.fromAnswers(g, &w); err != nil {
		return err
	}
	edit := gate.NewEdit(gate.Format(g))
	if err := setKeys(c, edit); err != nil {
		return err
	}
	return a.writeEdit(ctx, c, name, g.Run, edit)
}

// errGivenUp says that a form was left before its end.
var errGivenUp = errors.New("nothing was written")

// keepsDraft asks whether what was typed is to be kept as a gate that is off, where it can
// be one. Where it is not kept, the call is shown that would have made it.
func (a *app) keepsDraft(name string, w *answers) bool {
	if strings.TrimSpace(w.command) == "" {
		fmt.Fprintln(a.err, errGivenUp)
		return false
	}
	draft := gate.Default(name)
	err := a.fromAnswers(draft, w)
	if err == nil && a.answer("Keep what you have typed, as a gate that is off?", true) {
		return true
	}
	call := []string{"timegate", "add", name}
	for _, text := range w.opens {
		if text != "" {
			call = append(call, "--open", text)
		}
	}
	if w.about != "" {
		call = append(call, "--about", w.about)
	}
	fmt.Fprintf(a.err, "%v; what you have typed: %s -- %s\n", errGivenUp, gate.CommandLine(call...), w.command)
	return false
}

// changeAsking asks for the same of a gate that is there, and writes what has
// changed.
func (a *app) changeAsking(ctx context.Context, c *cli.Command, f gates.File) error {
	w := answersOf(f.Gate)
	before := w
	before.needs = slices.Clone(w.needs)
	if err := a.ask(ctx, "Change "+f.Name, &w); errors.Is(err, errGivenUp) {
		fmt.Fprintln(a.err, "nothing was changed")
		return &exitError{status: exitFailed}
	} else if err != nil {
		return err
	}
	g := *f.Gate
	if err := a.fromAnswers(&g, &w); err != nil {
		return err
	}
	edit := gate.NewEdit([]byte(f.Text))
	if w.opens != before.opens {
		edit.SetOpenings(g.Opens)
	}
	for _, k := range gate.Keys {
		if k.Name == "opens" || g.Setting(k.Name) == f.Gate.Setting(k.Name) {
			continue
		}
		if err := edit.SetValue(k.Name, g.Setting(k.Name)); err != nil {
			return err
		}
	}
	data, err := edit.Bytes()
	if err != nil {
		return err
	}
	if string(data) == f.Text {
		fmt.Fprintln(a.err, "nothing to change")
		return nil
	}
	return a.writeEdit(ctx, c, f.Name, nil, edit)
}

// commandWords parts a command as it is typed: words in quotes are one argument. A
// program without a path is looked for on PATH.
func commandWords(text string) ([]string, error) {
	argv, err := shlex.Split(text)
	if err != nil {
		return nil, usageError("a quote is not closed in: %s", text)
	}
	if len(argv) == 0 {
		return nil, usageError("write the program that is to start, such as /opt/larkspur/bin/spool-reset --quiet")
	}
	if rest, ok := strings.CutPrefix(argv[0], "~/"); ok {
		dir, err := os.UserHomeDir()
		if err != nil {
			return nil, err
		}
		argv[0] = filepath.Join(dir, rest)
	}
	argv[0], err = wholeProgram(argv[0])
	return argv, err
}

// formHeight is that of a page, in lines: the longest description with what is
// typed below it.
const formHeight = 12

// commandTyped reads what is to start: a command, or the name of something installed.
func (a *app) commandTyped(text string) ([]string, *desktop.Entry, error) {
	argv, err := commandWords(text)
	if err == nil || strings.Contains(text, "/") || strings.TrimSpace(text) == "" {
		return argv, nil, err
	}
	item, itemErr := a.itemNamed(strings.TrimSpace(text))
	if itemErr != nil {
		return nil, nil, itemErr
	}
	argv, err = item.Command()
	if err == nil {
		argv[0], err = wholeProgram(argv[0])
	}
	return argv, &item, err
}

// itemHelp lists what is installed that may be meant, as it is typed.
func (a *app) itemHelp(items []desktop.Entry, text string) string {
	help := []string{"A program with its arguments (words with blanks want quotes), or the name of one that is installed."}
	if words := strings.Fields(text); len(words) > 0 && !strings.Contains(text, "/") {
		for _, e := range search(items, words) {
			help = append(help, strings.TrimSuffix(e.ID, ".desktop")+"  "+cmp.Or(e.Comment, e.Generic, e.Name))
		}
	}
	return a.fixedLines(help)
}

// fixedLines is text of as many lines as a page has room for, since it does not grow.
func (a *app) fixedLines(text []string) string {
	const lines, margin = 5, 4
	for i := range text {
		text[i] = ansi.Truncate(text[i], max(a.err.width-margin, 20), "…")
	}
	for len(text) < lines {
		text = append(text, "")
	}
	return strings.Join(text[:lines], "\n")
}

// ask runs the form: one question at a time, forth and back, each answer checked.
func (a *app) ask(ctx context.Context, title string, w *answers) error {
	check := func(f func(string) error) func(string) error {
		return func(s string) error {
			if strings.TrimSpace(s) == "" {
				return nil
			}
			return f(s)
		}
	}
	moment := func(s string) error { _, _, err := a.momentTyped(s); return err }
	items := a.items(false)
	page := func(fields ...huh.Field) *huh.Group { return huh.NewGroup(fields...).Title(title) }
	pages := []*huh.Group{
		page(huh.NewInput().Title("What is to start?").DescriptionFunc(func() string { return a.itemHelp(items, w.command) }, &w.command).
			Placeholder("/opt/larkspur/bin/stock-count --all").Value(&w.command).SuggestionsFunc(func() []string { return programsLike(w.command) }, &w.command).
			Validate(func(s string) error { _, _, err := a.commandTyped(s); return err })),
		page(huh.NewInput().Title("What is it for?").Description("A line that the lists show.").Placeholder("Count the stock").Value(&w.about)),
		page(huh.NewInput().Title("When?").Placeholder("at 07:30 on mon-fri").Value(&w.opens[0]).DescriptionFunc(func() string { return a.momentHelp(w.opens[0]) }, &w.opens[0]).
			Validate(moment)),
		page(huh.NewInput().Title("At another moment too?").Placeholder("empty for none").Value(&w.opens[1]).DescriptionFunc(func() string { return a.momentHelp(w.opens[1]) }, &w.opens[1]).
			Validate(check(moment))),
	}
	if a.home.Scope == gate.System {
		pages = append(pages, page(huh.NewInput().Title("As whom?").Description("An account, or "+elevatedAnswer+".").Value(&w.account).
			Suggestions([]string{elevatedAnswer, "root"}).Validate(accountThere)))
	}
	pages = append(pages,
		page(huh.NewSelect[string]().Title("Does it open windows?").Value(&w.window).Height(selectHeight(5)).Options(
			huh.NewOption("no: it runs unseen, also when nobody is logged on", ""),
			huh.NewOption("yes, ordinary ones, on the desktop", gate.WindowOrdinary),
			huh.NewOption("yes, minimised ones", gate.WindowMinimised),
			huh.NewOption("yes, but none is to appear", gate.WindowNone),
			huh.NewOption("it wants a terminal", gate.WindowTerminal))),
		page(needsField(w)),
		page(huh.NewInput().Title("Must a path be there?").Description("Such as the mount point of a drive; empty for none.").Placeholder("/media/vault").Value(&w.path).
			Validate(check(wholePath))),
		page(huh.NewSelect[string]().Title("When the machine was off or asleep at its moment?").Value(&w.missed).Height(selectHeight(2)).Options(
			huh.NewOption("skip that moment", gate.MissedSkip),
			huh.NewOption("start it once for all that was missed, when the machine is back", gate.MissedOnce))),
	)
	if a.mayWake() == nil {
		pages = append(pages, page(huh.NewInput().Title("Wake the machine for it?").Description("So long before, such as 2m; empty for never.").Placeholder("2m").Value(&w.wake).
			Validate(check(func(s string) error { _, err := phrase.ParseSpan(s); return err }))))
	}
	pages = append(pages,
		page(huh.NewInput().Title("Try again when it fails?").Description("So many times, a minute and a half apart; empty for never.").Placeholder("3").Value(&w.tries).
			Validate(check(func(s string) error { _, err := triesTyped(s); return err }))),
		page(huh.NewInput().Title("End it when it takes too long?").Description("After a time such as 30m or 2h; empty for never.").Placeholder("2h").Value(&w.longest).
			Validate(check(func(s string) error { _, err := phrase.ParseSpan(s); return err }))),
	)
	// Given up, it ends as it does otherwise: else its reader stays, and takes what is typed next.
	gently := tea.WithFilter(func(_ tea.Model, msg tea.Msg) tea.Msg {
		if _, given := msg.(tea.InterruptMsg); given {
			return tea.QuitMsg{}
		}
		return msg
	})
	form := huh.NewForm(pages...).WithProgramOptions(gently).WithTheme(huh.ThemeFunc(formTheme)).WithAccessible(a.err.ascii).WithInput(a.in).WithOutput(os.Stderr).WithShowHelp(true).WithHeight(formHeight).WithKeyMap(formKeys())
	err := form.RunWithContext(ctx)
	if errors.Is(err, huh.ErrUserAborted) {
		return errGivenUp
	}
	return err
}

// selectHeight is that of a list with so many lines, below its title and what it says.
func selectHeight(options int) int {
	const above = 3
	return options + above
}

// formKeys are the keys of the form, each by the name that it is shown with.
func formKeys() *huh.KeyMap {
	k := huh.NewDefaultKeyMap()
	k.MultiSelect.Toggle.SetKeys(" ", "space", "x")
	k.MultiSelect.Toggle.SetHelp("space", "tick")
	k.MultiSelect.Filter.SetEnabled(false)
	k.Select.Filter.SetEnabled(false)
	k.Quit.SetHelp("ctrl+c", "give up")
	return k
}

// formTheme dresses the form as all other output is.
func formTheme(dark bool) *huh.Styles {
	t := huh.ThemeBase(dark)
	for _, field := range []*huh.FieldStyles{&t.Focused, &t.Blurred} {
		field.Title = field.Title.Bold(true)
		field.Description = field.Description.Foreground(lipgloss.BrightBlack)
		field.ErrorIndicator = field.ErrorIndicator.Foreground(lipgloss.Red)
		field.ErrorMessage = field.ErrorMessage.Foreground(lipgloss.Red)
		field.SelectSelector = field.SelectSelector.Foreground(lipgloss.Green)
		field.SelectedPrefix = field.SelectedPrefix.Foreground(lipgloss.Green)
	}
	t.Group.Title = t.Group.Title.Bold(true).MarginBottom(1)
	return t
}

// needsField asks for needs that can be ticked.
func needsField(w *answers) huh.Field {
	var options []huh.Option[string]
	for _, n := range needAnswers {
		options = append(options, huh.NewOption(n.text, n.key))
	}
	return huh.NewMultiSelect[string]().Title("What must hold, or it is skipped?").Description("Space ticks; leave all open for none.").Height(selectHeight(len(options) + 1)).Options(options...).Value(&w.needs)
}

// momentTyped reads a moment as it is typed. A saying that can mean one phrase only
// stands for that; note tells which, and what of it is a guess.
func (a *app) momentTyped(text string) (o gate.Opening, note string, err error) {
	o, err = a.openingBy(phrase.Parse, text)
	wrong, is := errors.AsType[*phrase.Error](err)
	if !is {
		return o, "", err
	}
	wrong.OfferOn(a.today())
	if wrong.Offer != "" && len(wrong.Others) == 0 {
		if wrong.Guessed != "" {
			note = fmt.Sprintf(" (%s is a guess)", wrong.Guessed)
		}
		meant, err := a.openingBy(phrase.Parse, wrong.Offer)
		return meant, wrong.Offer + note + "\n", err
	}
	if advice := wrong.Advice(); advice != "" {
		return o, "", errors.New(advice)
	}
	return o, "", errors.New(wrong.Problem)
}

// momentHelp reads a phrase back as it is typed, with its next dates.
func (a *app) momentHelp(text string) string {
	help := []string{"Such as: at 07:30 on mon-fri", "         every 20m from 09:00 to 16:00", "         boot + 45s, or unlock", "         change in /srv/proofs quiet 5s", "or as you would say it: every other friday"}
	if o, note, err := a.momentTyped(text); err == nil {
		help = strings.Split(note+o.Plan.Words(), "\n")
		g := gate.Default("new")
		g.Opens = []gate.Opening{o}
		for _, due := range a.dues(g, forecast.Span{From: calendar.InstantOf(a.now()), To: calendar.MaxInstant, Count: 3}) {
			help = append(help, a.local(due.at.Time()))
		}
	}
	return a.fixedLines(help)
}

func accountThere(name string) error {
	if name == elevatedAnswer {
		return nil
	}
	_, err := accounts.ByName(name)
	return err
}

func wholePath(path string) error {
	if !filepath.IsAbs(path) && !strings.HasPrefix(path, "~/") {
		return errors.New("write the whole path, such as /media/vault")
	}
	return nil
}

// programsLike returns programs that begin like what is typed: on PATH, or in a
// folder.
func programsLike(text string) []string {
	const most = 50
	if text == "" || strings.Contains(text, " ") {
		return nil
	}
	folders, prefix := filepath.SplitList(os.Getenv("PATH")), text
	if dir, base := filepath.Split(text); dir != "" {
		folders, prefix = []string{dir}, base
	}
	var out []string
	for _, folder := range folders {
		entries, _ := os.ReadDir(folder)
		for _, e := range entries {
			if !strings.HasPrefix(e.Name(), prefix) || len(out) == most {
				continue
			}
			name := e.Name()
			if strings.Contains(text, "/") {
				name = filepath.Join(folder, name)
			}
			if info, err := e.Info(); err == nil && (info.IsDir() || info.Mode()&0o111 != 0 || info.Mode().Type() != 0) && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}
