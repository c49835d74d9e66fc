package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/urfave/cli/v3"
)

func (a *app) helpCommand() *cli.Command {
	return &cli.Command{
		Name: "help", Category: otherCommands, Usage: "how a command is used, or what a word means", ArgsUsage: "[COMMAND … | TOPIC]",
		Description: examples(`timegate help add`, `timegate help phrases`, `timegate help --man ~/.local/share/man`) +
			"Topics: " + strings.Join(topicNames, ", ") + ".",
		Flags:  []cli.Flag{&cli.StringFlag{Name: "man", Usage: "write manual pages of all this below the folder `DIR`", TakesFile: true}},
		Action: a.help,
	}
}

func (a *app) help(_ context.Context, c *cli.Command) error {
	if dir := c.String("man"); dir != "" {
		var pages []extra
		for _, m := range manuals(c.Root()) {
			pages = append(pages, extra{m.file(), m.text})
		}
		if err := writeExtras(dir, pages); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "%s written below %s\n", plural(len(pages), "manual page"), dir)
		return nil
	}
	at := c.Root()
	for i, word := range c.Args().Slice() {
		next := at.Command(word)
		if next == nil && i == 0 {
			for _, t := range topics() {
				if t.name == word || strings.TrimSuffix(t.name, "s") == word {
					fmt.Fprintf(a.out, "%s: %s\n\n%s", t.name, t.about, t.text)
					return nil
				}
			}
		}
		if next == nil {
			return unknownCommand(at, word)
		}
		at = next
	}
	printHelp(a.out, "", at)
	return nil
}

// printHelp prints the help of a command, or of the program. Every command's
// Description begins with real calls of it.
func printHelp(w io.Writer, _ string, data any) {
	if c, ok := data.(*cli.Command); ok {
		io.WriteString(w, helpText(c))
	}
}

// helpText is the help of a command, or of the program.
func helpText(c *cli.Command) string {
	var b strings.Builder
	if c.Root() == c {
		rootHelp(&b, c)
	} else {
		commandHelp(&b, c)
	}
	return b.String()
}

// examples begins a command's description with calls of it, the likeliest first.
func examples(calls ...string) string { return strings.Join(calls, "\n") + "\n\n" }

func rootHelp(b *strings.Builder, c *cli.Command) {
	fmt.Fprintf(b, "timegate %s: %s\n\n  timegate [OPTIONS] COMMAND …\n", c.Version, c.Usage)
	for _, group := range []string{tryCommands, sayCommands, foreseeCommands, keepCommands, watchCommands, machineCommands, estateCommands, otherCommands} {
		var rows [][2]string
		for _, sub := range c.Commands {
			if sub.Category == group && !sub.Hidden {
				rows = append(rows, [2]string{sub.Name, sub.Usage})
			}
		}
		section(b, group, rows)
	}
	optionHelp(b, "options of every command", c)
	var rows [][2]string
	for _, t := range topics() {
		rows = append(rows, [2]string{t.name, t.about})
	}
	section(b, "topics, for \"timegate help TOPIC\"", rows)
	b.WriteString("\nBegin with \"timegate demo\".\n")
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
		title := "example"
		if strings.Contains(example, "\n") {
			title = "examples"
		}
		fmt.Fprintf(b, "\n%s\n%s\n", title, indent(example, "  "))
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
