package cli

import (
	"fmt"
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
	where := filepath.Join(dir, "gates")
	if source, err := gates.ReadSource(dir, false); err == nil && len(source.Gates()) > 0 {
		if _, err := os.Stat(where); err != nil {
			where = dir // its gate files lie in it
		}
	}
	type piece struct {
		path string
		data []byte
		mode os.FileMode
	}
	var pieces []piece
	for _, f := range files {
		pieces = append(pieces, piece{filepath.Join(where, f.Name+gates.Suffix), []byte(f.Text), 0o644})
	}
	if state, err := home.StateOf(a.home.VarsFile(), 1<<20); err == nil && state != nil {
		pieces = append(pieces, piece{filepath.Join(dir, "vars.toml"), state.Text, 0o644})
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
		pieces = append(pieces, piece{filepath.Join(dir, "scripts", name), data, 0o755})
	}
	var changed []piece
	over := 0
	for _, p := range pieces {
		now, err := os.ReadFile(p.path)
		if err == nil && string(now) == string(p.data) {
			continue
		}
		if err == nil {
			over++
		}
		changed = append(changed, p)
	}
	if over > 0 {
		if ok, err := a.mayAsk(c, fmt.Sprintf("Write over %s in %s?", plural(over, "file"), dir)); err != nil || !ok {
			return err
		}
	}
	for _, p := range changed {
		if err := os.MkdirAll(filepath.Dir(p.path), 0o755); err != nil {
			return usageError("%s cannot be made: %w", filepath.Dir(p.path), cause(err))
		}
		if err := home.Replace(p.path, p.data, p.mode); err != nil {
			return usageError("%s cannot be written: %w", p.path, cause(err))
		}
	}
	fmt.Fprintf(a.err, "%s %d of %s into %s\n", a.err.good("written"), len(changed), plural(len(pieces), "file"), strings.TrimSuffix(dir, "/"))
	return nil
}
