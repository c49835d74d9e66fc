package cli

import (
	"cmp"
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
		Name: "find", Category: tryCommands, Usage: "find installed programs and scripts that can be started", ArgsUsage: "[FOLDER] [WORD …]",
		Description: examples(`timegate find`, `timegate find terminal`, `timegate find text edit`, `timegate find ~/bin`, `timegate find stock-count --json`) +
			"It looks through the menu of the desktop, the programs on PATH with the first line of their manual pages, and the scripts\n" +
			"that Time Gate keeps; where a FOLDER is given, through that alone. Without a WORD it lists the menu. What is mistyped is\n" +
			"found as well. \"timegate add NAME --program ITEM\" takes an item over.",
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
	Category string        `json:"category,omitempty"` // the menu's
	Source   string        `json:"source"`             // the desktop entry, or the program
	Kind     *inspect.Kind `json:"kind"`
	Gates    []string      `json:"gates"` // that start it already
}

func (a *app) find(_ context.Context, c *cli.Command) error {
	words, folders, err := foldersAmong(c.Args().Slice())
	if err != nil {
		return err
	}
	if c.Int("count") < 1 {
		return usageError("--count is %d: write 1 or more", c.Int("count"))
	}
	items := a.items(c.Bool("all"))
	if len(folders) > 0 {
		items = append(desktop.Applications(desktop.Look{Folders: folders, Locale: locale(), All: true}), desktop.Programs(folders)...)
	}
	if len(words) == 0 && len(folders) == 0 {
		return a.listMenu(items)
	}
	found, more := items, 0
	if len(words) > 0 {
		found = search(items, words)
	}
	if len(found) == 0 && len(words) == 0 {
		return &exitError{exitFailed, fmt.Errorf("nothing in %s can be started", strings.Join(folders, ", "))}
	}
	if len(found) == 0 {
		return &exitError{exitFailed, fmt.Errorf("nothing here is called %q; try another word, or --all for what menus leave out", strings.Join(words, " "))}
	}
	if len(folders) == 0 || c.IsSet("count") {
		more = max(len(found)-int(c.Int("count")), 0)
	}
	desktop.Describe(found[:len(found)-more])
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

// search finds what words may mean. Where nothing says of itself that it is meant, the
// manual pages of programs are read, too.
func search(items []desktop.Entry, words []string) []desktop.Entry {
	found, sure := desktop.Find(items, words)
	if !sure {
		desktop.Describe(items)
		found, _ = desktop.Find(items, words)
	}
	return found
}

// foldersAmong returns which of some words are folders, as whole paths: those with a slash.
func foldersAmong(args []string) (words, folders []string, err error) {
	for _, arg := range args {
		if !strings.Contains(arg, "/") {
			words = append(words, arg)
			continue
		}
		path, err := filepath.Abs(arg)
		if err != nil {
			return nil, nil, err
		}
		if info, err := os.Stat(path); err != nil {
			return nil, nil, usageError("%s: %w", arg, cause(err))
		} else if !info.IsDir() {
			return nil, nil, usageError("%s is not a folder; to run it once: timegate try -- %s", arg, gate.CommandLine(path))
		}
		folders = append(folders, path)
	}
	return words, folders, nil
}

// listMenu lists the applications of the menu by category.
func (a *app) listMenu(items []desktop.Entry) error {
	items = slices.DeleteFunc(items, func(e desktop.Entry) bool { return !e.Application() || strings.Contains(e.ID, ":") })
	slices.SortStableFunc(items, func(a, b desktop.Entry) int {
		return cmp.Or(strings.Compare(a.Category(), b.Category()), strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)))
	})
	if a.json {
		files, err := a.files()
		if err != nil {
			return err
		}
		out := []foundItem{}
		for _, e := range items {
			out = append(out, describeItem(e, files))
		}
		return a.out.printJSON(out)
	}
	if len(items) == 0 {
		fmt.Fprintln(a.err, "there is no menu of a desktop here; to look for a program: timegate find WORD")
		return nil
	}
	var rows [][]string
	before := ""
	for _, e := range items {
		category := e.Category()
		if category == before {
			category = ""
		} else {
			before = category
		}
		rows = append(rows, []string{category, strings.TrimSuffix(e.ID, ".desktop"), e.Name, cmp.Or(e.Comment, e.Generic)})
	}
	a.out.table([]string{"CATEGORY", "ITEM", "NAME", "ABOUT"}, rows)
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
	x := foundItem{Item: e.ID, Name: e.Name, About: e.Comment, Folder: e.Folder, Terminal: e.Terminal, Category: e.Category(), Source: e.File, Command: []string{}, Gates: []string{}}
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
		same = search(items, strings.Fields(name))
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
