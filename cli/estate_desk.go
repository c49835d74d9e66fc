package cli

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	coreestate "timegate/core/estate"
	"timegate/core/gate"
	"timegate/estate"
	"timegate/gates"
	"timegate/home"
)

// brokerWithin is how long an administrator waits for a broker.
const brokerWithin = 15 * time.Second

// atDesk opens an administrator's view, and keeps what must not be forgotten.
func (a *app) atDesk(ctx context.Context, do func(d *estate.Desk) error) error {
	s, err := a.estateSettings()
	if err != nil {
		return err
	}
	trust, err := s.Keys()
	if err != nil {
		return err
	}
	b, err := s.BrokerOf(a.host)
	if err != nil {
		return usageError("%w", err)
	}
	files := estate.Files{Home: a.home}
	known, err := files.Known()
	if err != nil {
		return err
	}
	wait, enough := context.WithTimeout(ctx, brokerWithin)
	defer enough()
	d, err := estate.Open(wait, b, trust, s.Need, known)
	if err != nil {
		return &exitError{exitFailed, err}
	}
	defer d.Close()
	return errors.Join(do(d), d.Keep(files))
}

func (a *app) estateAcceptCommand() *cli.Command {
	return &cli.Command{
		Name: "accept", Usage: "let a workstation in that asks for it", ArgsUsage: "HOST",
		Description: examples(`timegate estate accept press-room`, `timegate estate accept press-room --yes`) + "Compare the fingerprint with the one that \"timegate estate join\" has shown there.",
		Flags:       []cli.Flag{yesFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			host, err := oneArgument(c, "the name of the workstation")
			if err != nil {
				return err
			}
			return a.atDesk(ctx, func(d *estate.Desk) error {
				i := slices.IndexFunc(d.Hosts(), func(h estate.Host) bool { return h.Host == host })
				if i < 0 {
					return a.noHost(d, host)
				}
				h := d.Hosts()[i]
				if h.In && h.Wrong == "" {
					fmt.Fprintf(a.err, "%s was let in already\n", host)
					return nil
				}
				if h.Key == nil {
					return &exitError{exitUnknown, fmt.Errorf("%s does not ask to be let in", host)}
				}
				fmt.Fprintf(a.out, "%s  %s\n", host, coreestate.Fingerprint(h.Key))
				if ok, err := a.confirm(c, "Does it show the same fingerprint?"); err != nil || !ok {
					return err
				}
				if _, err := d.Accept(host); err != nil {
					return &exitError{exitFailed, err}
				}
				fmt.Fprintf(a.err, "%s %s\n", a.err.good("let in"), host)
				return nil
			})
		},
	}
}

// noHost reports a name that no workstation has.
func (a *app) noHost(d *estate.Desk, name string) error {
	remedy := "see \"timegate estate list\""
	if len(d.Hosts()) == 0 {
		remedy = "none has asked to be let in yet: timegate estate join, on the workstation"
	}
	return &exitError{exitUnknown, fmt.Errorf("there is no workstation %q; %s", name, remedy)}
}

func keyFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "key", Usage: "sign with the key in `FILE`; repeat it for several", TakesFile: true}
}

// signers reads the keys that sign.
func signers(c *cli.Command) ([]ed25519.PrivateKey, error) {
	var out []ed25519.PrivateKey
	for _, file := range c.StringSlice("key") {
		key, err := signingKey(file)
		if err != nil {
			return nil, err
		}
		out = append(out, key)
	}
	if len(out) == 0 {
		return nil, usageError("say which key signs: --key FILE; to make one: timegate sign --new-key FILE")
	}
	return out, nil
}

func (a *app) estatePublishCommand() *cli.Command {
	return &cli.Command{
		Name: "publish", Usage: "give a folder of gates to the workstations, in waves", ArgsUsage: "FOLDER --key FILE",
		Description: examples(`timegate estate publish ~/larkspur-gates --key larkspur.key --waves 1,10%,rest --after 4h --stop-if "failed > 1%"`,
			`timegate estate publish ~/larkspur-gates --key larkspur.key --group printing --first-only`) +
			"The folder is as for \"timegate apply\"; where it has day files in its folder days, all of them must come out as they should.\n" +
			"The command stays until the last wave has begun; if it is ended before, the wave that\n" +
			"has begun goes on, and \"timegate estate go-on\" lets the next ones begin.",
		Flags: []cli.Flag{
			keyFlag(),
			&cli.StringFlag{Name: "waves", Usage: "how many have it with each wave, such as `SIZES` 1,10%,rest", Value: "1,10%,rest"},
			&cli.StringFlag{Name: "after", Usage: "each wave must have been good for this `DURATION`", Value: "4h"},
			&cli.StringSliceFlag{Name: "stop-if", Usage: "a `LIMIT` at which the waves stop, such as \"failed > 1%\"; failed, broken or silent", Value: []string{"failed > 1%", "broken > 0"}},
			&cli.StringSliceFlag{Name: "host", Usage: "only for workstations whose names match a `PATTERN`"},
			&cli.StringSliceFlag{Name: "group", Usage: "only for the workstations of a `GROUP`"},
			&cli.StringFlag{Name: "expires", Usage: "nobody takes it any more after this `DURATION`", Value: "90d"},
			&cli.BoolFlag{Name: "first-only", Usage: "end when the first wave has begun"},
			yesFlag(),
		},
		Action: a.estatePublish,
	}
}

