package cli

import (
	"context"
	"crypto/ed25519"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	coreestate "timegate/core/estate"
	"timegate/core/words"
	"timegate/home"
)

func (a *app) estateSignCommand() *cli.Command {
	return &cli.Command{
		Name: "sign", Usage: "look into a bundle in a file, and sign it, too", ArgsUsage: "FILE",
		Description: examples(`timegate estate sign november.bundle`, `timegate estate sign november.bundle --unpack november`, `timegate estate sign november.bundle --key ines.key`) +
			"For a shop in which several must sign (timegate estate join --need), each with a key of their own. Without --key it only tells\n" +
			"what is in the file, and who has signed it; --unpack writes the folder that it holds, to be compared.",
		Flags: []cli.Flag{keyFlag(), &cli.StringFlag{Name: "unpack", Usage: "write what is in it to `DIR`, which must be new or empty", TakesFile: true}, yesFlag()},
		Action: func(_ context.Context, c *cli.Command) error {
			file, err := oneArgument(c, "the file")
			if err != nil {
				return err
			}
			return a.estateSign(c, file)
		},
	}
}

// readSealed reads a bundle in a file, whoever has signed it.
func readSealed(file string) ([]byte, *coreestate.Bundle, error) {
	raw, err := home.ReadPlain(file, coreestate.MostBytes)
	if err != nil {
		return nil, nil, usageError("%s cannot be read: %w", file, cause(err))
	}
	body, _, err := coreestate.Signed(coreestate.ForBundle, raw)
	if err != nil {
		return nil, nil, usageError("%s: %w", file, err)
	}
	b, err := coreestate.Unpack(body)
	if err != nil {
		return nil, nil, usageError("%s: %w", file, err)
	}
	return raw, b, nil
}

func (a *app) estateSign(c *cli.Command, file string) error {
	raw, b, err := readSealed(file)
	if err != nil {
		return err
	}
	if err := a.printBundle(b, raw); err != nil {
		return err
	}
	if dir := c.String("unpack"); dir != "" {
		if err := unpackBundle(dir, b); err != nil {
			return err
		}
		fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), dir)
	}
	if len(c.StringSlice("key")) == 0 {
		return nil
	}
	keys, err := signers(c)
	if err != nil {
		return err
	}
	if ok, err := a.confirm(c, "Sign it?"); err != nil || !ok {
		return err
	}
	for _, key := range keys {
		if raw, err = coreestate.SignToo(coreestate.ForBundle, raw, key); err != nil {
			return usageError("%s: %w", file, err)
		}
	}
	if err := writeNamed(file, raw, 0o644); err != nil {
		return usageError("%s cannot be written: %w", file, cause(err))
	}
	fmt.Fprintf(a.err, "%s %s; to publish it: timegate estate publish %s --key FILE\n", a.err.good("signed"), file, file)
	return nil
}

// jsonBundle is a bundle in a file as other programs read it.
type jsonBundle struct {
	coreestate.Manifest
	Signers []string `json:"signers"` // fingerprints of their keys
}

// printBundle tells what is in a bundle, and who has signed it.
func (a *app) printBundle(b *coreestate.Bundle, raw []byte) error {
	_, keys, err := coreestate.Signed(coreestate.ForBundle, raw)
	if err != nil {
		return err
	}
	out := jsonBundle{Manifest: b.Manifest}
	for _, key := range keys {
		out.Signers = append(out.Signers, coreestate.Fingerprint(key))
	}
	if a.json {
		return a.out.printJSON(out)
	}
	line := func(what, text string) {
		if text != "" {
			fmt.Fprintf(a.out, "%-9s %s\n", what, words.Line(text))
		}
	}
	line("bundle", fmt.Sprintf("%d of %s, made %s, expires %s", b.Number, b.Shop, a.localFar(b.Made), a.localFar(b.Expires)))
	line("hosts", strings.Join(b.Hosts, ", "))
	line("groups", strings.Join(b.Groups, ", "))
	var waves, limits []string
	for _, w := range b.Plan.Waves {
		waves = append(waves, w.String())
	}
	for _, l := range b.Plan.Limits {
		limits = append(limits, l.String())
	}
	line("waves", strings.Join(waves, ",")+", each good for "+short(b.Plan.After))
	line("stops if", strings.Join(limits, ", or "))
	for i, text := range out.Signers {
		line("signed", text+a.whose(keys[i]))
	}
	var rows [][]string
	for _, name := range slices.Sorted(maps.Keys(b.Content)) {
		rows = append(rows, []string{words.Line(name), plural(len(b.Content[name]), "byte"), b.Files[name][:16]})
	}
	a.out.table([]string{"FILE", "SIZE", "SHA-256"}, rows)
	return nil
}

// whose says whether a key is one that is trusted here.
func (a *app) whose(key ed25519.PublicKey) string {
	s, err := a.estateSettings()
	if err != nil {
		return ""
	}
	trusted, err := s.Keys()
	if err == nil && slices.ContainsFunc(trusted, func(k ed25519.PublicKey) bool { return k.Equal(key) }) {
		return ", trusted here"
	}
	return ", not trusted here"
}

// unpackBundle writes what is in a bundle to a folder.
func unpackBundle(dir string, b *coreestate.Bundle) error {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return usageError("--unpack %s: the folder is not empty; name one that is not there yet", dir)
	}
	tree, err := home.OpenTree(dir)
	if err != nil {
		return err
	}
	defer tree.Close()
	for name, data := range b.Content {
		if err := tree.Replace(filepath.FromSlash(name), data, 0o644); err != nil {
			return err
		}
	}
	return nil
}
