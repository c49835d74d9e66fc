package cli

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	coreestate "timegate/core/estate"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/estate"
	"timegate/gates"
	"timegate/home"
)

func (a *app) estatePublishCommand() *cli.Command {
	return &cli.Command{
		Name: "publish", Usage: "give a folder of gates to the workstations, in waves", ArgsUsage: "FOLDER|FILE --key FILE",
		Description: examples(`timegate estate publish ~/larkspur-gates --key larkspur.key --waves 1,10%,rest --after 4h --stop-if "failed > 1%"`,
			`timegate estate publish ~/larkspur-gates --key larkspur.key --group printing --first-only`,
			`timegate estate publish ~/larkspur-gates --key maren.key --to november.bundle`, `timegate estate publish november.bundle --key maren.key`) +
			"The folder is as for \"timegate apply\"; where it has day files in its folder days, all of them must come out as they should.\n" +
			"The command stays until the last wave has begun; if it is ended before, the wave that\n" +
			"has begun goes on, and \"timegate estate go-on\" lets the next ones begin. Where several must sign and each keeps a key of\n" +
			"their own, --to writes the bundle to a file, the others sign that (timegate estate sign), and then it is published.",
		Flags: []cli.Flag{
			keyFlag(),
			&cli.StringFlag{Name: "waves", Usage: "how many have it with each wave, such as `SIZES` 1,10%,rest", Value: "1,10%,rest"},
			&cli.StringFlag{Name: "after", Usage: "each wave must have been good for this `DURATION`", Value: "4h"},
			&cli.StringSliceFlag{Name: "stop-if", Usage: "a `LIMIT` at which the waves stop, such as \"failed > 1%\"; failed, broken or silent", Value: []string{"failed > 1%", "broken > 0"}},
			&cli.StringSliceFlag{Name: "host", Usage: "only for workstations whose names match a `PATTERN`"},
			&cli.StringSliceFlag{Name: "group", Usage: "only for the workstations of a `GROUP`"},
			&cli.StringFlag{Name: "expires", Usage: "nobody takes it any more after this `DURATION`", Value: "90d"},
			&cli.BoolFlag{Name: "first-only", Usage: "end when the first wave has begun"},
			toFlag(),
			yesFlag(),
		},
		Action: a.estatePublish,
	}
}

func (a *app) estatePublish(ctx context.Context, c *cli.Command) error {
	from, err := oneArgument(c, "the folder")
	if err != nil {
		return err
	}
	keys, err := signers(c)
	if err != nil {
		return err
	}
	if info, err := os.Stat(from); err == nil && info.Mode().IsRegular() {
		return a.publishSealed(ctx, c, from, keys)
	}
	b, err := a.bundleOf(c, from)
	if err != nil {
		return err
	}
	return a.atDesk(ctx, func(d *estate.Desk) error {
		if err := a.mayGoOut(d, b, from); err != nil {
			return err
		}
		if err := a.daysHold(from); err != nil {
			return err
		}
		return a.publishBundle(ctx, c, d, b, keys)
	})
}

// publishBundle makes a bundle, and publishes it, or writes it to a file for others to sign.
func (a *app) publishBundle(ctx context.Context, c *cli.Command, d *estate.Desk, b *coreestate.Bundle, keys []ed25519.PrivateKey) error {
	file := c.String("to")
	if file == "" {
		if ok, err := a.confirm(c, fmt.Sprintf("Publish %s to an estate of %s?", plural(len(b.Content), "file"), plural(countHosts(d.Hosts()).in, "workstation"))); err != nil || !ok {
			return err
		}
	}
	const tries = 10 // other desks may publish at the same moment
	for again := 0; ; again++ {
		raw, err := d.Make(b, time.Now(), keys)
		if err != nil {
			return &exitError{exitFailed, err}
		}
		if file != "" {
			return a.writeBundle(file, b, raw)
		}
		err = a.publishRaw(ctx, c, d, raw, keys)
		if _, overtaken := errors.AsType[*estate.OvertakenError](err); !overtaken || again == tries {
			return err
		}
		fmt.Fprintf(a.err, "another desk has published a bundle since bundle %d was made; it is numbered again\n", b.Number)
	}
}

// writeBundle writes a bundle to a file, for others to sign.
func (a *app) writeBundle(file string, b *coreestate.Bundle, raw []byte) error {
	if err := writeNamed(file, raw, 0o644); err != nil {
		return usageError("--to: %s cannot be written: %w", file, cause(err))
	}
	fmt.Fprintf(a.err, "%s %s, with bundle %d; others sign it with: timegate estate sign %s --key FILE\n", a.err.good("written"), file, b.Number, file)
	return nil
}

func toFlag() cli.Flag {
	return &cli.StringFlag{Name: "to", Usage: "write the bundle, signed, to `FILE` for others to sign, and publish nothing", TakesFile: true}
}