func (a *app) estatePublish(ctx context.Context, c *cli.Command) error {
	dir, err := oneArgument(c, "the folder")
	if err != nil {
		return err
	}
	keys, err := signers(c)
	if err != nil {
		return err
	}
	b, err := a.bundleOf(c, dir)
	if err != nil {
		return err
	}
	if err := a.daysHold(dir); err != nil {
		return err
	}
	return a.atDesk(ctx, func(d *estate.Desk) error {
		in := 0
		for _, h := range d.Hosts() {
			if h.In {
				in++
			}
		}
		if ok, err := a.mayAsk(c, fmt.Sprintf("Publish %s to an estate of %s?", plural(len(b.Content), "file"), plural(in, "workstation"))); err != nil || !ok {
			return err
		}
		r, err := d.Publish(ctx, b, time.Now(), keys)
		if err != nil {
			return &exitError{exitFailed, err}
		}
		fmt.Fprintf(a.err, "%s bundle %d: wave 1 of %d has begun\n", a.err.good("published"), r.Number, len(b.Plan.Waves))
		if err := d.Keep(estate.Files{Home: a.home}); err != nil {
			return err
		}
		if c.Bool("first-only") {
			return nil
		}
		return a.conduct(ctx, d, keys)
	})
}

// daysHold plays the day files of a folder through its gates. Where one does not come out as
// it should, nothing is published.
func (a *app) daysHold(dir string) error {
	days := filepath.Join(dir, "days")
	if found, err := filepath.Glob(filepath.Join(days, "*.toml")); err != nil || len(found) == 0 {
		return err
	}
	one := *a
	one.in, one.out, one.json = strings.NewReader(""), a.err, false
	err := one.inside(context.Background(), []string{"rehearse", days, "--gates", dir})
	if stop, ok := errors.AsType[*exitError](err); ok && stop.status == exitFound {
		return &exitError{exitFound, fmt.Errorf("a day in %s does not come out as it should; nothing was published", days)}
	}
	return err
}

// addDays puts the day files of a folder into a bundle, so that each workstation can play them.
func addDays(b *coreestate.Bundle, dir string) error {
	found, err := filepath.Glob(filepath.Join(dir, "days", "*.toml"))
	if err != nil {
		return err
	}
	for _, file := range found {
		data, err := home.ReadPlain(file, gate.MaxSize)
		if err != nil {
			return home.Wrap(file, err)
		}
		b.Content["days/"+filepath.Base(file)] = data
	}
	return nil
}

// bundleOf reads a folder and the options of a bundle.
func (a *app) bundleOf(c *cli.Command, dir string) (*coreestate.Bundle, error) {
	source, err := gates.ReadSource(dir, false)
	if err != nil {
		return nil, usageError("%w", err)
	}
	if len(source.Gates()) == 0 {
		return nil, usageError("there is no gate file in %s", source.Dir)
	}
	b := &coreestate.Bundle{Content: source.Content()}
	if err := addDays(b, dir); err != nil {
		return nil, err
	}
	b.Hosts, b.Groups = c.StringSlice("host"), c.StringSlice("group")
	if b.Plan.Waves, err = coreestate.ParseWaves(c.String("waves")); err != nil {
		return nil, usageError("--waves: %w", err)
	}
	for _, text := range c.StringSlice("stop-if") {
		l, err := coreestate.ParseLimit(text)
		if err != nil {
			return nil, usageError("--stop-if: %w", err)
		}
		b.Plan.Limits = append(b.Plan.Limits, l)
	}
	if b.Plan.After, err = parseSpan("after", c.String("after")); err != nil {
		return nil, err
	}
	expires, err := parseSpan("expires", c.String("expires"))
	if err != nil {
		return nil, err
	}
	b.Expires = time.Now().Add(expires).UTC()
	return b, nil
}

