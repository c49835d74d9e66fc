package cli

import (
	"context"
	"fmt"
	"path/filepath"

	"github.com/urfave/cli/v3"
)

func (a *app) uninstallCommand() *cli.Command {
	return &cli.Command{
		Name: "uninstall", Usage: "remove what install has written",
		Description: examples(`timegate keeper uninstall --dry-run`, `timegate keeper uninstall`, `timegate keeper uninstall --purge`) + "Gates, journal and outputs stay, unless --purge says otherwise.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be removed"},
			&cli.BoolFlag{Name: "purge", Usage: "also remove gates, journal and outputs"},
			yesFlag(),
			&cli.StringFlag{Name: "root", Usage: "below `DIR`, as given to install", Value: "/", TakesFile: true},
		},
		Action: a.uninstall,
	}
}

func (a *app) uninstall(_ context.Context, c *cli.Command) error {
	pieces, err := a.pieces(c)
	if err != nil {
		return err
	}
	purge, dry := c.Bool("purge") && c.String("root") == "/", c.Bool("dry-run")
	if purge {
		if err := a.home.Purgeable(); err != nil {
			return err
		}
	}
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
		taken := dry && p.There()
		if !dry {
			if taken, err = p.Remove(); err != nil {
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
		if a.home.State != filepath.Dir(a.home.Gates) {
			a.sayTaken(dry, a.home.State)
		}
	case c.String("root") == "/":
		fmt.Fprintf(a.err, "what stays: gates in %s, journal and outputs in %s (--purge takes them away)\n", a.home.Gates, a.home.State)
	}
	return a.uninstallExtras(c)
}

func (a *app) sayTaken(dry bool, path string) {
	what := "taken away"
	if dry {
		what = "would be taken away"
	}
	fmt.Fprintf(a.out, "%s: %s\n", what, path)
}
