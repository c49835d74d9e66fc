package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	coreestate "timegate/core/estate"
	"timegate/estate/hub"
)

func (a *app) estateHubCommand() *cli.Command {
	return &cli.Command{
		Name: "hub", Usage: "a broker of our own, for a small shop", ArgsUsage: "run|admit|expel",
		Description: examples(`timegate estate hub run --shop larkspur --name hub.larkspur.example`, `timegate estate hub admit press-room`, `timegate estate hub admit maren --desk`) +
			fmt.Sprintf("It serves up to %d workstations. Let it run as an account of its own, not as root.", hub.MostClients),
		Action: a.group,
		Commands: []*cli.Command{
			{Name: "run", Usage: "serve until you end it",
				Description: examples(`timegate estate hub run --shop larkspur --name hub.larkspur.example`, `timegate estate hub run --shop larkspur --listen 127.0.0.1:1883 --no-tls`) +
					"The first time it makes an authority and a certificate for the names; workstations are given the authority's file.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "shop", Usage: "the `NAME` of the estate"},
					&cli.StringFlag{Name: "listen", Usage: "serve at `ADDRESS`", Value: ":8883"},
					&cli.StringSliceFlag{Name: "name", Usage: "a `NAME` or address by which workstations reach it; repeat it for several"},
					&cli.BoolFlag{Name: "no-tls", Usage: "not encrypted, on this machine alone"},
				},
				Action: a.hubRun},
			{Name: "admit", Usage: "let a workstation, or an administrator, use the hub", ArgsUsage: "NAME",
				Description: examples(`timegate estate hub admit press-room > press-room.secret`, `timegate estate hub admit maren --desk > maren.secret`) + "It prints a new password, for --password-file of \"timegate estate join\".",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "desk", Usage: "an administrator"}},
				Action: func(_ context.Context, c *cli.Command) error {
					name, err := oneArgument(c, "the name")
					if err != nil {
						return err
					}
					if err := a.hubHome(); err != nil {
						return err
					}
					password, err := a.hubStore().Admit(name, c.Bool("desk"))
					if err != nil {
						return usageError("%w", err)
					}
					fmt.Fprintln(a.out, password)
					return nil
				}},
			{Name: "expel", Usage: "let somebody use the hub no longer", ArgsUsage: "NAME",
				Description: examples(`timegate estate hub expel press-room`, `timegate estate hub expel maren`),
				Action: func(_ context.Context, c *cli.Command) error {
					name, err := oneArgument(c, "the name")
					if err != nil {
						return err
					}
					if err := a.hubHome(); err != nil {
						return err
					}
					there, err := a.hubStore().Expel(name)
					if err == nil && !there {
						return &exitError{exitUnknown, fmt.Errorf("nobody called %q may use the hub", name)}
					}
					return err
				}},
		},
	}
}

// hubStore is where a hub keeps its data.
func (a *app) hubStore() hub.Store { return hub.Store{Folder: filepath.Join(a.home.State, "hub")} }

// hubHome says where the home of a hub is not there: a password for it would open nothing.
func (a *app) hubHome() error {
	if _, err := os.Stat(a.home.State); errors.Is(err, fs.ErrNotExist) {
		return usageError("there is no %s: give the hub's with --home, or let the hub begin there first", a.home.State)
	}
	return nil
}

func (a *app) hubRun(ctx context.Context, c *cli.Command) error {
	a.lasts()
	if err := noArguments(c); err != nil {
		return err
	}
	if !coreestate.ValidShop(c.String("shop")) {
		return usageError("--shop %q is no name of a shop: small letters, digits and hyphens", c.String("shop"))
	}
	if err := a.home.Prepare(); err != nil {
		return err
	}
	unlock, err := a.home.LockHub()
	if err != nil {
		return &exitError{exitFailed, err}
	}
	defer unlock()
	s := a.hubStore()
	o := hub.Options{Shop: c.String("shop"), Store: s, Address: c.String("listen"), Log: slog.New(slog.NewTextHandler(a.err, nil))}
	if o.TLS, err = a.hubTLS(c, s); err != nil {
		return err
	}
	if os.Getuid() == 0 {
		fmt.Fprintln(a.err, a.err.warn("it runs as root")+": an account of its own is enough, and safer")
	}
	h, err := hub.Start(o)
	if err != nil {
		return &exitError{exitFailed, err}
	}
	fmt.Fprintf(a.err, "the hub serves %s at %s\n", o.Shop, h.Address())
	if o.TLS != nil {
		fmt.Fprintf(a.err, "workstations know it by %s (timegate estate join --authority)\n", s.AuthorityFile())
	}
	return h.Run(ctx)
}

// hubTLS returns how the hub shows who it is; nil for not at all, on this machine alone.
func (a *app) hubTLS(c *cli.Command, s hub.Store) (*tls.Config, error) {
	names := slices.Concat(c.StringSlice("name"), []string{a.host, "localhost", "127.0.0.1", "::1"})
	if !c.Bool("no-tls") {
		return s.TLS(names, time.Now())
	}
	at, _, err := net.SplitHostPort(c.String("listen"))
	if ip := net.ParseIP(at); err != nil || at != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, usageError("--no-tls is for this machine alone: --listen 127.0.0.1:1883")
	}
	return nil, nil
}
