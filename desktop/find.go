package desktop

import (
	"cmp"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/sahilm/fuzzy"

	"timegate/core/phrase"
)

// Programs returns the executables of folders, such as those of PATH: of one name the
// first.
func Programs(folders []string) []Entry {
	var out []Entry
	seen := map[string]bool{}
	for _, folder := range folders {
		entries, err := os.ReadDir(folder)
		if err != nil || !filepath.IsAbs(folder) {
			continue
		}
		for _, d := range entries {
			path := filepath.Join(folder, d.Name())
			info, err := os.Stat(path)
			if err != nil || !info.Mode().IsRegular() || info.Mode()&0o111 == 0 || seen[d.Name()] || strings.HasPrefix(d.Name(), ".") {
				continue
			}
			seen[d.Name()] = true
			out = append(out, Entry{ID: d.Name(), Name: d.Name(), Exec: Quote(path), File: path, Terminal: true})
		}
	}
	return out
}

// Find returns the entries that words may mean, the best first. Every word must fit:
// best the name or ID itself, then the beginning of a word of the name, of what it is
// for, anything within, letters left out, and last a word that is typed nearly so. sure
// says that some are called so, or are for it, as it is typed.
func Find(entries []Entry, words []string) (out []Entry, sure bool) {
	type match struct {
		Entry
		tier int
	}
	var found []match
	for _, e := range entries {
		worst := 0
		for _, w := range words {
			tier := e.fits(strings.ToLower(w))
			if tier == noFit {
				worst = noFit
				break
			}
			worst = max(worst, tier)
		}
		if worst != noFit {
			found = append(found, match{e, worst})
		}
	}
	slices.SortStableFunc(found, func(a, b match) int {
		return cmp.Or(-compareTruth(a.tier == 0, b.tier == 0), -compareTruth(a.Application(), b.Application()), cmp.Compare(a.tier, b.tier), cmp.Compare(len(a.Name), len(b.Name)), strings.Compare(a.Name, b.Name))
	})
	is := func(most int) bool { return slices.ContainsFunc(found, func(m match) bool { return m.tier <= most }) }
	wrong, begins := is(within), is(begun)
	found = slices.DeleteFunc(found, func(m match) bool { return m.tier == mistyped && wrong || m.tier == nearly && begins })
	taken := map[string]bool{} // the programs that applications start without more
	for _, m := range found {
		argv, _ := m.Command()
		if len(argv) == 1 {
			program := filepath.Base(argv[0])
			if taken[program] && !m.Application() {
				continue
			}
			taken[program] = taken[program] || m.Application()
		}
		out = append(out, m.Entry)
	}
	return out, begins
}

func compareTruth(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

// The tiers of what a word begins, of what it means only if a letter is wrong, with letters left out, or if more
// is wrong; and of what it does not mean.
const (
	begun    = 2 // a word of it begins so
	nearly   = 4
	within   = 5
	mistyped = 6
	noFit    = 100
)

// kinds are words for what a program is for, by the categories that the menus know (Desktop
// Menu Specification, appendix A).
var kinds = map[string][]string{
	"picture": {"Graphics", "Photography", "ImageProcessing", "Viewer"}, "photo": {"Photography", "Graphics"}, "image": {"Graphics", "ImageProcessing"}, "drawing": {"VectorGraphics", "RasterGraphics", "Graphics"},
	"browser": {"WebBrowser"}, "internet": {"WebBrowser", "Network"}, "web": {"WebBrowser"}, "music": {"Audio", "Music", "Player"}, "sound": {"Audio", "Mixer"}, "film": {"Video", "Player"}, "movie": {"Video", "Player"}, "video": {"Video"},
	"text": {"TextEditor", "WordProcessor"}, "editor": {"TextEditor"}, "writer": {"WordProcessor"}, "letter": {"WordProcessor"}, "table": {"Spreadsheet"}, "sums": {"Calculator", "Spreadsheet"}, "mail": {"Email"}, "chat": {"Chat", "InstantMessaging"},
	"files": {"FileManager", "FileTools"}, "folder": {"FileManager"}, "archive": {"Archiving", "Compression"}, "terminal": {"TerminalEmulator"}, "console": {"TerminalEmulator"}, "calendar": {"Calendar"}, "game": {"Game"}, "settings": {"Settings"},
	"printer": {"Printing", "HardwareSettings"}, "scanner": {"Scanning"}, "reader": {"Viewer"}, "code": {"IDE", "Development"},
}

// ofKind reports whether a word says what an entry is for, by its categories.
func (e *Entry) ofKind(word string) bool {
	for _, singular := range []string{word, strings.TrimSuffix(word, "s")} {
		if slices.ContainsFunc(kinds[singular], func(c string) bool { return slices.Contains(e.Categories, c) }) {
			return true
		}
	}
	return len(word) > 3 && slices.ContainsFunc(e.Categories, func(c string) bool { return strings.EqualFold(c, word) })
}

// fits returns how well a word means an entry, 0 best.
func (e *Entry) fits(word string) int {
	name := strings.ToLower(e.Name)
	id := strings.ToLower(strings.TrimSuffix(e.ID, ".desktop"))
	argv, _ := e.Command()
	program := ""
	if len(argv) > 0 {
		program = strings.ToLower(filepath.Base(argv[0]))
	}
	about := strings.Fields(strings.ToLower(e.Generic + " " + e.Comment + " " + strings.Join(e.Keywords, " ")))
	begins := func(w string) bool { return strings.HasPrefix(w, word) }
	named := append(strings.FieldsFunc(name, func(r rune) bool { return strings.ContainsRune(" -_.:()", r) }), program)
	switch {
	case word == name || word == id || word == program || word == strings.ToLower(e.ID):
		return 0
	case slices.ContainsFunc(named, begins):
		return 1
	case slices.ContainsFunc(about, begins), e.ofKind(word):
		return 2
	case strings.Contains(name, word) || strings.Contains(id, word):
		return 3
	}
	const least = 3 // letters, of which others may be left out or mistyped
	if len(word) < least {
		return noFit
	}
	const long = 4
	if near, ok := phrase.Nearest(word, named); ok && len(word) >= long && phrase.OneWrong(word, near) {
		return nearly
	}
	if len(fuzzy.Find(word, []string{name, program})) > 0 {
		return within
	}
	if near, ok := phrase.Nearest(word, append(named, about...)); ok && len(near) >= least {
		return mistyped
	}
	return noFit
}
