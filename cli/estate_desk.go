package cli

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	coreestate "timegate/core/estate"
	"timegate/core/words"
	"timegate/estate"
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
	if known.Lost != "" {
		fmt.Fprintf(a.err, "%s: %s; an older copy is used, with %s. Whom you have let in or forgotten since is to be done again: timegate estate list\n", a.err.warn("what this desk knew cannot be read"), known.Lost, plural(len(known.Hosts), "workstation"))
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

// atHost opens an administrator's view for a workstation that the call names.
func (a *app) atHost(ctx context.Context, c *cli.Command, do func(d *estate.Desk, h *estate.Host) error) error {
	name, err := oneArgument(c, "the name of the workstation")
	if err != nil {
		return err
	}
	return a.atDesk(ctx, func(d *estate.Desk) error {
		hosts := d.Hosts()
		i := slices.IndexFunc(hosts, func(h estate.Host) bool { return h.Host == name })
		if i < 0 {
			return a.noHost(d, name)
		}
		return do(d, &hosts[i])
	})
}

func (a *app) estateAcceptCommand() *cli.Command {
	return &cli.Command{
		Name: "accept", Usage: "let a workstation in that asks for it", ArgsUsage: "HOST",
		Description: examples(`timegate estate accept press-room`, `timegate estate accept press-room --yes`) + "Compare the fingerprint with the one that \"timegate estate join\" has shown there.",
		Flags:       []cli.Flag{yesFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.atHost(ctx, c, func(d *estate.Desk, h *estate.Host) error {
				host := h.Host
				if h.Other != nil {
					fmt.Fprintf(a.out, "%s  was let in with %s\n%s  asks with        %s\n", host, coreestate.Fingerprint(h.Key), strings.Repeat(" ", len(host)), coreestate.Fingerprint(h.Other))
					fmt.Fprintln(a.err, "let it in only if it was set up anew: what the old key signs is believed no more")
				}
				if h.In && h.Wrong == "" {
					fmt.Fprintf(a.err, "%s was let in already\n", host)
					return nil
				}
				if h.Key == nil {
					return &exitError{exitUnknown, fmt.Errorf("%s does not ask to be let in", host)}
				}
				if h.Other == nil {
					fmt.Fprintf(a.out, "%s  %s\n", host, coreestate.Fingerprint(h.Key))
				}
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

func (a *app) estateForgetCommand() *cli.Command {
	return &cli.Command{
		Name: "forget", Usage: "take a workstation out of the estate that is no more", ArgsUsage: "HOST",
		Description: examples(`timegate estate forget press-room`, `timegate estate forget press-room --yes`) + "It counts no more, and what it tells is not looked at. Its gates stay as they are. If it asks again, it must be let in again.",
		Flags:       []cli.Flag{yesFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.atHost(ctx, c, func(d *estate.Desk, h *estate.Host) error {
				host := h.Host
				if !h.In {
					return &exitError{exitUnknown, fmt.Errorf("%s was not let in", host)}
				}
				fmt.Fprintf(a.out, "%s  %s\n", host, coreestate.Fingerprint(h.Key))
				if h.On {
					fmt.Fprintf(a.err, "%s is on: to have it leave by itself, write there: timegate estate leave\n", host)
				}
				if ok, err := a.confirm(c, fmt.Sprintf("Forget %s?", host)); err != nil || !ok {
					return err
				}
				if err := d.Forget(host); err != nil {
					return &exitError{exitFailed, err}
				}
				fmt.Fprintf(a.err, "%s %s\n", a.err.good("forgotten"), host)
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

// conduct lets each wave begin when the one before has been good, until the last one is.
func (a *app) conduct(ctx context.Context, d *estate.Desk, keys []ed25519.PrivateKey) error {
	const look = time.Minute
	said := ""
	for {
		v, text, err := a.waveStep(ctx, d, keys, said)
		if said = text; err != nil || v.Do == coreestate.Done {
			return err
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

// waveStep does with the waves what is due now, and tells of it unless that was said already. A
// bundle that is held is an error.
func (a *app) waveStep(ctx context.Context, d *estate.Desk, keys []ed25519.PrivateKey, said string) (v coreestate.Verdict, text string, err error) {
	if v, err = d.Step(ctx, time.Now(), keys); err != nil {
		return v, "", &exitError{exitFailed, err}
	}
	b, r := d.Bundle()
	if text = a.waveText(b, r, &v); text != said {
		fmt.Fprintln(a.out, text)
	}
	if r.Held {
		err = &exitError{exitFailed, fmt.Errorf("bundle %d is held: %s; to go on all the same: timegate estate go-on --despite \"REASON\"; to go back: timegate estate back", r.Number, r.Why)}
	}
	return v, text, err
}

// waveText says how a bundle comes along.
func (a *app) waveText(b *coreestate.Bundle, r *coreestate.Release, v *coreestate.Verdict) string {
	despite := ""
	if r.Despite != "" {
		despite = "; despite what was counted: " + words.Line(r.Despite)
	}
	text := fmt.Sprintf("wave %d of %d (%s): taken by %d of %s", r.Wave+1, len(b.Plan.Waves), b.Plan.Waves[min(r.Wave, len(b.Plan.Waves)-1)], v.Counts.Taken, plural(v.Counts.Reached, "workstation"))
	for _, m := range []coreestate.Measure{coreestate.Failed, coreestate.Broken, coreestate.Silent} {
		if n := v.Counts.Of[m]; n > 0 {
			text += ", " + a.out.bad(fmt.Sprintf("%d %s", n, m))
		}
	}
	text += despite
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
				r, err := d.Hold(ctx, why, time.Now(), keys)
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
		Description: examples(`timegate estate go-on --key larkspur.key`, `timegate estate go-on --key larkspur.key --step`) + "It lets a bundle that is held go on, and stays until the last wave has begun. With --step it does only what is due now, and\n" +
			"a bundle that is held stays so: for a gate that opens every few minutes, so that the waves need nobody who stays.",
		Flags: []cli.Flag{keyFlag(), &cli.BoolFlag{Name: "step", Usage: "do what is due now, once"},
			&cli.StringFlag{Name: "despite", Usage: "go on although a limit is passed, for this `REASON`: what is counted now stops the waves no more, only what comes besides"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			keys, err := signers(c)
			if err != nil {
				return err
			}
			if c.Bool("step") && c.IsSet("despite") {
				return usageError("--despite is for a bundle that is held, which --step leaves so")
			}
			return a.atDesk(ctx, func(d *estate.Desk) error {
				if c.Bool("step") {
					_, _, err := a.waveStep(ctx, d, keys, "")
					return err
				}
				if _, r := d.Bundle(); r != nil && r.Held {
					if _, err := d.GoOn(ctx, c.String("despite"), time.Now(), keys); err != nil {
						if _, passed := errors.AsType[*estate.LimitError](err); passed {
							err = fmt.Errorf("%w; to let it pass all the same: timegate estate go-on --despite \"REASON\"; to go back: timegate estate back", err)
						}
						return &exitError{exitFailed, err}
					}
				}
				return a.conduct(ctx, d, keys)
			})
		},
	}
}
