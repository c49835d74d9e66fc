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
		Name: "install", Usage: "let the keeper begin by itself: with the machine, or when you log on",
		Description: examples(`timegate keeper install --dry-run`, `timegate keeper install`) + "In the system scope it writes a service for the init system, in the user scope an entry that desktops start at logon.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be written, and write nothing"},
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
	if c.String("home") != "" {
		return nil, usageError("a keeper with a home of its own is not installed; leave --home and TIMEGATE_HOME away")
	}
	root, err := filepath.Abs(c.String("root"))
	if err != nil {
		return nil, err
	}
	if a.home.Scope == gate.System && os.Getuid() != 0 && root == "/" {
		return nil, &exitError{exitForbidden, fmt.Errorf("only root can install the keeper of the system scope; for yourself: timegate --scope user keeper install")}
	}
	program, err := os.Executable()
	if err == nil {
		program, err = filepath.EvalSymlinks(program)
	}
	if err != nil {
		return nil, err
	}
	return install.Installation(a.home.Scope, root, program)
}

func (a *app) install(_ context.Context, c *cli.Command) error {
	pieces, err := a.pieces(c)
	if err != nil {
		return err
	}
	if program, err := os.Executable(); err == nil && strings.HasPrefix(program, os.TempDir()+"/") && c.String("root") == "/" {
		return usageError("%s lies in a folder that is emptied; build timegate to a place where it stays, and install from there", program)
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
	if !c.Bool("dry-run") {
		next := "it begins with your next logon; until then: timegate keeper run"
		if a.home.Scope == gate.System {
			next = "it begins with the next boot; at once with: systemctl daemon-reload && systemctl start timegate"
		}
		fmt.Fprintln(a.err, next)
	}
	return nil
}

func arrow(link string) string {
	if link == "" {
		return ""
	}
	return " -> " + link
}
