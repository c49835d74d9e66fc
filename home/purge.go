package home

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// ownEntries are what Time Gate puts into the folders of a home. A folder in which there
// is anything else is not its own, and is never taken away.
var ownEntries = []string{"gates", "scripts", "told", "agents", "outputs", "removed", "estate", "hub", "settings.toml", "vars.toml", "estate.toml", "reserve", "tried.json", "notices.json", "runs", "secret",
	"applied.json", "startup.json", "keeper.sock", "keeper.lock", "hub.lock", "desk.lock"}

// own reports whether an entry of a home's folder is Time Gate's. The journal has files
// beside it, and those before it.
func own(name string) bool {
	return slices.Contains(ownEntries, name) || strings.HasPrefix(name, "journal")
}

// ownGate reports whether an entry of the folder of gates is Time Gate's.
func ownGate(name string) bool {
	return strings.HasSuffix(name, ".toml") || strings.HasPrefix(name, ".plan.")
}

// Purgeable says why a scope's home cannot be taken away: there is something in it that
// Time Gate did not put there. A home that is not there can.
func (h Home) Purgeable() error {
	for _, look := range []struct {
		dir string
		own func(string) bool
	}{{filepath.Dir(h.Gates), own}, {h.State, own}, {h.Gates, ownGate}} {
		entries, err := os.ReadDir(look.dir)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return Wrap(look.dir, err)
		}
		for _, e := range entries {
			if !look.own(e.Name()) {
				return &Error{Path: filepath.Join(look.dir, e.Name()), Reason: "it is not of Time Gate's making, so its folder stays", Remedy: "move it elsewhere, or take away by hand what you do not need"}
			}
		}
	}
	return nil
}

// Purge takes a scope's home away, with gates and journal. It refuses while a keeper keeps
// it, and where it is not [Home.Purgeable].
func (h Home) Purge() error {
	if err := h.Purgeable(); err != nil {
		return err
	}
	unlock, err := h.Lock()
	if err == nil {
		defer unlock()
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, dir := range []string{filepath.Dir(h.Gates), h.State} {
		if err := os.RemoveAll(dir); err != nil {
			return Wrap(dir, err)
		}
	}
	return nil
}
