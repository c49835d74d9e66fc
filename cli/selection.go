package cli

import (
	"os"
	"strings"

	"timegate/core/gate"
	"timegate/gates"
)

// gatesNamed reads gates by their names, all of a folder of gate files, or all
// of the home.
func (a *app) gatesNamed(names []string) ([]*gate.Gate, error) {
	if len(names) == 0 {
		files, err := a.files()
		return a.good(files), err
	}
	var out []*gate.Gate
	for _, name := range names {
		if info, err := os.Stat(name); err == nil && info.IsDir() && strings.Contains(name, "/") {
			more, err := a.gatesIn(name)
			if err != nil {
				return nil, err
			}
			out = append(out, more...)
			continue
		}
		f, err := a.file(name)
		if err != nil {
			return nil, err
		}
		if f.Gate == nil {
			return nil, f.Findings.Errors()
		}
		out = append(out, f.Gate)
	}
	return out, nil
}

// gatesIn reads the gates of a folder that are right, and tells of the others.
func (a *app) gatesIn(folder string) ([]*gate.Gate, error) {
	home := a.home
	home.Gates = folder
	files, err := gates.ReadFolder(home, a.env())
	if err != nil {
		return nil, err
	}
	return a.good(files), nil
}

// good returns the gates that are right, and tells of the others.
func (a *app) good(files []gates.File) []*gate.Gate {
	var out []*gate.Gate
	for _, f := range files {
		if f.Gate == nil {
			a.printFindings(a.err, f.Findings.Errors())
			continue
		}
		out = append(out, f.Gate)
	}
	return out
}
