package desktop

import (
	"io/fs"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
)

// Look says whose menu is looked through.
type Look struct {
	Folders  []string // of applications, the first that has an entry counts
	Locale   string   // such as en_GB.UTF-8
	Desktops []string // names of the desktop, as XDG_CURRENT_DESKTOP has them
	// All takes in what menus leave out (NoDisplay, OnlyShowIn, NotShowIn).
	All bool
}

// Applications returns the applications that can be started, and their actions, in the
// order of their IDs. What is deleted (Hidden) or not installed (TryExec) is left out.
func Applications(look Look) []Entry {
	type place struct{ path, id string }
	var places []place
	seen := map[string]bool{}
	for _, folder := range look.Folders {
		filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".desktop") {
				return nil
			}
			rel, err := filepath.Rel(folder, path)
			if err != nil {
				return nil
			}
			if id := strings.ReplaceAll(rel, string(filepath.Separator), "-"); !seen[id] { // "Desktop file ID"
				seen[id] = true
				places = append(places, place{path, id})
			}
			return nil
		})
	}
	read := make([][]Entry, len(places))
	var next atomic.Int64
	var readers sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(places)) {
		readers.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(places)); i = next.Add(1) - 1 {
				read[i] = look.read(places[i].path, places[i].id)
			}
		})
	}
	readers.Wait()
	out := slices.Concat(read...)
	slices.SortFunc(out, func(a, b Entry) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// read returns the application of a file with its actions; nothing where it is not to
// be started.
func (look *Look) read(path, id string) []Entry {
	data, err := readBeginning(path)
	if err != nil {
		return nil
	}
	file := readKeyFile(data)
	group := file[mainGroup]
	e := entryOf(group, look.Locale)
	e.ID, e.File = id, path
	if group["Type"] != "Application" || group["Hidden"] == "true" || e.Exec == "" || !installed(unescape(group["TryExec"])) || !look.All && (e.NoDisplay || !look.shows(group)) {
		return nil
	}
	out := []Entry{e}
	for _, action := range list(group["Actions"]) {
		part := file["Desktop Action "+action]
		name := unescape(localized(part, "Name", look.Locale))
		if part["Exec"] == "" || name == "" {
			continue
		}
		a := e
		a.ID, a.Name, a.Exec = id+":"+action, e.Name+": "+name, part["Exec"]
		out = append(out, a)
	}
	return out
}

// shows reports whether an entry is for the desktop that is there (OnlyShowIn,
// NotShowIn).
func (look *Look) shows(group map[string]string) bool {
	only, not := list(group["OnlyShowIn"]), list(group["NotShowIn"])
	for _, d := range look.Desktops {
		if slices.Contains(only, d) {
			return true
		}
		if slices.Contains(not, d) {
			return false
		}
	}
	return len(only) == 0
}

// installed reports whether the program that TryExec names is there.
func installed(program string) bool {
	if program == "" {
		return true
	}
	_, err := exec.LookPath(program)
	return err == nil
}
