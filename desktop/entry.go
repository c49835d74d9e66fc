// Package desktop reads and writes desktop entries (Desktop Entry
// Specification 1.5, freedesktop.org).
package desktop

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
)

// Entry is an application of a desktop entry, or one of its actions, as far as it is
// used here.
type Entry struct {
	ID       string // desktop file ID; behind a colon the action, where it is one
	File     string
	Name     string
	Generic  string // what kind of program it is
	Comment  string
	Keywords []string
	// Categories are what it is for, as menus have it.
	Categories []string
	Exec       string // the program and its arguments, quoted as the key wants it
	Folder     string // the working folder; "" is not said
	Icon       string
	Terminal   bool // the program wants a terminal
	NoDisplay  bool // the entry is left out of menus
}

// Application reports whether it is an application of the menu, and no program alone.
func (e *Entry) Application() bool { return strings.HasSuffix(e.File, ".desktop") }

// mainCategories are those of which a menu has one place each (Desktop Menu Specification, appendix
// A, "Main Categories").
var mainCategories = []string{"AudioVideo", "Audio", "Video", "Development", "Education", "Game", "Graphics", "Network", "Office", "Science", "Settings", "System", "Utility"}

// Category returns the main category of an application, "Other" where it has none, and ""
// of what is no application.
func (e *Entry) Category() string {
	if !e.Application() {
		return ""
	}
	for _, c := range e.Categories {
		if slices.Contains(mainCategories, c) {
			return c
		}
	}
	return "Other"
}

// Folders are where the machine's desktop entries lie (Desktop Menu
// Specification, XDG_DATA_DIRS). What a person has of their own is left out:
// it must not change how programs with other rights are started.
var Folders = []string{"/usr/local/share/applications", "/usr/share/applications"}

// longest is how much of an entry is read, in bytes.
const longest = 1 << 20

// Read reads an entry. It waits for no writer of a pipe, and reads at most a
// megabyte.
func Read(path string) (Entry, error) {
	data, err := readBeginning(path)
	if err != nil {
		return Entry{}, err
	}
	return entryOf(readKeyFile(data)[mainGroup], ""), nil
}

// readBeginning reads a plain file, up to the size of the longest entry.
func readBeginning(path string) ([]byte, error) {
	f, err := openWithoutWaiting(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a plain file", path)
	}
	data := make([]byte, min(info.Size(), longest))
	n, err := io.ReadFull(f, data)
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		err = nil // it was cut just now
	}
	return data[:n], err
}

// entryOf returns an entry as its main group has it, in a language.
func entryOf(group map[string]string, locale string) Entry {
	text := func(key string) string { return unescape(localized(group, key, locale)) }
	return Entry{
		Name: text("Name"), Generic: text("GenericName"), Comment: text("Comment"), Keywords: list(localized(group, "Keywords", locale)), Categories: list(group["Categories"]),
		Exec: group["Exec"], Folder: unescape(group["Path"]), Icon: unescape(localized(group, "Icon", locale)),
		Terminal: group["Terminal"] == "true", NoDisplay: group["NoDisplay"] == "true",
	}
}

// Text returns the entry as a file, below a line of comment.
func (e *Entry) Text(comment string) string {
	return fmt.Sprintf("# %s\n[Desktop Entry]\nType=Application\nName=%s\nComment=%s\nExec=%s\nTerminal=%t\nNoDisplay=%t\n",
		comment, escape(e.Name), escape(e.Comment), e.Exec, e.Terminal, e.NoDisplay)
}

// Quote quotes one argument for the key Exec: first as that key wants it, then
// as a value of the type string ("The Exec key").
func Quote(argument string) string {
	return `"` + strings.NewReplacer(`\`, `\\\\`, `"`, `\\"`, "`", "\\\\`", "$", `\\$`, "%", "%%").Replace(argument) + `"`
}

// Starting returns the applications of folders that start a program: those whose Exec
// begins with it.
func Starting(program string, folders []string) (out []Entry) {
	for _, dir := range folders {
		files, _ := filepath.Glob(filepath.Join(dir, "*.desktop"))
		for _, file := range files {
			if e, err := Read(file); err == nil && e.starts(program) {
				out = append(out, e)
			}
		}
	}
	return out
}

// WantsTerminal reports whether an application that starts a program wants a terminal.
func WantsTerminal(program string, folders []string) bool {
	return slices.ContainsFunc(Starting(program, folders), func(e Entry) bool { return e.Terminal })
}

// starts reports whether the first word of Exec is a program.
func (e *Entry) starts(program string) bool {
	word, _, _ := strings.Cut(e.Exec, " ")
	word = strings.Trim(word, `"`)
	if filepath.IsAbs(word) {
		return word == program
	}
	return word != "" && word == filepath.Base(program)
}
