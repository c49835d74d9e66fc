package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/gates"
	"timegate/home"
)

// exportFolder writes the gates into a folder, as apply reads it: for a repository, or
// another workstation.
func (a *app) exportFolder(c *cli.Command) error {
	dir, err := oneArgument(c, "the folder")
	if err != nil {
		return err
	}
	files, err := a.files()
	if err != nil {
		return err
	}
	if len(files) == 0 {
		return usageError("there are no gates in %s to be written", a.home.Gates)
	}
	tree, err := home.OpenTree(dir)
	if err != nil {
		return err
	}
	defer tree.Close()
	where := "gates"
	if source, err := gates.ReadSource(dir, false); err == nil && len(source.Gates()) > 0 {
		if _, err := os.Stat(filepath.Join(dir, where)); err != nil {
			where = "" // its gate files lie in it
		}
	}
	type piece struct {
		name string
		data []byte
		mode os.FileMode
	}
	var pieces []piece
	for _, f := range files {
		pieces = append(pieces, piece{filepath.Join(where, f.Name+gates.Suffix), []byte(f.Text), 0o644})
	}
	if state, err := home.StateOf(a.home.VarsFile(), 1<<20); err == nil && state != nil {
		pieces = append(pieces, piece{"vars.toml", state.Text, 0o644})
	}
	scripts, err := a.home.Scripts()
	if err != nil {
		return err
	}
	for _, name := range scripts {
		data, err := os.ReadFile(a.home.KeptScript(name))
		if err != nil {
			return err
		}
		pieces = append(pieces, piece{filepath.Join("scripts", name), data, 0o755})
	}
	var changed []piece
	over := 0
	for _, p := range pieces {
		now, err := tree.Read(p.name, int64(len(p.data))+1)
		if err == nil && string(now) == string(p.data) {
			continue
		}
		if !errors.Is(err, fs.ErrNotExist) {
			over++
		}
		changed = append(changed, p)
	}
	if over > 0 {
		if ok, err := a.confirm(c, fmt.Sprintf("Write over %s in %s?", plural(over, "file"), dir)); err != nil || !ok {
			return err
		}
	}
	for _, p := range changed {
		if err := tree.Replace(p.name, p.data, p.mode); err != nil {
			return err
		}
	}
	fmt.Fprintf(a.err, "%s %d of %s into %s\n", a.err.good("written"), len(changed), plural(len(pieces), "file"), strings.TrimSuffix(dir, "/"))
	return nil
}
