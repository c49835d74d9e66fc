package home

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode"

	"github.com/pelletier/go-toml/v2"

	"timegate/core/gate"
)

// VarsFile is the path of the file that gives names their values.
func (h Home) VarsFile() string { return filepath.Join(filepath.Dir(h.Gates), "vars.toml") }

// longestVars is how large that file may be, in bytes.
const longestVars = 256 << 10

// ReadVars reads the values that names have on a host. Without a file there are none but
// the builtin ones, which are the caller's to add. Its error is a [*SettingsError].
func ReadVars(file, host string) (gate.Vars, error) {
	data, err := ReadPlain(file, longestVars+1)
	if errors.Is(err, fs.ErrNotExist) {
		return gate.Vars{}, nil
	}
	if err != nil {
		return nil, &SettingsError{File: file, Problem: "it cannot be read: " + err.Error()}
	}
	return ParseVars(file, data, host)
}

// VarsHosts returns the hosts to which a text of values gives values of their own by name. Patterns
// of hosts are left out, and so is what cannot be read.
func VarsHosts(data []byte) []string {
	var all map[string]any
	if len(data) > longestVars || toml.Unmarshal(data, &all) != nil {
		return nil
	}
	maps.DeleteFunc(all, func(key string, value any) bool {
		_, is := value.(map[string]any)
		return !is || strings.ContainsAny(key, "*?[\\")
	})
	return slices.Sorted(maps.Keys(all))
}

// ParseVars reads values from a text: of each name at the top one for all hosts, and in
// tables named by patterns of hosts those of some. The host's own table counts before
// patterns, and these before what holds for all.
func ParseVars(file string, data []byte, host string) (gate.Vars, error) {
	fault := func(key, problem string, args ...any) error {
		line, column := find(data, key)
		return &SettingsError{File: file, Line: line, Column: column, Problem: fmt.Sprintf(problem, args...)}
	}
	if len(data) > longestVars {
		return nil, &SettingsError{File: file, Problem: fmt.Sprintf("it is larger than %d KiB", longestVars>>10)}
	}
	var all map[string]any
	if err := toml.Unmarshal(data, &all); err != nil {
		return nil, settingsFault(file, err)
	}
	out := gate.Vars{}
	from := map[string]string{} // the pattern that gave a value
	keys := slices.Sorted(maps.Keys(all))
	if i := slices.Index(keys, host); i > 0 { // the host's own counts first
		keys = slices.Insert(slices.Delete(keys, i, i+1), 0, host)
	}
	for _, key := range keys {
		switch value := all[key].(type) {
		case string:
			if problem := badVar(key, value); problem != "" {
				return nil, fault(key, "%s", problem)
			}
			if from[key] == "" {
				out[key] = value
			}
		case map[string]any:
			matches, err := path.Match(key, host)
			if err != nil {
				return nil, fault(key, "%q is no pattern of hosts", key)
			}
			for _, name := range slices.Sorted(maps.Keys(value)) {
				text, is := value[name].(string)
				if !is {
					return nil, fault(name, "%s of %s is a text in quotes", name, key)
				}
				if problem := badVar(name, text); problem != "" {
					return nil, fault(name, "%s", problem)
				}
				if !matches || from[name] == host {
					continue
				}
				if other := from[name]; other != "" && out[name] != text {
					return nil, fault(key, "%s and %s both stand for this host, and give %s another value each: give it one in [%q]", other, key, name, host)
				}
				out[name], from[name] = text, key
			}
		default:
			return nil, fault(key, "%s is a text in quotes, or a table of them named by a pattern of hosts", key)
		}
	}
	return out, nil
}

// badVar says what is wrong with a name or its value, or "".
func badVar(name, value string) string {
	switch {
	case slices.Contains(gate.BuiltinVars, name):
		return fmt.Sprintf("{%s} has a value of its own: choose another name", name)
	case !gate.ValidVar(name):
		return fmt.Sprintf("%q is no name: it begins with a letter, and has small letters, digits, - and _", name)
	case strings.ContainsAny(value, "\"'\\") || strings.ContainsFunc(value, unicode.IsControl):
		return fmt.Sprintf("the value of %s has a quote, a backslash or a control character", name)
	}
	return ""
}
