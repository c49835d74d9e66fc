package startup

import (
	"bufio"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Package is where a file came from.
type Package struct {
	Name  string    `json:"name"`
	Since time.Time `json:"since"` // when this version of it was installed
}

// packageFiles is where the package manager of Debian keeps the files of each package, a
// list each (dpkg-query(1) reads it).
const packageFiles = "/var/lib/dpkg/info"

// Packages returns which packages some files of the machine came with; a file that none has
// is left out.
func (l *Look) Packages(files []string) map[string]Package {
	root := l.below("/")
	wanted := map[string]string{} // a path as a list may have it, to the file
	for _, file := range files {
		rel, err := filepath.Rel(root, file)
		if file == "" || err != nil {
			continue
		}
		path := "/" + rel
		wanted[path] = file
		// /lib is a link to /usr/lib by now, and lists have either.
		if short, ok := strings.CutPrefix(path, "/usr"); ok {
			wanted[short] = file
		} else {
			wanted["/usr"+path] = file
		}
	}
	out := map[string]Package{}
	lists, _ := filepath.Glob(filepath.Join(l.below(packageFiles), "*.list"))
	for _, list := range lists {
		f, err := os.Open(list)
		if err != nil {
			continue
		}
		for lines := bufio.NewScanner(f); lines.Scan(); {
			file, ok := wanted[lines.Text()]
			if !ok {
				continue
			}
			name, _, _ := strings.Cut(strings.TrimSuffix(filepath.Base(list), ".list"), ":") // of an architecture
			p := Package{Name: name}
			if info, err := f.Stat(); err == nil {
				p.Since = info.ModTime()
			}
			out[file] = p
		}
		f.Close()
	}
	return out
}
