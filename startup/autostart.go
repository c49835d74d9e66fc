package startup

import (
	"path/filepath"
	"strings"

	"timegate/desktop"
)

// autostartFolders are the folders of entries, the most important first.
func (l *Look) autostartFolders() []string {
	var out []string
	if l.Own != "" {
		out = append(out, filepath.Join(l.Own, "autostart"))
	}
	for _, dir := range l.Config {
		out = append(out, filepath.Join(dir, "autostart"))
	}
	return out
}

// autostarts returns what desktops start at logon.
func (l *Look) autostarts() []Item {
	look := desktop.Look{Locale: l.Locale, Desktops: l.Desktops}
	for _, dir := range l.autostartFolders() {
		look.Folders = append(look.Folders, l.below(dir))
	}
	real := func(path string) (string, error) {
		rel, err := filepath.Rel(l.below("/"), path)
		if err != nil {
			return "", err
		}
		return l.real("/" + rel)
	}
	var out []Item
	for _, a := range desktop.Autostarts(look, real) {
		it := Item{ID: string(FromAutostart) + ":" + strings.TrimSuffix(a.ID, ".desktop"), Name: a.Name, About: a.Comment, Source: FromAutostart, At: "logon",
			File: a.File, Over: a.Over, Command: []string{}, Enabled: !a.Hidden, State: On, folder: a.Folder, terminal: a.Terminal}
		if it.Name == "" {
			it.Name = strings.TrimSuffix(a.ID, ".desktop")
		}
		if it.About == "" {
			it.About = a.Generic
		}
		l.judge(&it, &a)
		out = append(out, it)
	}
	return out
}

// judge says whether an entry will start, in the order of the specification.
func (l *Look) judge(it *Item, a *desktop.Autostart) {
	argv, err := a.Command()
	var missing string
	if err == nil {
		if argv[0], missing = l.program(argv[0]); missing == "" {
			missing = l.behind(argv)
		}
		it.Command = argv
	}
	switch {
	case a.Problem != "":
		it.State, it.Why, it.Enabled = Broken, a.Problem, false
	case a.Hidden:
		it.State = Off
	case err != nil:
		it.State, it.Why, it.Enabled = Broken, err.Error(), false
	case !a.Shown:
		it.State, it.Why = Elsewhere, a.Only
	case a.TryExec != "":
		if _, why := l.program(a.TryExec); why != "" {
			it.State, it.Why = Missing, why+" (TryExec)"
			return
		}
		fallthrough
	case missing != "":
		if missing != "" {
			it.State, it.Why = Missing, missing
		}
	}
}
