package cli

import (
	"os"
	"path/filepath"
	"strings"

	"timegate/core/event"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/workstation/zones"
)

// completed returns the gates whose names can be offered; where they cannot be read,
// none are.
func (a *app) completed() []gates.File {
	files, err := a.files()
	if err != nil {
		return nil
	}
	return files
}

func (a *app) gateNames() []string {
	var words []string
	for _, f := range a.completed() {
		word := f.Name
		if f.Gate != nil && f.Gate.About != "" {
			word += "\t" + f.Gate.About
		}
		words = append(words, word)
	}
	return words
}

// openingNames lists the openings of a gate, as a command names them.
func (a *app) openingNames(name string) []string {
	var words []string
	for _, f := range a.completed() {
		if f.Name != name || f.Gate == nil {
			continue
		}
		for _, o := range f.Gate.Opens {
			words = append(words, name+"/"+o.Name+"\t"+o.When)
		}
	}
	return words
}

// signalNames lists the signals that gates wait for.
func (a *app) signalNames() []string {
	var words []string
	for _, f := range a.completed() {
		if f.Gate == nil {
			continue
		}
		for _, o := range f.Gate.Opens {
			if q, err := phrase.Parse(o.When); err == nil && q.Event.Kind == phrase.Signal {
				words = append(words, q.Event.Name+"\topens "+f.Name)
			}
		}
	}
	return words
}

// itemNames lists what can be started.
func (a *app) itemNames() []string {
	var words []string
	for _, e := range a.items(false) {
		words = append(words, strings.TrimSuffix(e.ID, ".desktop"))
	}
	return words
}

// startupNames lists what starts on this machine.
func (a *app) startupNames() []string {
	look, err := a.startupLook("")
	if err != nil {
		return nil
	}
	items, err := a.startupItems(look)
	if err != nil {
		return nil
	}
	var words []string
	for _, it := range items {
		if !it.Within {
			_, name, _ := strings.Cut(it.ID, ":")
			words = append(words, name)
		}
	}
	return words
}

// stagedEvents lists what can be made to happen on a staged machine.
func stagedEvents() []string {
	var words []string
	for _, e := range event.Staged() {
		words = append(words, e.Word+"\t"+e.Help)
	}
	return words
}

// phrases goes on with a phrase by a word. Where there is only one way, it goes on
// until there are more, or the phrase is whole.
func (a *app) phrases(typed string) []string {
	today := a.today().Day
	for {
		next := phrase.Continue(typed, today)
		words := next.Words
		if next.Name != phrase.NoName {
			words = append(words, a.names(next)...)
		}
		for i, w := range words {
			words[i] = next.Head + w
		}
		if len(words) != 1 || words[0] == typed {
			return words
		}
		if _, err := phrase.Parse(words[0]); err == nil || strings.HasSuffix(words[0], "/") {
			return words
		}
		typed = words[0] + " "
		if further := phrase.Continue(typed, today); len(further.Words) == 0 && further.Name == phrase.NoName {
			return words
		}
	}
}

// names lists the names that can go on with a phrase.
func (a *app) names(next phrase.Next) []string {
	var words []string
	switch next.Name {
	case phrase.GateName:
		for _, f := range a.completed() {
			words = append(words, f.Name)
		}
	case phrase.SignalName:
		words = a.signalNames()
	case phrase.ZoneName:
		words = zones.Names()
	case phrase.PathName:
		words = paths(next.Word)
	}
	var fit []string
	for _, w := range words {
		if w, _, _ = strings.Cut(w, "\t"); strings.HasPrefix(w, next.Word) {
			fit = append(fit, w)
		}
	}
	return fit
}

// paths lists files and folders whose paths begin so. What a phrase would have to quote
// is left out.
func paths(typed string) []string {
	if typed == "" {
		return []string{"/", "~/"}
	}
	folder := typed[:strings.LastIndex(typed, "/")+1]
	entries, err := os.ReadDir(filepath.Clean(expandHome(folder)))
	if err != nil || folder == "" {
		return nil
	}
	var words []string
	for _, e := range entries {
		path := folder + e.Name()
		if e.IsDir() {
			path += "/"
		}
		if !strings.ContainsAny(path, " \t\n,\"") && strings.HasPrefix(path, typed) {
			words = append(words, path)
		}
	}
	return words
}
