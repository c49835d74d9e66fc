package cli

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	coreestate "timegate/core/estate"
	"timegate/core/gate"
	"timegate/estate"
	"timegate/gates"
	"timegate/home"
	"timegate/inspect"
)

func (a *app) estateCommand() *cli.Command {
	return &cli.Command{
		Name: "estate", Category: estateCommands, Usage: "one folder of gates for many workstations, over a broker", ArgsUsage: "join|leave|accept|forget|forecast|publish|sign|status|hold|go-on|back|list|show|history|watch|why|open|stop|pause|resume|send|output|may|privacy|doctor|hub",
		Description: examples(`timegate estate join mqtts://broker.larkspur.example --shop larkspur --trust larkspur.key.pub`, `timegate estate publish ~/larkspur-gates --key larkspur.key`, `timegate estate list`) + "Workstations and administrators meet at a broker that speaks MQTT 5. It is trusted with nothing: what a workstation takes is\n" +
			"signed by a key that its own settings name, and what it tells is signed by its own.",
		Action: a.group,
		Commands: slices.Concat([]*cli.Command{a.estateJoinCommand(), a.estateLeaveCommand(), a.estateAcceptCommand(), a.estateForgetCommand(), a.estateForecastCommand(), a.estatePublishCommand(), a.estateSignCommand(), a.estateStatusCommand(),
			a.estateHoldCommand(), a.estateGoOnCommand(), a.estateBackCommand(), a.estateListCommand(), a.estateShowCommand(), a.estateHistoryCommand(), a.estateWatchCommand()},
			a.estateAskCommands(), []*cli.Command{a.estateMayCommand(), a.estatePrivacyCommand(), a.estateDoctorCommand(), a.estateHubCommand(), a.estateTrialCommand()}),
	}
}

func (a *app) estateJoinCommand() *cli.Command {
	return &cli.Command{
		Name: "join", Usage: "let this workstation belong to an estate", ArgsUsage: "URL --shop NAME --trust FILE.pub",
		Description: examples(`timegate estate join mqtts://broker.larkspur.example --shop larkspur --trust larkspur.key.pub --group printing`,
			`timegate estate join mqtts://broker.larkspur.example --shop larkspur --trust larkspur.key.pub --authority ca.pem --user maren --password-file broker.secret --desk`) +
			"It asks to be let in, and shows the fingerprint of its key, which an administrator compares. With --desk this home is an\n" +
			"administrator's: it looks and publishes, and takes nothing.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "shop", Usage: "the `NAME` of the estate"},
			&cli.StringSliceFlag{Name: "trust", Usage: "take what the holder of the public key in `FILE` has signed; repeat it for several", TakesFile: true},
			&cli.IntFlag{Name: "need", Usage: "so `MANY` of them must have signed", Value: 1},
			&cli.StringSliceFlag{Name: "group", Usage: "a `GROUP` of workstations that this one is in"},
			&cli.StringFlag{Name: "name", Usage: "its `NAME` in the estate, where that is not to be the machine's; such as of a second home on it"},
			&cli.StringSliceFlag{Name: "may", Usage: "let the estate ask for `THIS`: " + strings.Join(coreestate.Permissions(), ", ")},
			&cli.StringFlag{Name: "authority", Usage: "who has signed the broker's certificate, in `FILE` (PEM)", TakesFile: true},
			&cli.StringFlag{Name: "certificate", Usage: "this workstation's certificate for the broker, in `FILE` (PEM)", TakesFile: true},
			&cli.StringFlag{Name: "certificate-key", Usage: "its key, in `FILE` (PEM)", TakesFile: true},
			&cli.StringFlag{Name: "user", Usage: "the `NAME` by which the broker knows this workstation"},
			&cli.StringFlag{Name: "password-file", Usage: "its password, in `FILE`", TakesFile: true},
			&cli.BoolFlag{Name: "desk", Usage: "only to look and to publish"},
		},
		Before: a.mayChange,
		Action: a.estateJoin,
	}
}

