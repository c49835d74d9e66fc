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
