package home

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"timegate/core/gate"
)

// ScriptSize is how large a script is at most that is copied, in bytes.
const ScriptSize = 512 << 10

// KeptScript is where a gate's program is copied to.
func (h Home) KeptScript(name string) string { return filepath.Join(h.scripts(), name) }

// ScriptSourceFile is where it is kept what a script was copied from.
func (h Home) ScriptSourceFile(name string) string { return filepath.Join(h.scripts(), "."+name) }

// ScriptSource returns the path that a gate's script was copied from, or "".
func (h Home) ScriptSource(name string) string {
	data, err := ReadPlain(h.ScriptSourceFile(name), 4096)
	if err != nil {
		return ""
	}
	return string(data)
}

// NoteScriptSource keeps where a gate's script was copied from, so that the copy
// can be renewed.
func (h Home) NoteScriptSource(name, path string) error {
	if err := Replace(h.ScriptSourceFile(name), []byte(path), 0o600); err != nil {
		return Wrap(path, err)
	}
	return nil
}

// MakeScripts makes the folder of scripts, which others cannot list. In the system scope
// other accounts run what is theirs in it.
func (h Home) MakeScripts() error {
	mode := os.FileMode(0o700)
	if h.Scope == gate.System {
		mode = 0o711
	}
	if err := makeFolder(h.scripts(), mode); err != nil {
		return err
	}
	if err := os.Chmod(h.scripts(), mode); err != nil {
		return Wrap(h.scripts(), err)
	}
	return nil
}

// PutScript copies a gate's program into the home, where it stays and nobody
// else can change it. It can be run by the account with a number, and by all only
// if all could read what was copied, as its mode says.
func (h Home) PutScript(name string, data []byte, mode fs.FileMode, uid int) error {
	if err := h.Prepare(); err != nil {
		return err
	}
	if err := h.MakeScripts(); err != nil {
		return err
	}
	all := mode&0o005 == 0o005
	path := h.KeptScript(name)
	own := os.FileMode(0o700)
	if all && h.Scope == gate.System {
		own = 0o755
	}
	if err := Replace(path, data, own); err != nil {
		return Wrap(path, err)
	}
	if own == 0o700 && uid != os.Getuid() {
		if err := letRun(path, uid); err != nil {
			os.Remove(path)
			return &Error{Path: path, Reason: "what was copied is not for all, and the file system knows no access control lists: " + err.Error(),
				Remedy: "let all read the script, or put it in place by hand", Err: err}
		}
	}
	return nil
}

// Scripts returns the names of the scripts that are kept, in order.
func (h Home) Scripts() ([]string, error) {
	entries, err := os.ReadDir(h.scripts())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, Wrap(h.scripts(), err)
	}
	var out []string
	for _, e := range entries {
		if e.Type().IsRegular() && !strings.HasPrefix(e.Name(), ".") {
			out = append(out, e.Name())
		}
	}
	return out, nil
}

// TidyScripts takes the copies of scripts away that are not in use.
func (h Home) TidyScripts(used func(path string) bool) error {
	entries, err := os.ReadDir(h.scripts())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return Wrap(h.scripts(), err)
	}
	for _, e := range entries {
		if path := h.KeptScript(strings.TrimPrefix(e.Name(), ".")); e.Type().IsRegular() && !used(path) {
			path = filepath.Join(h.scripts(), e.Name())
			if err := os.Remove(path); err != nil {
				return Wrap(path, err)
			}
		}
	}
	return nil
}
