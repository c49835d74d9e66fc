package gates

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"timegate/core/gate"
	"timegate/home"
	"timegate/inspect"
)

// Source is a folder of gates that are to be brought onto workstations: gate files in it
// or in its folder gates, vars.toml, and scripts in its folder scripts. It is read once;
// what is done with it is done with what was read.
type Source struct {
	Dir   string
	files map[string]sourceFile // by their path within, with slashes
}

type sourceFile struct {
	data []byte
	mode fs.FileMode
}

// Names of what lies in a source besides gate files.
const (
	varsName    = "vars.toml"
	gatesDir    = "gates"
	scriptsDir  = "scripts"
	sourceFiles = 20_000    // at most
	sourceBytes = 256 << 20 // in all
)

// A SourceError says why a folder cannot be brought here.
type SourceError struct{ Path, Problem, Remedy string }

func (e *SourceError) Error() string { return e.Path + ": " + e.Problem + "; " + e.Remedy }

// ReadSource reads a folder. With trusted, nobody but root may be able to change anything
// of it. Its error is a [*SourceError].
func ReadSource(dir string, trusted bool) (*Source, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	s := &Source{Dir: abs, files: map[string]sourceFile{}}
	root, err := os.OpenRoot(abs)
	if err != nil {
		return nil, &SourceError{abs, "it is no folder", "write the folder in which the gates lie"}
	}
	defer root.Close()
	total := 0
	take := func(rel string, most int64) error {
		file := filepath.Join(abs, filepath.FromSlash(rel))
		if trusted {
			for _, found := range inspect.WritableByOthers(file) {
				return &SourceError{file, strings.Replace(found.Message, "the gate file", "it", 1), found.Remedy + "; or let it be signed, and use --signed (see: timegate help sign)"}
			}
		}
		data, mode, err := home.ReadIn(root, rel, most+1)
		switch {
		case errors.Is(err, home.ErrLink):
			return &SourceError{file, err.Error(), "put the file itself there"}
		case err != nil:
			return &SourceError{file, "it cannot be read: " + err.Error(), "look what it is"}
		case int64(len(data)) > most:
			return &SourceError{file, fmt.Sprintf("it is larger than %d KiB", most>>10), "is it another file?"}
		}
		if total += len(data); total > sourceBytes || len(s.files) >= sourceFiles {
			return &SourceError{abs, "there is too much in it", "is it another folder?"}
		}
		s.files[rel] = sourceFile{data, mode.Perm()}
		return nil
	}
	where := ""
	for _, dir := range []string{gatesDir, scriptsDir} {
		info, err := root.Lstat(dir)
		switch {
		case err == nil && info.Mode()&fs.ModeSymlink != 0:
			return nil, &SourceError{filepath.Join(abs, dir), home.ErrLink.Error(), "put the folder itself there"}
		case err == nil && info.IsDir() && dir == gatesDir:
			where = gatesDir
		}
	}
	for _, part := range []struct {
		dir    string
		most   int64
		wanted func(name string) bool
	}{
		{where, gate.MaxSize, func(name string) bool {
			base, ok := strings.CutSuffix(name, Suffix)
			return ok && name != varsName && name != "settings.toml" && gate.ValidName(base)
		}},
		{"", 256 << 10, func(name string) bool { return name == varsName }},
		{scriptsDir, home.ScriptSize, func(name string) bool { return !strings.HasPrefix(name, ".") }},
	} {
		entries, err := os.ReadDir(filepath.Join(abs, part.dir))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, &SourceError{filepath.Join(abs, part.dir), "it cannot be read", "look who may"}
		}
		for _, e := range entries {
			if e.IsDir() || !part.wanted(e.Name()) {
				continue
			}
			if err := take(path.Join(part.dir, e.Name()), part.most); err != nil {
				return nil, err
			}
		}
	}
	return s, nil
}

// gateAt returns the name of the gate that a file of a source is, and false where it is none.
func gateAt(rel string) (string, bool) {
	name, ok := strings.CutSuffix(path.Base(rel), Suffix)
	dir := path.Dir(rel)
	return name, ok && (dir == "." || dir == gatesDir) && rel != varsName
}

// Path returns the path of a gate's file in the source.
func (s *Source) Path(name string) string {
	for rel := range s.files {
		if gate, ok := gateAt(rel); ok && gate == name {
			return filepath.Join(s.Dir, filepath.FromSlash(rel))
		}
	}
	return ""
}

