package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"
)

func (a *app) helpCommand() *cli.Command {
	return &cli.Command{
		Name: "help", Category: otherCommands, Usage: "how a command is used, or what a word means", ArgsUsage: "[COMMAND … | TOPIC | all]",
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
		if next == nil && i == 0 && word == allWord {
			writeHelp(a.out, helpText(at))
			return nil
		}
		if next == nil && i == 0 {
			for _, t := range topics() {
				if t.name == word || strings.TrimSuffix(t.name, "s") == word {
					writeHelp(a.out, fmt.Sprintf("%s: %s\n\n%s", t.name, t.about, t.text))
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

// allWord asks for the help of everything.
const allWord = "all"

// printHelp prints the help of a command, or of the program. Every command's
// Description begins with real calls of it.
func printHelp(w io.Writer, _ string, data any) {
	c, ok := data.(*cli.Command)
	if !ok {
		return
	}
	text := helpText(c)
	if c.Root() == c {
		text = shortHelp(c)
	}
	writeHelp(w, text)
}

// usualWidth is that of help where no terminal says another one.
const usualWidth = 80

// writeHelp writes a text of help in the width of the terminal that it goes to.
func writeHelp(w io.Writer, text string) {
	width := usualWidth
	if s, ok := w.(*screen); ok && s.width > 0 {
		width = s.width
	}
	io.WriteString(w, wrapHelp(text, width))
}

// wrapHelp breaks lines between words. What goes on stands below the words of the last
// column. Examples are left as they are: they are there to be copied.
func wrapHelp(text string, width int) string {
	const least = 20 // of a column
	var b strings.Builder
	for _, line := range paragraphs(text) {
		margin := len(line) - len(strings.TrimLeft(line, " "))
		literal := margin == 2 || strings.HasSuffix(line, `"]`)
		if i := strings.LastIndex(strings.TrimRight(line, " "), "  "); i > margin {
			margin, literal = i+2, false
		}
		before := ansi.StringWidth(line[:margin])
		if ansi.StringWidth(line) <= width || width-before < least || literal {
			b.WriteString(line + "\n")
			continue
		}
		rest := strings.Split(wrap(line[margin:], width-before), "\n")
		b.WriteString(line[:margin] + strings.Join(rest, "\n"+strings.Repeat(" ", before)) + "\n")
	}
	return b.String()
}

// paragraphs are the lines of a text, with those in one that are one paragraph: none of
// them is indented.
func paragraphs(text string) []string {
	var out []string
	plain := func(line string) bool { return line != "" && line[0] != ' ' }
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		if n := len(out); n > 0 && plain(line) && plain(out[n-1]) {
			out[n-1] += " " + line
			continue
		}
		out = append(out, line)
	}
	return out
}

// everyday are the commands of every day, in the order of the job.
var everyday = []string{"find", "add", "change", "check", "rehearse", "keeper", "list", "why", "history", "watch", "startup", "undo"}

// shortHelp fits on one screen: the commands of every day, and where the rest is.
func shortHelp(c *cli.Command) string {
	var b strings.Builder
	fmt.Fprintf(&b, "timegate %s: %s\n", c.Version, c.Usage)
	var rows [][2]string
	for _, name := range everyday {
		rows = append(rows, [2]string{name, c.Command(name).Usage})
	}
	section(&b, "the commands of every day", rows)
	b.WriteString("\n" + `"timegate help COMMAND" says how one is used, with examples; "timegate help all" lists all commands; "timegate help TOPIC" is about ` +
		strings.Join(topicNames[:len(topicNames)-1], ", ") + " or " + topicNames[len(topicNames)-1] + `. Begin with "timegate demo".` + "\n")
	return b.String()
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
