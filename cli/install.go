package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/install"
)

func (a *app) installCommand() *cli.Command {
	return &cli.Command{
		Name: "install", Usage: "start the keeper automatically, with the machine or when you log on",
		Description: examples(`timegate keeper install --dry-run`, `timegate keeper install`) + "In the system scope it writes a service for the init system, in the user scope an entry that desktops start at logon.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be written, and write nothing"},
			&cli.BoolFlag{Name: "packaged", Usage: "as a package of a distribution has it: the program in /usr/bin, the service in /usr/lib; needs --root"},
			&cli.StringFlag{Name: "root", Usage: "write below `DIR`, as for another machine's disk", Value: "/", TakesFile: true},
		},
		Action: a.install,
	}
}

// pieces returns what an installation of this program consists of.
func (a *app) pieces(c *cli.Command) ([]install.Piece, error) {
	if err := noArguments(c); err != nil {
		return nil, err
	}
	root, err := filepath.Abs(c.String("root"))
	if err != nil {
		return nil, err
	}
	if a.home.Scope == gate.System && os.Getuid() != 0 && root == "/" {
		return nil, &exitError{exitForbidden, fmt.Errorf("only root can install the keeper of the system scope; for yourself: timegate --scope user keeper install")}
	}
	if c.Bool("packaged") {
		if root == "/" || a.home.Scope != gate.System {
			return nil, usageError("--packaged lays out the files of a package in the system scope, below a folder that --root names")
		}
		return install.Packaged(root), nil
	}
	program, err := os.Executable()
	if err == nil {
		program, err = filepath.EvalSymlinks(program)
	}
	if err != nil {
		return nil, err
	}
	return install.Installation(a.home, a.own, root, program)
}

func (a *app) install(_ context.Context, c *cli.Command) error {
	pieces, err := a.pieces(c)
	if err != nil {
		return err
	}
	var refused error
	if program, err := os.Executable(); err == nil && strings.HasPrefix(program, os.TempDir()+"/") && c.String("root") == "/" {
		refused = usageError("%s lies in a folder that is emptied; build timegate to a place where it stays, and install from there", program)
	}
	if refused != nil && !c.Bool("dry-run") {
		return refused
	}
	for _, p := range pieces {
		what := "written"
		switch there := p.Installed(); {
		case there:
			what = "there already"
		case c.Bool("dry-run"):
			what = "would be written"
		default:
			if err := p.Write(); err != nil {
				return err
			}
		}
		fmt.Fprintf(a.out, "%s: %s%s\n", what, p.Path, arrow(p.Link))
		if c.Bool("dry-run") && p.Text != "" {
			fmt.Fprintln(a.out, indent(strings.TrimRight(p.Text, "\n"), "    "))
		}
	}
	if err := a.installExtras(c); err != nil {
		return err
	}
	if !c.Bool("dry-run") && !c.Bool("packaged") {
		next := "it begins with your next logon; until then: timegate keeper run"
		if a.home.Scope == gate.System {
			next = "it begins with the next boot; at once with: systemctl daemon-reload && systemctl start timegate"
		}
		fmt.Fprintln(a.err, next)
	}
	return refused // of a dry run: nothing of it would be written
}

func arrow(link string) string {
	if link == "" {
		return ""
	}
	return " -> " + link
}
