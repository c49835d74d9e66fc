package cli

import (
	"fmt"
	"slices"

	"timegate/core/phrase"
	"timegate/gates"
	"timegate/journal"
)

// inForce puts the last good versions, with which the keeper goes on, in the place of
// gates whose files are wrong, as far as they are kept. It returns their names.
func (a *app) inForce(files []gates.File, env phrase.Env) ([]gates.File, []string) {
	if !slices.ContainsFunc(files, func(f gates.File) bool { return f.Gate == nil }) {
		return files, nil
	}
	state, err := a.engineState()
	if err != nil || state.Version == 0 {
		return files, nil
	}
	j, err := journal.OpenReader(a.home.Journal())
	if err != nil {
		return files, nil
	}
	defer j.Close()
	var names []string
	out := slices.Clone(files)
	for i, f := range files {
		if f.Gate != nil {
			continue
		}
		text, err := j.Text(state.Gates[f.Name].Version)
		if err != nil {
			continue
		}
		if good := gates.Parse(a.home, f.Name, []byte(text), env); good.Gate != nil {
			out[i], names = good, append(names, f.Name)
		}
	}
	return out, names
}

// sayInForce says of gates that their last good versions are meant.
func (a *app) sayInForce(names []string) {
	for _, name := range names {
		if slices.Contains(a.inForceSaid, name) {
			continue
		}
		a.inForceSaid = append(a.inForceSaid, name)
		fmt.Fprintf(a.err, "%s the file of %s is wrong; this is about its last good version, with which the keeper goes on\n", a.err.faint("note:"), name)
	}
}
