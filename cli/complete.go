package cli

import (
	"context"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/shlex"
	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/workstation/zones"
)

// The scripts by which a shell asks for words.
var (
	//go:embed completion/bash.sh
	bashScript string
	//go:embed completion/zsh.sh
	zshScript string
	//go:embed completion/fish.sh
	fishScript string
)

// What a shell is to offer by itself.
const (
	ownFiles    = "//files"
	ownPrograms = "//programs"
)

func (a *app) completionCommand() *cli.Command {
	shell := func(name, script string) *cli.Command {
		return &cli.Command{Name: name, Usage: "for " + name, Action: func(_ context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			fmt.Fprint(a.out, script)
			return nil
		}}
	}
	return &cli.Command{
		Name: "completion", Category: otherCommands, Usage: "print a script that completes commands, names and phrases in your shell",
		Description: examples(`timegate completion bash > ~/.local/share/bash-completion/completions/timegate`, `timegate completion fish > ~/.config/fish/completions/timegate.fish`),
		Action:      a.group,
		Commands: []*cli.Command{
			shell("bash", bashScript), shell("zsh", zshScript), shell("fish", fishScript),
			{Name: "words", Hidden: true, Usage: "what can stand for the last of the words, a line each", ArgsUsage: "-- WORD …",
				Flags:  []cli.Flag{&cli.BoolFlag{Name: "line", Usage: "the argument is a line of a shell up to the cursor"}},
				Action: a.printCompletions},
		},
	}
}

func (a *app) printCompletions(_ context.Context, c *cli.Command) error {
	typed, cut := c.Args().Slice(), 0
	if c.Bool("line") {
		line, err := oneArgument(c, "the line")
		if err != nil {
			return err
		}
		typed, cut = splitLine(line)
	}
	if len(typed) == 0 {
		typed = []string{""}
	}
	for _, word := range a.completions(c.Root(), typed) {
		text, _, _ := strings.Cut(word, "\t")
		if text == ownFiles || text == ownPrograms {
			cut = 0
		}
		fmt.Fprintln(a.out, word[min(cut, len(text)):])
	}
	return nil
}

// splitLine splits a line into the words behind the program's, of which the last may be
// open. It returns how much of that one the shell keeps by itself: bash takes what
// stands behind a colon or an equals sign, outside of quotes, for a word of its own.
func splitLine(line string) (typed []string, cut int) {
	for _, closing := range []string{"", `"`, `'`} {
		words, err := shlex.Split(line + closing)
		if err != nil {
			continue
		}
		if closing == "" && (len(words) < 2 || strings.HasSuffix(line, " ") && !strings.HasSuffix(line, `\ `)) {
			words = append(words, "")
		}
		if last := words[len(words)-1]; closing == "" {
			cut = strings.LastIndexAny(last, "=:") + 1
		}
		return words[min(1, len(words)):], cut
	}
	return nil, 0
}

// completions lists what can stand for the last word typed, each with what it is behind a
// tab where that helps.
func (a *app) completions(root *cli.Command, typed []string) []string {
	at, last := root, typed[len(typed)-1]
	var positional []string
	var option, dir string
	var scope gate.Scope
	for i, word := range typed[:len(typed)-1] {
		switch {
		case option != "":
			switch option {
			case "home":
				dir = word
			case "scope":
				scope = gate.Scope(word)
			}
			option = ""
		case word == "--":
			if len(typed)-1 == i+1 {
				return []string{ownPrograms}
			}
			return []string{ownFiles}
		case strings.HasPrefix(word, "-"):
			if f := optionOf(at, word); f != nil && f.TakesValue() {
				option = strings.TrimLeft(word, "-")
			}
		case len(positional) == 0 && at.Command(word) != nil:
			at = at.Command(word)
		default:
			positional = append(positional, word)
		}
	}
	if dir == "" {
		dir = os.Getenv("TIMEGATE_HOME")
	}
	if a.chooseHome(expandHome(dir), scope) != nil {
		return nil
	}
	var words []string
	switch name, value, joined := strings.Cut(last, "="); {
	case option != "":
		words = a.optionValues(at, option, last)
	case strings.HasPrefix(last, "-") && joined:
		for _, v := range a.optionValues(at, strings.TrimLeft(name, "-"), value) {
			words = append(words, name+"="+v)
		}
	case strings.HasPrefix(last, "-"):
		words = options(at)
	case len(at.VisibleCommands()) > 0 && len(positional) == 0:
		words = append(commands(at), a.argumentValues(at, positional, last)...)
	default:
		words = a.argumentValues(at, positional, last)
	}
	return slices.DeleteFunc(words, func(w string) bool { return w != ownFiles && w != ownPrograms && !hasPrefixFold(w, last) })
}

