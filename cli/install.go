package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/keeper"
)

func (a *app) installCommand() *cli.Command {
	return &cli.Command{
		Name: "install", Usage: "let the keeper begin by itself: with the machine, or when you log on",
		Description: "timegate keeper install --dry-run\n\nIn the system scope it writes a service for the init system, in the user scope an entry that desktops start at logon.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be written, and write nothing"},
			&cli.StringFlag{Name: "root", Usage: "write below `DIR`, as for another machine's disk", Value: "/", TakesFile: true},
		},
		Action: a.install,
	}
}

func (a *app) uninstallCommand() *cli.Command {
	return &cli.Command{
		Name: "uninstall", Usage: "take away what install has written",
		Description: "timegate keeper uninstall\n\nGates, journal and outputs stay, unless --purge says otherwise.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be taken away"},
			&cli.BoolFlag{Name: "purge", Usage: "take gates, journal and outputs away too"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
			&cli.StringFlag{Name: "root", Usage: "below `DIR`, as given to install", Value: "/", TakesFile: true},
		},
		Action: a.uninstall,
	}
}

// pieces returns what an installation of this program consists of.
func (a *app) pieces(c *cli.Command) ([]keeper.Piece, error) {
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
	return keeper.Installation(a.home.Scope, root, program)
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
		switch there := p.There(); {
		case there:
			what = "there already"
		case c.Bool("dry-run"):
			what = "would be written"
		default:
			if err := p.Put(); err != nil {
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

func (a *app) uninstall(_ context.Context, c *cli.Command) error {
	pieces, err := a.pieces(c)
	if err != nil {
		return err
	}
	purge, dry := c.Bool("purge") && c.String("root") == "/", c.Bool("dry-run")
	if purge && !dry {
		sure, err := a.confirm(c, fmt.Sprintf("Take away all gates in %s and all that is recorded in %s?", a.home.Gates, a.home.State))
		if err != nil || !sure {
			return err
		}
		if err := a.home.Purge(); err != nil {
			return err
		}
	}
	for _, p := range pieces {
		taken := !p.Mode.IsDir() && dry
		if !dry {
			if taken, err = p.Take(); err != nil {
				return err
			}
		}
		if taken {
			a.sayTaken(dry, p.Path)
		}
	}
	switch {
	case purge:
		a.sayTaken(dry, filepath.Dir(a.home.Gates))
		a.sayTaken(dry, a.home.State)
	case c.String("root") == "/":
		fmt.Fprintf(a.err, "what stays: gates in %s, journal and outputs in %s (--purge takes them away)\n", a.home.Gates, a.home.State)
	}
	return nil
}

func (a *app) sayTaken(dry bool, path string) {
	what := "taken away"
	if dry {
		what = "would be taken away"
	}
	fmt.Fprintf(a.out, "%s: %s\n", what, path)
}
