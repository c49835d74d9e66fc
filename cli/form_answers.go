package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"timegate/core/gate"
	"timegate/core/phrase"
)

// answersOf returns what a gate's file says already.
func answersOf(g *gate.Gate) answers {
	w := answers{command: gate.CommandLine(g.Run...), about: g.About, account: g.As.User}
	for i := range min(len(g.Opens), len(w.opens)) {
		w.opens[i] = g.Opens[i].When
	}
	if g.As.Elevated {
		w.account = elevatedAnswer
	}
	if g.As.Desktop {
		w.window = g.As.Window
	}
	for _, n := range needAnswers {
		if n.holds(&g.Needs) {
			w.needs = append(w.needs, n.key)
		}
	}
	if len(g.Needs.Paths) > 0 {
		w.path = g.Needs.Paths[0]
	}
	if g.Limits.Longest > 0 {
		w.longest = phrase.FormatSpan(g.Limits.Longest)
	}
	w.missed = g.Rules.Missed
	if g.Again.Times > 0 {
		w.tries = strconv.Itoa(g.Again.Times)
	}
	if g.Rules.Wake > 0 {
		w.wake = phrase.FormatSpan(g.Rules.Wake)
	}
	return w
}

// needAnswers are the needs that can be ticked.
var needAnswers = []struct {
	key, text string
	holds     func(*gate.Needs) bool
	set       func(*gate.Needs)
	unset     func(*gate.Needs)
}{
	{"mains", "mains power", func(n *gate.Needs) bool { return n.Power == "mains" }, func(n *gate.Needs) { n.Power = "mains" }, func(n *gate.Needs) { n.Power = "any" }},
	{"online", "a network", func(n *gate.Needs) bool { return n.Online }, func(n *gate.Needs) { n.Online = true }, func(n *gate.Needs) { n.Online = false }},
	{"someone", "somebody logged on", func(n *gate.Needs) bool { return n.People == "someone" }, func(n *gate.Needs) { n.People = "someone" }, func(n *gate.Needs) { n.People = "any" }},
}

// fromAnswers puts what was answered into a gate.
func (a *app) fromAnswers(g *gate.Gate, w *answers) error {
	argv, item, err := a.commandTyped(w.command)
	if err != nil {
		return err
	}
	g.Run, g.About = argv, w.about
	if item != nil {
		takeItem(g, item)
	}
	if g.Opens, err = a.openingsAnswered(g.Opens, w.opens[:]); err != nil {
		return err
	}
	g.As.Elevated = w.account == elevatedAnswer
	if g.As.User = w.account; g.As.Elevated {
		g.As.User = ""
	}
	if w.window != "" {
		g.As.Desktop, g.As.Window = true, w.window
	} else if item == nil {
		g.As.Desktop, g.As.Window = false, gate.WindowOrdinary
	}
	for _, n := range needAnswers {
		if ticked := slices.Contains(w.needs, n.key); ticked != n.holds(&g.Needs) {
			if n.unset(&g.Needs); ticked {
				n.set(&g.Needs)
			}
		}
	}
	rest := g.Needs.Paths[min(1, len(g.Needs.Paths)):] // those that were not asked about stay
	if g.Needs.Paths = slices.Clone(rest); w.path != "" {
		g.Needs.Paths = append([]string{w.path}, rest...)
	}
	g.Rules.Missed, g.Again.Times, g.Limits.Longest, g.Rules.Wake = cmp.Or(w.missed, gate.MissedSkip), 0, 0, 0
	if w.tries != "" {
		if g.Again.Times, err = triesTyped(w.tries); err != nil {
			return err
		}
	}
	if w.wake != "" {
		if g.Rules.Wake, err = parseSpan("wake", w.wake); err != nil {
			return err
		}
	}
	if w.longest != "" {
		g.Limits.Longest, err = parseSpan("longest", w.longest)
	}
	return err
}

// triesTyped reads how often a run that fails is tried again.
func triesTyped(text string) (int, error) {
	const most = 1000
	n, err := strconv.Atoi(strings.TrimSpace(text))
	if err != nil || n < 0 || n > most {
		return 0, fmt.Errorf("write a number from 0 to %d", most)
	}
	return n, nil
}

// openingsAnswered returns openings with the moments that were answered in the place of
// the first ones. One whose moment is another keeps its name, and whether it is on.
func (a *app) openingsAnswered(before []gate.Opening, texts []string) ([]gate.Opening, error) {
	var out []gate.Opening
	for i, text := range texts {
		old := i < len(before)
		switch {
		case text == "":
			continue
		case old && text == before[i].When:
			out = append(out, before[i])
			continue
		}
		o, _, err := a.momentTyped(text)
		if err != nil {
			return nil, err
		}
		if old {
			o.Enabled = before[i].Enabled
			o.Name = cmp.Or(o.Name, before[i].Name)
		}
		out = append(out, o)
	}
	out = append(out, before[min(len(before), len(texts)):]...)
	for i := range out {
		if out[i].Name == "" || gate.Numbered(out[i].Name) { // known by its place
			out[i].Name = fmt.Sprint(i + 1)
		}
	}
	return out, nil
}
