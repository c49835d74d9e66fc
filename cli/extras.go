package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"github.com/adrg/xdg"
	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/home"
)

// An extra is a file that is installed with the program: a manual page, or a script by
// which a shell completes.
type extra struct {
	path string // below a folder such as /usr/share
	text string
}

// extras lists what is installed with the program. A distribution's packages keep the
// script for zsh elsewhere than an administrator does.
func extras(root *cli.Command, packaged bool) []extra {
	var out []extra
	for _, m := range manuals(root) {
		out = append(out, extra{filepath.Join("man", m.file()), m.text})
	}
	zsh := "zsh/site-functions/_timegate"
	if packaged {
		zsh = "zsh/vendor-completions/_timegate"
	}
	return append(out, extra{"bash-completion/completions/timegate", bashScript}, extra{zsh, zshScript},
		extra{"fish/vendor_completions.d/timegate.fish", fishScript})
}

// writeExtras writes files below a folder.
func writeExtras(dir string, list []extra) error {
	for _, e := range list {
		path := filepath.Join(dir, e.path)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return home.Wrap(path, err)
		}
		if err := home.Replace(path, []byte(e.text), 0o644); err != nil {
			return home.Wrap(path, err)
		}
	}
	return nil
}

// sharedFolder is where what goes with the program is installed: by the Filesystem
// Hierarchy Standard, or among a person's data.
func (a *app) sharedFolder(c *cli.Command) (string, error) {
	folder := "/usr/local/share"
	switch {
	case c.Bool("packaged"):
		folder = "/usr/share"
	case a.home.Scope == gate.User:
		folder = xdg.DataHome
	}
	root, err := filepath.Abs(c.String("root"))
	return filepath.Join(root, folder), err
}

// installExtras writes what goes with the program.
func (a *app) installExtras(c *cli.Command) error {
	list := extras(c.Root(), c.Bool("packaged"))
	folder, err := a.sharedFolder(c)
	if err != nil {
		return err
	}
	there := !slices.ContainsFunc(list, func(e extra) bool {
		text, err := os.ReadFile(filepath.Join(folder, e.path))
		return err != nil || string(text) != e.text
	})
	what := "written"
	switch {
	case there:
		what = "there already"
	case c.Bool("dry-run"):
		what = "would be written"
	default:
		if err := writeExtras(folder, list); err != nil {
			return err
		}
	}
	a.sayExtras(what, len(list), folder)
	return nil
}

// uninstallExtras takes away what goes with the program.
func (a *app) uninstallExtras(c *cli.Command) error {
	gone := 0
	folder, err := a.sharedFolder(c)
	if err != nil {
		return err
	}
	for _, e := range extras(c.Root(), false) {
		path := filepath.Join(folder, e.path)
		if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
			continue
		} else if err != nil {
			return home.Wrap(path, err)
		}
		if gone++; c.Bool("dry-run") {
			continue
		}
		if err := os.Remove(path); err != nil {
			return home.Wrap(path, err)
		}
	}
	what := "taken away"
	if c.Bool("dry-run") {
		what = "would be taken away"
	}
	if gone > 0 {
		a.sayExtras(what, gone, folder)
	}
	return nil
}

func (a *app) sayExtras(what string, n int, folder string) {
	fmt.Fprintf(a.out, "%s: %s (manual pages, completion) below %s\n", what, plural(n, "file"), folder)
}