// conduct lets each wave begin when the one before has been good, until the last one is.
func (a *app) conduct(ctx context.Context, d *estate.Desk, keys []ed25519.PrivateKey) error {
	const look = time.Minute
	said := ""
	for {
		v, err := d.Step(ctx, time.Now(), keys)
		if err != nil {
			return &exitError{exitFailed, err}
		}
		b, r := d.Bundle()
		text := a.waveText(b, r, &v)
		if text != said {
			fmt.Fprintln(a.out, text)
			said = text
		}
		switch v.Do {
		case coreestate.Stop:
			return &exitError{exitFailed, fmt.Errorf("bundle %d is held: %s; to go on all the same: timegate estate go-on; to go back: timegate estate back", r.Number, v.Why)}
		case coreestate.Done:
			return nil
		}
		wait := look
		if until := time.Until(v.Until); v.Do == coreestate.Wait && !v.Until.IsZero() && until < wait {
			wait = max(until, 0)
		}
		select {
		case <-ctx.Done():
			return &exitError{exitFailed, errors.New("the next waves begin with: timegate estate go-on")}
		case <-d.News():
		case <-time.After(wait):
		}
	}
}

// waveText says how a bundle comes along.
func (a *app) waveText(b *coreestate.Bundle, r *coreestate.Release, v *coreestate.Verdict) string {
	text := fmt.Sprintf("wave %d of %d (%s): taken by %d of %s", r.Wave+1, len(b.Plan.Waves), b.Plan.Waves[min(r.Wave, len(b.Plan.Waves)-1)], v.Counts.Taken, plural(v.Counts.Reached, "workstation"))
	for _, m := range []coreestate.Measure{coreestate.Failed, coreestate.Broken, coreestate.Silent} {
		if n := v.Counts.Of[m]; n > 0 {
			text += ", " + a.out.bad(fmt.Sprintf("%d %s", n, m))
		}
	}
	switch {
	case r.Held:
		return text + "; " + a.out.bad("held") + ": " + r.Why
	case v.Do == coreestate.Wait && !v.Until.IsZero():
		return text + "; " + v.Why + ", until " + a.local(v.Until)
	}
	return text + "; " + v.Why
}

func (a *app) estateHoldCommand() *cli.Command {
	return &cli.Command{
		Name: "hold", Usage: "let no other workstation take the bundle", ArgsUsage: "[WHY …]",
		Description: examples(`timegate estate hold --key larkspur.key`, `timegate estate hold --key larkspur.key "the vault is being moved"`),
		Flags:       []cli.Flag{keyFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			keys, err := signers(c)
			if err != nil {
				return err
			}
			why := strings.Join(c.Args().Slice(), " ")
			if why == "" {
				why = "by hand"
			}
			return a.atDesk(ctx, func(d *estate.Desk) error {
				r, err := d.Hold(ctx, true, why, time.Now(), keys)
				if err != nil {
					return &exitError{exitFailed, err}
				}
				fmt.Fprintf(a.err, "%s bundle %d at wave %d\n", a.err.good("held"), r.Number, r.Wave+1)
				return nil
			})
		},
	}
}

func (a *app) estateGoOnCommand() *cli.Command {
	return &cli.Command{
		Name: "go-on", Usage: "let the waves of the bundle go on",
		Description: examples(`timegate estate go-on --key larkspur.key`, `timegate estate go-on --key larkspur.key --key ines.key`) + "It stays until the last wave has begun.",
		Flags:       []cli.Flag{keyFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			keys, err := signers(c)
			if err != nil {
				return err
			}
			return a.atDesk(ctx, func(d *estate.Desk) error {
				if _, r := d.Bundle(); r != nil && r.Held {
					if _, err := d.Hold(ctx, false, "", time.Now(), keys); err != nil {
						return &exitError{exitFailed, err}
					}
				}
				return a.conduct(ctx, d, keys)
			})
		},
	}
}

func (a *app) estateBackCommand() *cli.Command {
	return &cli.Command{
		Name: "back", Usage: "give the workstations what they had before the last bundle, under a new number",
		Description: examples(`timegate estate back --key larkspur.key`, `timegate estate back --key larkspur.key --yes`) + "It comes to all of them at once.",
		Flags:       []cli.Flag{keyFlag(), yesFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			keys, err := signers(c)
			if err != nil {
				return err
			}
			return a.atDesk(ctx, func(d *estate.Desk) error {
				b, err := d.Before()
				if err != nil {
					return &exitError{exitFailed, err}
				}
				if ok, err := a.mayAsk(c, fmt.Sprintf("Give all workstations the content of bundle %d again?", b.Number)); err != nil || !ok {
					return err
				}
				b.Plan, b.Expires = coreestate.Plan{Waves: []coreestate.Wave{{Rest: true}}}, time.Now().Add(b.Expires.Sub(b.Made)).UTC()
				was := b.Number
				r, err := d.Publish(ctx, b, time.Now(), keys)
				if err != nil {
					return &exitError{exitFailed, err}
				}
				fmt.Fprintf(a.err, "%s bundle %d, with the content of bundle %d\n", a.err.good("published"), r.Number, was)
				return nil
			})
		},
	}
}