// publishSealed publishes a bundle that was written to a file, and signed by all who must.
func (a *app) publishSealed(ctx context.Context, c *cli.Command, file string, keys []ed25519.PrivateKey) error {
	for _, name := range []string{"to", "waves", "after", "stop-if", "host", "group", "expires"} {
		if c.IsSet(name) {
			return usageError("--%s: what a bundle in a file is for, and how it comes, was said when it was made", name)
		}
	}
	raw, _, err := readSealed(file)
	if err != nil {
		return err
	}
	return a.atDesk(ctx, func(d *estate.Desk) error {
		if ok, err := a.confirm(c, fmt.Sprintf("Publish %s to an estate of %s?", file, plural(countHosts(d.Hosts()).in, "workstation"))); err != nil || !ok {
			return err
		}
		return a.publishRaw(ctx, c, d, raw, keys)
	})
}

func (a *app) publishRaw(ctx context.Context, c *cli.Command, d *estate.Desk, raw []byte, keys []ed25519.PrivateKey) error {
	r, err := d.Publish(ctx, raw, time.Now(), keys)
	if err != nil {
		return &exitError{exitFailed, err}
	}
	b, _ := d.Bundle()
	fmt.Fprintf(a.err, "%s bundle %d: wave 1 of %d has begun\n", a.err.good("published"), r.Number, len(b.Plan.Waves))
	if err := d.Keep(estate.Files{Home: a.home}); err != nil || c.Bool("first-only") {
		return err
	}
	return a.conduct(ctx, d, keys)
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
	b, err := a.folderBundle(c, dir)
	if err != nil {
		return nil, err
	}
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

// folderBundle makes a bundle of a folder, for the workstations that the options say.
func (a *app) folderBundle(c *cli.Command, dir string) (*coreestate.Bundle, error) {
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
	var size int64
	for _, data := range b.Content {
		size += int64(len(data))
	}
	if size > gates.LongestFolder {
		return nil, usageError("the folder has %s, and a workstation takes %s at most; leave large files out: programs belong into packages", phrase.FormatAmount(size), phrase.FormatAmount(gates.LongestFolder))
	}
	b.Hosts, b.Groups = c.StringSlice("host"), c.StringSlice("group")
	return b, nil
}

// mayGoOut looks at a bundle of a folder before anybody gets it: whether there is somebody whom
// it is for, and what is wrong with its texts on any of them.
func (a *app) mayGoOut(d *estate.Desk, b *coreestate.Bundle, dir string) error {
	hosts, err := d.For(&b.Manifest)
	if err != nil {
		return usageError("%w; see: timegate estate list", err)
	}
	if countHosts(d.Hosts()).in == 0 {
		fmt.Fprintln(a.err, "no workstation was let in yet; those that ask are shown by: timegate estate list --only asking")
	}
	// What is sealed is looked at, and not what the folder may have become since.
	where, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	found, err := gates.SourceOf(where, b.Content).Faults(hosts, a.env())
	if err != nil {
		return err
	}
	if len(found) > 0 {
		return found
	}
	return nil
}

func (a *app) estateBackCommand() *cli.Command {
	return &cli.Command{
		Name: "back", Usage: "let the workstations that have the last bundle go back to what each had before",
		Description: examples(`timegate estate back --key larkspur.key`, `timegate estate back --key larkspur.key --yes`) + "It comes to all of them at once, under a new number. One that does not have the bundle keeps what it has.",
		Flags:       []cli.Flag{keyFlag(), toFlag(), yesFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			keys, err := signers(c)
			if err != nil {
				return err
			}
			return a.atDesk(ctx, func(d *estate.Desk) error { return a.estateBack(ctx, c, d, keys) })
		},
	}
}

func (a *app) estateBack(ctx context.Context, c *cli.Command, d *estate.Desk, keys []ed25519.PrivateKey) error {
	b, err := d.TakeBack(time.Now())
	if err != nil {
		return &exitError{exitFailed, err}
	}
	was := b.Back
	for _, g := range d.GoBack(b) {
		text := fmt.Sprintf("back to bundle %d", g.To)
		switch {
		case g.Stay:
			text = fmt.Sprintf("stays as it is: it does not have bundle %d", was)
		case g.Unknown:
			text = a.out.bad("refuses it: what it had before is not known there")
		case g.To == 0:
			text = "back to none: the gates of the estate are taken away"
		}
		fmt.Fprintf(a.out, "%s\n  %s\n", text, a.wrapped(strings.Join(g.Hosts, ", ")))
	}
	if ok, err := a.confirm(c, fmt.Sprintf("Take bundle %d back?", was)); err != nil || !ok {
		return err
	}
	raw, err := d.Make(b, time.Now(), keys)
	if err != nil {
		return &exitError{exitFailed, err}
	}
	if file := c.String("to"); file != "" {
		return a.writeBundle(file, b, raw)
	}
	if _, err := d.Publish(ctx, raw, time.Now(), keys); err != nil {
		return &exitError{exitFailed, err}
	}
	fmt.Fprintf(a.err, "%s bundle %d, which takes bundle %d back\n", a.err.good("published"), b.Number, was)
	return nil
}