func (a *app) estateJoin(ctx context.Context, c *cli.Command) error {
	url, err := oneArgument(c, "the broker's address")
	if err != nil {
		return err
	}
	if _, err := estate.ReadSettings(a.home); !errors.Is(err, estate.ErrNone) {
		return usageError("this home belongs to an estate already (%s); to leave it: timegate estate leave", estate.File(a.home))
	}
	s := &estate.Settings{Broker: url, Shop: c.String("shop"), Name: c.String("name"), Groups: c.StringSlice("group"), Need: c.Int("need"), May: c.StringSlice("may"), Desk: c.Bool("desk"), User: c.String("user")}
	name := s.NameOn(a.host)
	if !coreestate.ValidHost(name) {
		return usageError("the name of this workstation, %q, cannot be one in an estate: letters, digits, hyphens and dots; to give another: --name", name)
	}
	for _, file := range c.StringSlice("trust") {
		key, err := a.trustedKey(file)
		if err != nil {
			return err
		}
		text, err := estate.KeyText(key)
		if err != nil {
			return err
		}
		s.Trust = append(s.Trust, text)
	}
	if len(s.Trust) == 0 {
		return usageError("say whose bundles are taken: --trust FILE.pub; to make a key: timegate sign --new-key FILE")
	}
	for _, f := range []struct {
		option string
		to     *string
	}{{"authority", &s.Authority}, {"certificate", &s.Certificate}, {"certificate-key", &s.Key}, {"password-file", &s.PasswordFile}} {
		if *f.to, err = a.ownFile(f.option, c.String(f.option)); err != nil {
			return err
		}
	}
	if _, err := s.BrokerOf(a.host); err != nil {
		return usageError("%w", err)
	}
	if err := s.Write(a.home); err != nil {
		return usageError("%w", err)
	}
	fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), estate.File(a.home))
	if s.Desk {
		return nil
	}
	key, err := estate.HostKey(a.home)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s  %s\n", name, coreestate.Fingerprint(key.Public().(ed25519.PublicKey)))
	fmt.Fprintf(a.err, "an administrator lets it in: timegate estate accept %s\n", name)
	return a.follow(ctx)
}

// follow lets a keeper that runs follow the estate from now on, or leave it.
func (a *app) follow(ctx context.Context) error {
	status, err := a.client.Status(ctx)
	if err != nil || status.Staged {
		a.sayKeeper()
		return nil
	}
	return a.restartKeeper(ctx, &status)
}

// trustedKey reads a public key, which in the system scope root alone may be able to change.
func (a *app) trustedKey(file string) (ed25519.PublicKey, error) {
	path, err := a.ownFile("trust", file)
	if err != nil {
		return nil, err
	}
	text, err := home.ReadPlain(path, mostKey)
	if err != nil {
		return nil, usageError("--trust: %s cannot be read: %w", file, cause(err))
	}
	key, err := gates.PublicKey(text)
	if err != nil {
		return nil, usageError("--trust: %s: %w", file, err)
	}
	return key, nil
}

// ownFile returns the whole path of a file, which in the system scope root alone may be able
// to change; "" for none.
func (a *app) ownFile(option, file string) (string, error) {
	if file == "" {
		return "", nil
	}
	path, err := filepath.Abs(file)
	if err != nil {
		return "", err
	}
	if a.home.Scope == gate.System {
		for _, found := range inspect.WritableByOthers(path) {
			return "", usageError("--%s: %s; %s", option, strings.Replace(found.Message, "the gate file", "the file", 1), found.Remedy)
		}
	}
	return path, nil
}

func (a *app) estateLeaveCommand() *cli.Command {
	return &cli.Command{
		Name: "leave", Usage: "let this workstation belong to no estate; its gates stay",
		Description: examples(`timegate estate leave`, `timegate estate leave --yes`),
		Flags:       []cli.Flag{yesFlag()},
		Before:      a.mayChange,
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			s, err := a.estateSettings()
			if err != nil {
				return err
			}
			if ok, err := a.confirm(c, fmt.Sprintf("Leave the estate %s? Its gates stay here; its key is taken away.", s.Shop)); err != nil || !ok {
				return err
			}
			if err := estate.Forget(a.home); err != nil {
				return err
			}
			fmt.Fprintf(a.err, "%s %s\n", a.err.good("left"), s.Shop)
			return a.follow(ctx)
		},
	}
}

// estateSettings reads how the home belongs to its estate.
func (a *app) estateSettings() (*estate.Settings, error) {
	s, err := estate.ReadSettings(a.home)
	if errors.Is(err, estate.ErrNone) {
		return nil, &exitError{exitWrong, err}
	}
	return s, err
}
