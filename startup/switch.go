package startup

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"timegate/desktop"
	"timegate/gates"
	"timegate/home"
)

// The names that tell where a file or a line came from.
const (
	offFile = "timegate-off.conf" // lies beside a service that is switched off
	written = `# Written by "timegate startup off"; taken away by "timegate startup on".`
	mark    = "# timegate startup: "
	linked  = mark + "instead of a link to "
)

// A SwitchError says why an item cannot be switched, and what can be done.
type SwitchError struct {
	Problem, Remedy string
	Rights          bool // it is for want of rights
}

func (e *SwitchError) Error() string { return e.Problem + "; " + e.Remedy }

// Switch returns what must be done to files so that an item starts, or does not any
// more: for an entry of the desktop the key Hidden in the person's own folder, or in
// that of the administrator, for a service, or a unit that starts one, a further file
// beside it with a condition that never holds. Nothing is deleted, and what is done is taken back byte for byte.
// Its error is a [*SwitchError].
func (l *Look) Switch(it *Item, on bool) ([]gates.OtherChange, error) {
	if it.Enabled == on {
		return nil, nil
	}
	switch it.Source {
	case FromAutostart:
		return l.switchEntry(it, on)
	case FromScript:
		return nil, &SwitchError{Problem: fmt.Sprintf("%s is a script of the init system, and is only looked at here", it.ID), Remedy: "which of these start is for that system's own tool to say"}
	case FromService, FromTimer, FromSocket, FromPath, FromOwnService, FromOwnTimer, FromOwnSocket, FromOwnPath:
		return l.switchUnit(it, on)
	}
	return nil, &SwitchError{Problem: it.ID + " is only looked at here", Remedy: "what it starts is said in " + it.File}
}

// Remove returns what takes an entry of the desktop away that starts nothing, since what it
// names is not there or it cannot be read. Its error is a [*SwitchError].
func (l *Look) Remove(it *Item) ([]gates.OtherChange, error) {
	off := "to let it start no more: timegate startup off " + it.ID
	switch {
	case it.Source == FromGate:
		return nil, &SwitchError{Problem: it.ID + " is a gate", Remedy: "write: timegate remove " + it.Name}
	case it.Source != FromAutostart:
		return nil, &SwitchError{Problem: it.ID + " is no entry of a desktop, and others may depend on it", Remedy: off}
	case it.State != Missing && it.State != Broken:
		return nil, &SwitchError{Problem: "what " + it.ID + " names is there", Remedy: off}
	case it.Over != "":
		return nil, &SwitchError{Problem: it.File + " takes the place of " + it.Over + ", which would count then", Remedy: off}
	}
	if p, ok := l.Packages([]string{it.File})[it.File]; ok {
		return nil, &SwitchError{Problem: it.File + " belongs to the package " + p.Name, Remedy: "remove that, or let it start no more: timegate startup off " + it.ID}
	}
	own, err := l.entryToWrite(it)
	if err != nil {
		return nil, err
	}
	if own != it.File {
		return nil, &SwitchError{Problem: it.File + " is not yours", Remedy: off}
	}
	return []gates.OtherChange{{Path: it.File}}, l.mayWrite(it.File)
}

// switchUnit lays a file beside a unit, or takes it away.
func (l *Look) switchUnit(it *Item, on bool) ([]gates.OtherChange, error) {
	u := it.unit
	if on {
		if u.offs == "" {
			return nil, &SwitchError{Problem: it.ID + " was switched off by other means: " + it.Why, Remedy: "take that away by the means by which it came"}
		}
		path := l.below(u.offs)
		return []gates.OtherChange{{Path: path, Tidy: true}}, l.mayWrite(path)
	}
	dir := "/etc/systemd/system"
	if strings.HasPrefix(string(it.Source), "own-") {
		dir = filepath.Join(l.Own, "systemd/user")
	}
	path := l.below(filepath.Join(dir, u.name+".d", offFile))
	// "/" is always there: the condition never holds (systemd.unit(5)).
	text := written + "\n[Unit]\nConditionPathExists=!/\n"
	return []gates.OtherChange{{Path: path, After: &home.State{Text: []byte(text)}}}, l.mayWrite(path)
}

// switchEntry hides an entry, or shows it again.
func (l *Look) switchEntry(it *Item, on bool) ([]gates.OtherChange, error) {
	own, err := l.entryToWrite(it)
	if err != nil {
		return nil, err
	}
	if err := l.mayWrite(own); err != nil {
		return nil, err
	}
	if own != it.File { // the vendor's stays as it is
		e := desktop.Entry{Name: it.Name, Comment: it.About, Exec: quoted(it.Command), Terminal: it.terminal}
		text := e.Text(strings.TrimPrefix(written, "# ")) + "Hidden=true\n"
		return []gates.OtherChange{{Path: own, After: &home.State{Text: []byte(text)}}}, nil
	}
	before, err := home.StateOf(own, longestUnit)
	if err != nil {
		return nil, &SwitchError{Problem: err.Error(), Remedy: "look what it is"}
	}
	after, err := toggled(own, before, !on, it.Over != "")
	if err != nil {
		return nil, err
	}
	return []gates.OtherChange{{Path: own, After: after}}, nil
}

