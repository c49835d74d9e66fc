package cli

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/core/phrase"
)

// TestMeant: what is offered for an option or a command that there is not can be typed:
// its options, commands, phrases and keys are there.
func TestMeant(t *testing.T) {
	root := (&app{}).root()
	command := func(path string) (c *cli.Command, rest []string) {
		c, rest = root, strings.Fields(path)
		for len(rest) > 0 && c.Command(rest[0]) != nil {
			c, rest = c.Command(rest[0]), rest[1:]
		}
		return c, rest
	}
	option := regexp.MustCompile(`--([a-z-]+)(?:[ =]("[^"]*"|\S+))?`)
	checkOptions := func(c *cli.Command, meant string) {
		for _, m := range option.FindAllStringSubmatch(meant, -1) {
			name, value := m[1], strings.Trim(m[2], `"`)
			has := func(f cli.Flag) bool { return slices.Contains(f.Names(), name) }
			if !slices.ContainsFunc(c.Flags, has) && !slices.ContainsFunc(root.Flags, has) && !slices.ContainsFunc(root.Command("change").Flags, has) {
				t.Errorf("%q offers --%s, which there is not", meant, name)
			}
			switch name {
			case "open":
				text := strings.ReplaceAll(strings.ReplaceAll(value, "at VALUE", "at 08:15"), "VALUE", "1h")
				if _, err := phrase.Parse(text); err != nil && value != "VALUE" {
					t.Errorf("%q offers %q: %v", meant, text, err)
				}
			case "set":
				key, _, _ := strings.Cut(value, "=")
				if key = strings.TrimSuffix(key, ".NAME"); !slices.ContainsFunc(gate.Keys, func(k gate.Key) bool { return k.Name == key }) {
					t.Errorf("%q sets %s, which is no key", meant, key)
				}
			}
		}
	}
	for path, options := range meantOptions {
		c, rest := command(path)
		if len(rest) > 0 {
			t.Errorf("there is no command %q", path)
		}
		for typed, meant := range options {
			if slices.ContainsFunc(c.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), typed) }) {
				t.Errorf("%s has an option --%s, and says that it has none", path, typed)
			}
			checkOptions(c, meant)
		}
	}
	for typed, meant := range meantCommands {
		if _, rest := command(typed); len(rest) == 0 {
			t.Errorf("there is a command %q, and it is said that there is none", typed)
		}
		if c, _ := command(strings.FieldsFunc(meant, func(r rune) bool { return r == ',' || r == '(' })[0]); c == root {
			t.Errorf("for %q is offered %q", typed, meant)
		}
	}
}
