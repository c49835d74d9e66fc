package inspect

import (
	"bufio"
	"os"
	"path/filepath"
	"strings"
)

// entryFolders are where the machine's desktop entries lie (Desktop Menu
// Specification, XDG_DATA_DIRS). What a person has of their own is left out:
// it must not change how programs with other rights are started.
var entryFolders = []string{"/usr/local/share/applications", "/usr/share/applications"}

// WantsTerminal reports whether a program is a console program that wants a
// terminal, as a desktop entry of it says (Desktop Entry Specification 1.5,
// key Terminal).
func WantsTerminal(program string) bool { return wantsTerminal(program, entryFolders) }

func wantsTerminal(program string, folders []string) bool {
	for _, dir := range folders {
		files, _ := filepath.Glob(filepath.Join(dir, "*.desktop"))
		for _, file := range files {
			if exec, terminal := readEntry(file); terminal && leadsTo(exec, program) {
				return true
			}
		}
	}
	return false
}

// leadsTo reports whether the first word of an entry's Exec is a program.
func leadsTo(exec, program string) bool {
	word, _, _ := strings.Cut(strings.TrimSpace(exec), " ")
	word = strings.Trim(word, `"`)
	if filepath.IsAbs(word) {
		return word == program
	}
	return word != "" && word == filepath.Base(program)
}

// readEntry returns what a desktop entry's main group says of Exec and
// Terminal.
func readEntry(path string) (exec string, terminal bool) {
	f, err := os.Open(path)
	if err != nil {
		return "", false
	}
	defer f.Close()
	inside := false
	for s := bufio.NewScanner(f); s.Scan(); {
		line := strings.TrimSpace(s.Text())
		if strings.HasPrefix(line, "[") {
			inside = line == "[Desktop Entry]"
		}
		key, value, _ := strings.Cut(line, "=")
		switch key = strings.TrimSpace(key); {
		case !inside:
		case key == "Exec":
			exec = strings.TrimSpace(value)
		case key == "Terminal":
			terminal = strings.TrimSpace(value) == "true"
		}
	}
	return exec, terminal
}
