package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/adrg/xdg"
	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/desktop"
	"timegate/gates"
	"timegate/inspect"
)

func (a *app) findCommand() *cli.Command {
	return &cli.Command{
		Name: "find", Category: tryCommands, Usage: "find installed programs and scripts that can be started", ArgsUsage: "WORD …",
		Description: examples(`timegate find terminal`, `timegate find text edit`, `timegate find stock-count --json`) +
			"It looks through the menu of the desktop, the programs on PATH, and the scripts that Time Gate keeps. What is mistyped\n" +
			"is found as well. \"timegate add NAME --program ITEM\" takes an item over.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "all", Usage: "also what menus leave out"},
			&cli.IntFlag{Name: "count", Usage: "at most this `NUMBER` of items", Value: 8},
		},
		Action: a.find,
	}
}

// foundItem is something that can be started, in JSON.
type foundItem struct {
	Item     string        `json:"item"`
	Name     string        `json:"name"`
	About    string        `json:"about"`
	Command  []string      `json:"command"`
	Folder   string        `json:"folder,omitempty"`
	Terminal bool          `json:"terminal"`
	Source   string        `json:"source"` // the desktop entry, or the program
	Kind     *inspect.Kind `json:"kind"`
	Gates    []string      `json:"gates"` // that start it already
}

func (a *app) find(_ context.Context, c *cli.Command) error {
	words := c.Args().Slice()
	if len(words) == 0 {
		return usageError("write what to look for, such as: timegate find terminal")
	}
	if c.Int("count") < 1 {
		return usageError("--count is %d: write 1 or more", c.Int("count"))
	}
	found := desktop.Find(a.items(c.Bool("all")), words)
	if len(found) == 0 {
		return &exitError{exitFailed, fmt.Errorf("nothing here is called %q; try another word, or --all for what menus leave out", strings.Join(words, " "))}
	}
	more := max(len(found)-int(c.Int("count")), 0)
	files, err := a.files()
	if err != nil {
		return err
	}
	out := []foundItem{}
	for _, e := range found[:len(found)-more] {
		out = append(out, describeItem(e, files))
	}
	if a.json {
		return a.out.printJSON(out)
	}
	for i := range out {
		a.printItem(&out[i])
	}
	if more > 0 {
		fmt.Fprintln(a.err, a.err.faint(fmt.Sprintf("and %d more; give another word, or --count %d", more, len(found))))
	}
	return nil
}

// items are all that can be started here: what the menu has, the scripts that are
// kept, and the programs on PATH.
func (a *app) items(all bool) []desktop.Entry {
	desktops := strings.Split(os.Getenv("XDG_CURRENT_DESKTOP"), ":")
	var out []desktop.Entry
	out = append(out, desktop.Applications(desktop.Look{Folders: xdg.ApplicationDirs, Locale: locale(), Desktops: desktops, All: all})...)
	out = append(out, desktop.Programs([]string{filepath.Dir(a.home.KeptScript("x"))})...)
	return append(out, desktop.Programs(filepath.SplitList(os.Getenv("PATH")))...)
}

// locale is the language of messages, as POSIX has it.
func locale() string {
	for _, name := range []string{"LC_ALL", "LC_MESSAGES", "LANG"} {
		if text := os.Getenv(name); text != "" {
			return text
		}
	}
	return ""
}

// describeItem tells what an item starts, and which gates start it already.
func describeItem(e desktop.Entry, files []gates.File) foundItem {
	x := foundItem{Item: e.ID, Name: e.Name, About: e.Comment, Folder: e.Folder, Terminal: e.Terminal, Source: e.File, Command: []string{}, Gates: []string{}}
	if x.About == "" {
		x.About = e.Generic
	}
	argv, err := e.Command()
	if err != nil {
		x.Kind = &inspect.Kind{Problem: err.Error()}
		return x
	}
	if path, err := wholeProgram(argv[0]); err != nil {
		x.Kind = &inspect.Kind{Problem: err.Error()}
	} else {
		argv[0] = path
		if kind, err := inspect.KindOf(path); err == nil {
			x.Kind = &kind
		}
	}
	x.Command = argv
	for _, f := range files {
		if f.Gate != nil && x.Kind != nil && sameProgram(f.Gate.Run[0], argv[0], x.Kind.Real) {
			x.Gates = append(x.Gates, f.Name)
		}
	}
	return x
}

// sameProgram reports whether a gate's program is an item's, behind links too.
func sameProgram(run, path, real string) bool {
	if run == path || real != "" && run == real {
		return true
	}
	end, err := filepath.EvalSymlinks(run)
	return err == nil && end == real
}

func (a *app) printItem(x *foundItem) {
	fmt.Fprintln(a.out, a.out.head(x.Item)+strings.TrimRight("  "+x.Name, " "))
	if x.About != "" {
		a.line("about", a.wrapped(x.About))
	}
	a.line("runs", a.wrapped(gate.CommandLine(x.Command...)))
	if x.Kind != nil {
		var list []string
		if x.Kind.Real != "" && len(x.Command) > 0 && x.Kind.Real != x.Command[0] {
			list = append(list, "really "+x.Kind.Real)
		}
		switch {
		case x.Kind.Machine != "":
			list = append(list, "a program for "+x.Kind.Machine)
		case x.Kind.Script != "":
			list = append(list, "a script for "+x.Kind.Script)
		}
		if x.Kind.Size > 0 {
			list = append(list, humanize.Bytes(uint64(x.Kind.Size)))
		}
		if x.Kind.Problem != "" {
			list = append(list, a.out.bad(x.Kind.Problem))
		}
		a.line("file", a.wrapped(strings.Join(list, ", ")))
	}
	if len(x.Gates) > 0 {
		a.line("gates", strings.Join(x.Gates, ", "))
	}
}

// itemNamed returns the one item that is meant by its name or ID.
func (a *app) itemNamed(name string) (desktop.Entry, error) {
	items := a.items(true)
	// What the menu has comes before a program of the same name: it knows its desktop.
	starts := slices.DeleteFunc(slices.Clone(items), func(e desktop.Entry) bool {
		argv, err := e.Command()
		return !e.Application() || err != nil || len(argv) != 1 || filepath.Base(argv[0]) != name
	})
	if len(starts) == 1 {
		return starts[0], nil
	}
	for _, e := range items {
		if e.ID == name || strings.TrimSuffix(e.ID, ".desktop") == name {
			return e, nil
		}
	}
	same := slices.DeleteFunc(slices.Clone(items), func(e desktop.Entry) bool { return !strings.EqualFold(e.Name, name) })
	if len(same) == 1 {
		return same[0], nil
	}
	if len(same) == 0 {
		same = desktop.Find(items, strings.Fields(name))
	}
	if len(same) == 0 {
		return desktop.Entry{}, usageError("nothing here is called %q; see: timegate find WORD", name)
	}
	var ids []string
	for _, e := range same[:min(len(same), 5)] {
		ids = append(ids, e.ID)
	}
	return desktop.Entry{}, usageError("there is no item %q; did you mean %s?", name, strings.Join(ids, ", "))
}