// hasPrefixFold reports whether a text begins with another, in any case.
func hasPrefixFold(s, prefix string) bool {
	return len(s) >= len(prefix) && strings.EqualFold(s[:len(prefix)], prefix)
}

// expandHome writes out a tilde, which a shell does only where a word is typed to its end.
func expandHome(path string) string {
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	return path
}

// optionOf finds an option of a command, or of the program.
func optionOf(c *cli.Command, word string) cli.DocGenerationFlag {
	name := strings.TrimLeft(word, "-")
	for _, f := range slices.Concat(c.Flags, c.Root().Flags) {
		if slices.Contains(f.Names(), name) {
			doc, _ := f.(cli.DocGenerationFlag)
			return doc
		}
	}
	return nil
}

func options(c *cli.Command) []string {
	var words []string
	for _, f := range slices.Concat(c.Flags, c.Root().Flags) {
		name, doc := f.Names()[0], f.(cli.DocGenerationFlag)
		if !slices.Contains(words, "--"+name) {
			words = append(words, "--"+name+"\t"+strings.ReplaceAll(doc.GetUsage(), "`", ""))
		}
	}
	return append(words, "--help\thow it is used")
}

func commands(c *cli.Command) []string {
	var words []string
	for _, sub := range c.VisibleCommands() {
		words = append(words, sub.Name+"\t"+sub.Usage)
	}
	return words
}

// optionValues lists values of an option.
func (a *app) optionValues(c *cli.Command, name, typed string) []string {
	switch name {
	case "open", "phrase":
		return a.phrases(typed)
	case "program":
		return a.itemNames()
	case "set", "if":
		return keyValues(typed)
	case "scope":
		return []string{string(gate.System), string(gate.User)}
	case "zone":
		return zones.Names()
	case "state":
		return gateStates
	case "result":
		return results
	case "sort", "columns":
		return columnNames()
	case "busy":
		return keyValues("rules.busy=")
	case "for", "due-within", "longest":
		return []string{"10m", "30m", "1h", "2h", "8h", "1d"}
	case "since", "from", "to", "until", "at":
		return []string{"boot", "today", "yesterday", "7d"}
	}
	if f, ok := optionOf(c, name).(interface{ TakesFile() bool }); ok && f.TakesFile() {
		return []string{ownFiles}
	}
	if f, ok := optionOf(c, name).(*cli.StringFlag); ok && f.TakesFile {
		return []string{ownFiles}
	}
	return nil
}

// keyValues lists the keys of a gate file with an equals sign, or the values of the one
// that is typed already.
func keyValues(typed string) []string {
	name, _, value := strings.Cut(typed, "=")
	var words []string
	for _, k := range gate.Keys {
		switch {
		case !value:
			words = append(words, k.Name+"=\t"+k.About)
		case k.Name != name:
		case k.Type == gate.TypeTruth:
			words = append(words, name+"=true", name+"=false")
		default:
			for _, choice := range k.Choices {
				words = append(words, name+"="+choice)
			}
		}
	}
	return words
}

// argumentValues lists what can stand behind a command, by the words of its usage.
func (a *app) argumentValues(c *cli.Command, before []string, typed string) []string {
	usage := c.ArgsUsage
	switch {
	case usage == "OLD NEW" && len(before) > 0, c.Name == "add":
		return nil
	case strings.Contains(usage, "/OPENING") && strings.Contains(typed, "/"):
		name, _, _ := strings.Cut(typed, "/")
		return a.openingNames(name)
	case strings.Contains(usage, "NAME"), usage == "OLD NEW":
		return a.gateNames()
	case strings.Contains(usage, "ITEM"):
		return a.startupNames()
	case c.Name == "find":
		return a.itemNames()
	case c.Name == "help":
		return slices.Concat(commands(c.Root()), topicNames)
	case c.Name == "stage":
		return stagedEvents()
	case usage == "SIGNAL":
		return a.signalNames()
	case usage == "[CHAPTER]":
		return demoChapters
	case strings.Contains(usage, "FILE"), strings.Contains(usage, "FOLDER"), strings.Contains(usage, ".toml"):
		return []string{ownFiles}
	}
	return nil
}