// CheckVars says what is wrong with the values of names on a host.
func (s *Source) CheckVars(host string) error {
	f, there := s.files[varsName]
	if !there {
		return nil
	}
	_, err := home.ParseVars(filepath.Join(s.Dir, varsName), f.data, host)
	return err
}

// Gates returns the gate files, by the gates' names.
func (s *Source) Gates() map[string][]byte {
	out := map[string][]byte{}
	for rel, f := range s.files {
		if name, ok := gateAt(rel); ok {
			out[name] = f.data
		}
	}
	return out
}

// Plan puts into a plan what makes a home's gates those of the source: those that differ,
// the values of names, and scripts. With prune, gates that an earlier one has brought and
// that are not in it any more are removed.
func (s *Source) Plan(h home.Home, prune bool) (*Plan, error) {
	p := NewPlan(h)
	list := s.Gates()
	for _, name := range slices.Sorted(maps.Keys(list)) {
		now, err := contentOf(h.GateFile(name))
		if err != nil {
			return nil, err
		}
		if now == nil || *now != string(list[name]) {
			p.Put(name, list[name])
		}
	}
	before, err := readApplied(h)
	if err != nil {
		return nil, err
	}
	gone := slices.DeleteFunc(slices.Clone(before.Gates), func(name string) bool { _, there := list[name]; return there })
	kept := gone
	if prune {
		kept = nil
		for _, name := range gone {
			text, was := before.Replaced[name]
			if now, err := contentOf(h.GateFile(name)); err != nil {
				return nil, err
			} else if was {
				p.Put(name, []byte(text))
			} else if now != nil {
				p.Remove(name)
			}
		}
	}
	for rel, f := range s.files {
		to := ""
		state := &home.State{Text: f.data}
		switch {
		case rel == varsName:
			to = h.VarsFile()
		case path.Dir(rel) == scriptsDir:
			to = h.KeptScript(path.Base(rel))
			if state.Mode = 0o700; h.Scope == gate.System {
				state.Mode = 0o755 // whoever the gates run as
			}
		default:
			continue
		}
		now, err := home.StateOf(to, longestOther)
		if err != nil {
			return nil, home.Wrap(to, err)
		}
		if !now.Same(state) {
			p.PutOther(OtherChange{Path: to, After: state})
		}
	}
	slices.SortFunc(p.others, func(a, b OtherChange) int { return strings.Compare(a.Path, b.Path) })
	next := applied{Gates: append(slices.Sorted(maps.Keys(list)), kept...), Replaced: maps.Clone(before.Replaced)}
	slices.Sort(next.Gates)
	maps.DeleteFunc(next.Replaced, func(name, _ string) bool { return !slices.Contains(next.Gates, name) })
	own, err := s.Over(h)
	if err != nil {
		return nil, err
	}
	for name, text := range own {
		if next.Replaced == nil {
			next.Replaced = map[string]string{}
		}
		next.Replaced[name] = text
	}
	if len(p.changes)+len(p.others) > 0 || !slices.Equal(next.Gates, before.Gates) {
		return p, p.noteApplied(next)
	}
	return p, nil
}

// Over returns the gates of a home, with their texts, whose place the source would take, and
// that no source has brought.
func (s *Source) Over(h home.Home) (map[string]string, error) {
	before, err := readApplied(h)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for name, text := range s.Gates() {
		if slices.Contains(before.Gates, name) {
			continue
		}
		now, err := contentOf(h.GateFile(name))
		if err != nil {
			return nil, err
		}
		if now != nil && *now != string(text) {
			out[name] = *now
		}
	}
	return out, nil
}

// Gone returns the gates that an earlier source has brought, and that are not in this one.
func (s *Source) Gone(h home.Home) ([]string, error) {
	before, err := readApplied(h)
	list := s.Gates()
	return slices.DeleteFunc(before.Gates, func(name string) bool {
		_, there := list[name]
		if _, err := os.Lstat(h.GateFile(name)); err != nil {
			there = true // gone here as well
		}
		return there
	}), err
}

// SourceOf makes a source of files that did not come from a folder, by their paths within one.
func SourceOf(from string, files map[string][]byte) *Source {
	s := &Source{Dir: from, files: map[string]sourceFile{}}
	for rel, data := range files {
		s.files[rel] = sourceFile{data, 0o644}
	}
	return s
}

// Content returns what was read, by the paths within.
func (s *Source) Content() map[string][]byte {
	out := map[string][]byte{}
	for rel, f := range s.files {
		out[rel] = f.data
	}
	return out
}
