package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
)

// completeGates offers the names of the gates, and the options once a word
// begins with a dash.
func (a *app) completeGates(ctx context.Context, c *cli.Command) {
	if words := os.Args; len(words) > 1 && strings.HasPrefix(words[len(words)-2], "-") {
		cli.DefaultCompleteWithFlags(ctx, c)
		return
	}
	if _, err := a.prepare(ctx, c); err != nil {
		return
	}
	if a.home.OfOthers() {
		files, _ := a.files()
		for _, f := range files {
			fmt.Fprintln(a.out, f.Name)
		}
		return
	}
	entries, err := os.ReadDir(a.home.Gates)
	if err != nil {
		return
	}
	for _, e := range entries {
		if name, ok := strings.CutSuffix(e.Name(), ".toml"); ok {
			fmt.Fprintln(a.out, name)
		}
	}
}

// completeItems offers what can be started, behind "find" and "--program"; else the
// options.
func (a *app) completeItems(ctx context.Context, c *cli.Command) {
	words := os.Args
	last := ""
	if len(words) > 1 {
		last = words[len(words)-2]
	}
	if c.Name != "find" && last != "--program" || strings.HasPrefix(last, "-") && last != "--program" {
		cli.DefaultCompleteWithFlags(ctx, c)
		return
	}
	if _, err := a.prepare(ctx, c); err != nil {
		return
	}
	for _, e := range a.items(false) {
		fmt.Fprintln(a.out, strings.TrimSuffix(e.ID, ".desktop"))
	}
}
