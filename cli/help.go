package cli

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/urfave/cli/v3"
)

// printHelp prints the help of a command, or of the program. Every command's
// Description begins with a real call of it.
func printHelp(w io.Writer, _ string, data any) {
	c, ok := data.(*cli.Command)
	if !ok {
		return
	}
	var b strings.Builder
	if c.Root() == c {
		rootHelp(&b, c)
	} else {
		commandHelp(&b, c)
	}
	io.WriteString(w, b.String())
}

func rootHelp(b *strings.Builder, c *cli.Command) {
	fmt.Fprintf(b, "timegate %s: %s\n\n  timegate [OPTIONS] COMMAND …\n", c.Version, c.Usage)
	for _, group := range []string{tryCommands, sayCommands, foreseeCommands, keepCommands, watchCommands, otherCommands} {
		var rows [][2]string
		for _, sub := range c.Commands {
			if sub.Category == group && !sub.Hidden {
				rows = append(rows, [2]string{sub.Name, sub.Usage})
			}
		}
		if group == otherCommands {
			rows = append(rows, [2]string{"help", "how a command is used, with an example"})
		}
		section(b, group, rows)
	}
	optionHelp(b, "options of every command", c)
	b.WriteString("\nBegin with \"timegate demo\". Phrases such as \"at 08:15 on weekdays\" are in docs/phrases.md.\n")
}

func commandHelp(b *strings.Builder, c *cli.Command) {
	fmt.Fprintf(b, "timegate %s: %s\n\n", commandPath(c), c.Usage)
	call := "timegate " + commandPath(c)
	if len(c.VisibleFlags()) > 0 {
		call += " [OPTIONS]"
	}
	fmt.Fprintln(b, "  "+strings.TrimSpace(call+" "+c.ArgsUsage))
	var rows [][2]string
	for _, sub := range c.Commands {
		if !sub.Hidden && sub.Name != "help" {
			rows = append(rows, [2]string{strings.TrimSpace(sub.Name + " " + sub.ArgsUsage), sub.Usage})
		}
	}
	if len(rows) > 0 {
		section(b, "commands", rows)
	}
	optionHelp(b, "options", c)
	if c.Description != "" {
		example, rest, _ := strings.Cut(c.Description, "\n\n")
		fmt.Fprintf(b, "\nexample\n%s\n", indent(example, "  "))
		if rest != "" {
			fmt.Fprintf(b, "\n%s\n", rest)
		}
	}
}

func optionHelp(b *strings.Builder, title string, c *cli.Command) {
	var rows [][2]string
	for _, f := range c.VisibleFlags() {
		names := f.Names()
		if names[0] == "help" || names[0] == "version" || names[0] == "generate-shell-completion" {
			continue
		}
		usage, value := "", ""
		if d, ok := f.(cli.DocGenerationFlag); ok {
			usage = d.GetUsage()
			if d.TakesValue() {
				value = " VALUE"
				if i := strings.IndexByte(usage, '`'); i >= 0 {
					j := i + 1 + strings.IndexByte(usage[i+1:], '`')
					value = " " + usage[i+1:j]
					usage = usage[:i] + usage[i+1:j] + usage[j+1:]
				}
			}
		}
		rows = append(rows, [2]string{"--" + names[0] + value, usage})
	}
	section(b, title, rows)
}

func section(b *strings.Builder, title string, rows [][2]string) {
	if len(rows) == 0 {
		return
	}
	width := 10 // so that the usual lists stand in one line
	for _, r := range rows {
		width = max(width, utf8.RuneCountInString(r[0]))
	}
	fmt.Fprintf(b, "\n%s\n", title)
	for _, r := range rows {
		fmt.Fprintf(b, "  %-*s  %s\n", width, r[0], r[1])
	}
}
