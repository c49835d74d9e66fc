package desktop

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// Autostart is an entry of one of the folders whose entries a desktop starts when
// somebody logs on (Desktop Application Autostart Specification 0.5).
type Autostart struct {
	Entry
	Hidden  bool   // it is to be taken as not there
	Shown   bool   // it is for the desktop that is there (OnlyShowIn, NotShowIn)
	Only    string // for which desktops it is, or is not, in the words of the entry
	TryExec string // a program without which it is not started
	Over    string // the less important file whose place it takes
	Problem string // why it cannot be started, whatever else it says
}

// Autostarts returns the entries of folders, the most important one first, in the order
// of their IDs. Of files with one name that in the most important folder counts, and it
// alone. real follows the links of a path.
func Autostarts(look Look, real func(string) (string, error)) []Autostart {
	var out []Autostart
	at := map[string]int{}
	for _, folder := range look.Folders {
		dir, err := real(folder)
		if err != nil {
			continue
		}
		entries, err := os.ReadDir(dir)
		if err != nil {
			continue
		}
		for _, d := range entries {
			if !strings.HasSuffix(d.Name(), ".desktop") || strings.HasPrefix(d.Name(), ".") {
				continue
			}
			path := filepath.Join(folder, d.Name())
			if i, there := at[d.Name()]; there {
				if out[i].Over == "" {
					out[i].Over = path
				}
				continue
			}
			at[d.Name()] = len(out)
			out = append(out, look.autostart(path, real))
		}
	}
	slices.SortFunc(out, func(a, b Autostart) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// autostart reads one entry. What is wrong with it is its problem.
func (look *Look) autostart(path string, real func(string) (string, error)) Autostart {
	a := Autostart{Entry: Entry{ID: filepath.Base(path), File: path}}
	data, err := readWhole(path, real)
	if err != nil {
		a.Problem = err.Error()
		return a
	}
	group, there := readKeyFile(data)[mainGroup]
	e := entryOf(group, look.Locale)
	e.ID, e.File = a.ID, path
	a.Entry, a.Hidden, a.Shown, a.TryExec = e, group["Hidden"] == "true", look.shows(group), unescape(group["TryExec"])
	for _, key := range []string{"OnlyShowIn", "NotShowIn"} {
		if desktops := list(group[key]); len(desktops) > 0 && a.Only == "" {
			a.Only = map[string]string{"OnlyShowIn": "for ", "NotShowIn": "not for "}[key] + strings.Join(desktops, ", ")
		}
	}
	switch {
	case !there:
		a.Problem = "it has no group [Desktop Entry]"
	case a.Hidden: // the rest does not matter
	case group["Type"] != "Application":
		a.Problem = fmt.Sprintf("its type is %q, and only an Application can be started", group["Type"])
	case e.Exec == "":
		a.Problem = "it says no program (Exec)"
	}
	return a
}

// readWhole reads an entry, and says in plain words why it cannot.
func readWhole(path string, real func(string) (string, error)) ([]byte, error) {
	path, err := real(path)
	if err != nil {
		return nil, Plainly(err)
	}
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, Plainly(err)
	case info.IsDir():
		return nil, errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return nil, errors.New("it is not a plain file")
	case info.Size() > longest:
		return nil, errors.New("it is larger than 1 MiB, and no entry is")
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, Plainly(err)
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, longest))
}

// Plainly says why a file cannot be read.
func Plainly(err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return errors.New("it is a link to nothing")
	case errors.Is(err, fs.ErrPermission):
		return errors.New("you may not read it")
	}
	if no := syscall.Errno(0); errors.As(err, &no) {
		err = no
	}
	return fmt.Errorf("it cannot be read: %w", err)
}