func quoted(argv []string) string {
	var out []string
	for _, a := range argv {
		out = append(out, desktop.Quote(a))
	}
	return strings.Join(out, " ")
}

// entryToWrite returns the file in which an entry is switched: the one that counts where
// it is the person's or the administrator's, or a new one that counts before it.
func (l *Look) entryToWrite(it *Item) (string, error) {
	for i, dir := range l.autostartFolders() {
		path := l.below(filepath.Join(dir, filepath.Base(it.File)))
		// What lies in /etc is the administrator's (Filesystem Hierarchy Standard).
		theirs := i == 0 && l.Own != "" || l.Own == "" && strings.HasPrefix(dir, "/etc/")
		if theirs {
			return path, nil
		}
		if path == it.File {
			break
		}
	}
	return "", &SwitchError{Problem: it.File + " is a vendor's, and no folder of the administrator's counts before it", Remedy: "switch it off as the person who logs on"}
}

// toggled returns an entry with its key Hidden as it is to be. What a change of ours has
// put there before is taken back, to the byte; nil takes the file away.
func toggled(path string, before *home.State, hidden, over bool) (*home.State, error) {
	text := before.Text
	if before.Link != "" {
		data, err := os.ReadFile(path)
		if err != nil {
			return nil, &SwitchError{Problem: err.Error(), Remedy: "look what it is"}
		}
		text = slices.Concat([]byte(linked+before.Link+"\n"), data)
	}
	if bytes.HasPrefix(text, []byte(written)) && !hidden {
		return nil, nil
	}
	lines := slices.Collect(bytes.Lines(text))
	main, key := -1, -1
	for i, line := range lines {
		t := string(bytes.TrimSpace(line))
		switch {
		case t == "[Desktop Entry]" && main < 0:
			main = i
		case strings.HasPrefix(t, "[") && main >= 0 && i > main && key < 0:
			key = len(lines) // no further: the group has ended
		case main >= 0 && key < 0 && strings.HasPrefix(strings.ReplaceAll(t, " ", ""), "Hidden="):
			key = i
		}
	}
	if key == len(lines) {
		key = -1
	}
	if main < 0 {
		return nil, &SwitchError{Problem: path + " has no group [Desktop Entry]", Remedy: "it starts nothing as it is"}
	}
	if key > main+1 && bytes.HasPrefix(lines[key-1], []byte(mark)) { // of ours: it is taken back
		was := bytes.TrimPrefix(lines[key-1], []byte(mark))
		added := bytes.Equal(was, []byte("added\n"))
		if !bytes.HasSuffix(lines[key], []byte("\n")) {
			was = bytes.TrimSuffix(was, []byte("\n"))
		}
		lines = slices.Delete(lines, key-1, key+1)
		if !added {
			lines = slices.Insert(lines, key-1, was)
		}
		if link, ok := bytes.CutPrefix(lines[0], []byte(linked)); ok {
			return &home.State{Link: string(bytes.TrimSuffix(link, []byte("\n")))}, nil
		}
		return &home.State{Text: bytes.Join(lines, nil)}, nil
	}
	if !hidden && over && !bytes.Contains(text, []byte("\nExec")) {
		return nil, &SwitchError{Problem: path + " hides another entry, and names no program of its own", Remedy: "take it away: rm " + path}
	}
	set := []byte(fmt.Sprintf("Hidden=%t\n", hidden))
	if key < 0 {
		if !bytes.HasSuffix(lines[main], []byte("\n")) {
			return nil, &SwitchError{Problem: path + " says no program (Exec)", Remedy: "it starts nothing as it is"}
		}
		return &home.State{Text: bytes.Join(slices.Insert(lines, main+1, []byte(mark+"added\n"), set), nil)}, nil
	}
	was := lines[key]
	if !bytes.HasSuffix(was, []byte("\n")) {
		was, set = append(slices.Clone(was), '\n'), bytes.TrimSuffix(set, []byte("\n"))
	}
	lines[key] = append(append([]byte(mark), was...), set...)
	return &home.State{Text: bytes.Join(lines, nil)}, nil
}

// mayWrite reports, before anything is changed, a folder that the caller cannot write.
func (l *Look) mayWrite(path string) error {
	if l.Root != "" && l.Root != "/" {
		return &SwitchError{Problem: "another disk (--root) is only looked at", Remedy: "start the machine from it, and switch there"}
	}
	dir := filepath.Dir(path)
	for {
		info, err := os.Stat(dir)
		if err == nil && info.IsDir() {
			break
		}
		if dir == filepath.Dir(dir) {
			return nil
		}
		dir = filepath.Dir(dir)
	}
	if !writable(dir) {
		return &SwitchError{Problem: "you may not write in " + dir, Remedy: "for a change of the whole machine become root", Rights: true}
	}
	return nil
}
