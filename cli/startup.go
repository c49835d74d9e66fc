package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/adrg/xdg"
	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/home"
	"timegate/keeper"
	"timegate/startup"
)

func (a *app) startupCommand() *cli.Command {
	return &cli.Command{
		Name: "startup", Category: machineCommands, Usage: "everything that starts at boot or logon here, whoever put it there", ArgsUsage: "[ITEM]",
		Description: examples(`timegate startup`, `timegate startup job-board`, `timegate startup --changed`, `timegate startup --cost --png logon.png`, `timegate startup off job-board`) +
			"It reads the autostart entries of the desktop; the services of the init system that are switched on, of the machine and\n" +
			"of the person, and its timers, sockets and paths, which start a service later; and Time Gate's own gates. It only looks\n" +
			"at init scripts, rc.local, what the message bus starts for a name, and the files that login shells and X sessions read.\n" +
			"Left out is what a desktop keeps in a form of its own, what other schedulers keep, and what these scripts start in turn.\n" +
			"Each look is remembered, so that --changed can tell what an installer has put there.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "all", Usage: "also what belongs to the system itself"},
			&cli.BoolFlag{Name: "changed", Usage: "what was added, taken away or changed since this was last asked"},
			&cli.StringFlag{Name: "since", Usage: "what was added, taken away or changed since a `TIME`"},
			&cli.BoolFlag{Name: "cost", Usage: "how long the machine took until it was calm after the last boot and logon, which starts took the most, and what would help"},
			&cli.StringFlag{Name: "png", Usage: "with --cost: write the last logon, or else boot, as a picture to `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "svg", Usage: "with --cost: write it as a picture to `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "root", Usage: "look at the disk that is mounted at `DIR`", TakesFile: true},
		},
		Action:   a.startup,
		Commands: []*cli.Command{a.startupSwitchCommand(false), a.startupSwitchCommand(true), a.startupAdoptCommand(), a.startupReleaseCommand(), a.startupRemoveCommand()},
	}
}

// startupLook says where to look.
func (a *app) startupLook(root string) (*startup.Look, error) {
	l := &startup.Look{Config: xdg.ConfigDirs, Locale: locale(), Desktops: strings.Split(os.Getenv("XDG_CURRENT_DESKTOP"), ":"), Path: filepath.SplitList(os.Getenv("PATH"))}
	if a.home.Scope == gate.User {
		l.Own, l.Home, l.Data = xdg.ConfigHome, xdg.Home, append([]string{xdg.DataHome}, xdg.DataDirs...)
	}
	if root == "" {
		return l, nil
	}
	abs, err := filepath.Abs(root)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(abs); err != nil || !info.IsDir() {
		return nil, usageError("--root %s is no folder; write where the disk is mounted", root)
	}
	l.Root, l.Path = abs, []string{"/usr/local/bin", "/usr/bin", "/bin", "/usr/local/sbin", "/usr/sbin", "/sbin"}
	return l, nil
}

// startupItems returns everything that starts, with what gates take the place of. On
// another disk there are no gates that count here.
func (a *app) startupItems(l *startup.Look) ([]startup.Item, error) {
	items := l.Items()
	if l.Root != "" {
		return items, nil
	}
	files, err := a.files()
	if err != nil {
		return nil, err
	}
	costs, err := a.costs()
	if err != nil {
		return nil, err
	}
	items = append(items, a.gateItems(files, costs)...)
	if whole := home.Of(a.home.Scope); a.home == whole && a.home.Scope == gate.User { // the machine's gates too
		if theirs, err := control.NewClient(home.Of(gate.System)).Files(a.env()); err == nil {
			items = append(items, a.gateItems(theirs, nil)...)
		}
	}
	for i := range items {
		for _, f := range files {
			if f.Gate != nil && f.Gate.InsteadOf == items[i].ID && items[i].Source != startup.FromGate {
				items[i].Gate = f.Name
			}
		}
	}
	return items, nil
}

// beginnings returns which gates open at boot or logon, and at which of the two: those that
// follow another one which does, too.
func beginnings(files []gates.File) map[string]string {
	out := map[string]string{}
	for before := -1; before < len(out); {
		before = len(out)
		for _, f := range files {
			if f.Gate == nil || out[f.Name] != "" {
				continue
			}
			for _, o := range f.Gate.Opens {
				at := string(beginningOf(o.Plan.Phrase))
				if e := o.Plan.Phrase.Event; slices.Contains([]phrase.EventKind{phrase.StartOf, phrase.EndOf, phrase.FailureOf}, e.Kind) {
					at = out[e.Name]
				}
				if at != "" {
					out[f.Name] = at
					break
				}
			}
		}
	}
	return out
}

// gateItems are the gates that open at boot or logon.
func (a *app) gateItems(files []gates.File, costs map[string]*startup.Cost) []startup.Item {
	var out []startup.Item
	begins := beginnings(files)
	for _, f := range files {
		at := begins[f.Name]
		if at == "" {
			continue
		}
		it := startup.Item{ID: string(startup.FromGate) + ":" + f.Name, Name: f.Name, About: f.Gate.About, Source: startup.FromGate, At: at, File: f.Path,
			Command: f.Gate.Run, Account: f.Gate.Account(), Enabled: f.Gate.Enabled, State: startup.On, Cost: costs[f.Name]}
		switch _, err := os.Stat(f.Gate.Run[0]); {
		case !f.Gate.Enabled:
			it.State = startup.Off
		case !f.Gate.RunsOn(a.host):
			it.State, it.Why = startup.Elsewhere, dormantText(f.Gate, a.host)
		case errors.Is(err, fs.ErrNotExist):
			it.State, it.Why = startup.Missing, f.Gate.Run[0]+" does not exist"
		}
		out = append(out, it)
	}
	return out
}

func (a *app) startup(ctx context.Context, c *cli.Command) error {
	a.followClock(ctx)
	if c.Bool("cost") || c.String("png")+c.String("svg") != "" {
		return a.startupCost(ctx, c)
	}
	look, err := a.startupLook(c.String("root"))
	if err != nil {
		return err
	}
	items, err := a.startupItems(look)
	if err != nil {
		return err
	}
	if changed := c.Bool("changed") || c.String("since") != ""; changed {
		if look.Root != "" || c.Args().Present() {
			return usageError("--changed and --since are about this machine as a whole; leave --root and ITEM out")
		}
		return a.startupChanges(c, items)
	}
	if c.Args().Present() {
		name, err := oneArgument(c, "the name of an item")
		if err != nil {
			return err
		}
		it, err := startup.Find(items, name)
		if err != nil {
			return &exitError{exitUnknown, err}
		}
		tellPackages(look, []startup.Item{it}, func(_ int, p *startup.Package) { it.Package = p })
		if a.json {
			return a.out.printJSON(it)
		}
		a.printStartupItem(&it)
		return nil
	}
	fresh := 0
	if look.Root == "" {
		fresh = a.rememberStartup(items)
	}
	if !c.Bool("all") {
		items = slices.DeleteFunc(items, func(it startup.Item) bool { return it.Within })
	}
	if a.json {
		tellPackages(look, items, func(i int, p *startup.Package) { items[i].Package = p })
		return a.out.printJSON(append([]startup.Item{}, items...))
	}
	a.printStartup(items)
	if fresh > 0 {
		fmt.Fprintf(a.err, "%s since you last asked; see: timegate startup --changed\n", plural(fresh, "change"))
	}
	return nil
}

// rememberStartup takes the look down, and returns how many changes nobody has seen yet.
// Where it cannot be kept, nothing is said: the look itself is what was asked for.
func (a *app) rememberStartup(items []startup.Item) int {
	if a.home.OfOthers() {
		return 0
	}
	m, err := startup.ReadMemory(a.home)
	if err != nil {
		return 0
	}
	m.Note(items, a.now())
	if m.Write(a.home) != nil {
		return 0
	}
	return len(m.After(m.Shown))
}

// startupForKeeper is how a keeper looks at what else starts here.
func (a *app) startupForKeeper() *keeper.StartupLook {
	look, err := a.startupLook("")
	if err != nil {
		return nil
	}
	return &keeper.StartupLook{Folders: look.Folders(), Look: func() ([]startup.Change, error) {
		m, err := startup.ReadMemory(a.home)
		if err != nil {
			return nil, err
		}
		items, err := a.startupItems(look)
		if err != nil {
			return nil, err
		}
		changes := m.Note(items, time.Now())
		return changes, m.Write(a.home)
	}}
}

// startupChanges tells what has changed.
func (a *app) startupChanges(c *cli.Command, items []startup.Item) error {
	if a.home.OfOthers() {
		return &control.PermissionError{Reason: "what changes in the system scope is remembered for root; your own is in --scope user"}
	}
	m, err := startup.ReadMemory(a.home)
	if err != nil {
		return err
	}
	first := m.Since.IsZero()
	now := a.now()
	m.Note(items, now)
	since := m.Shown
	if text := c.String("since"); text != "" {
		at, err := a.timeBack().read(text)
		if err != nil {
			return usageError("--since: %w", err)
		}
		since = at.Time()
	} else {
		m.Shown = now
	}
	if err := m.Write(a.home); err != nil {
		return err
	}
	changes := m.After(since)
	if since.Before(m.Since) {
		changes = append(writtenSince(items, since, m.Since), changes...)
	}
	if a.json {
		return a.out.printJSON(append([]startup.Change{}, changes...))
	}
	var rows [][]string
	for _, ch := range changes {
		what := string(ch.What)
		switch ch.What {
		case startup.Added, startup.TurnedOn:
			what = a.out.good(what)
		case startup.Gone, startup.TurnedOff:
			what = a.out.warn(what)
		}
		seen := cmp.Or(ch.After, ch.Before)
		rows = append(rows, []string{a.local(ch.At), what, ch.Item, gate.CommandLine(seen.Command...), a.shortHome(seen.File)})
	}
	if len(rows) > 0 {
		a.out.table([]string{"SEEN", "WHAT", "ITEM", "COMMAND", "FILE"}, rows)
	} else {
		fmt.Fprintf(a.out, "nothing has changed since %s\n", a.local(since))
	}
	if first || since.Before(m.Since) {
		fmt.Fprintln(a.err, a.err.faint("looked at for the first time on "+a.local(m.Since)+": what was taken away before is not known, and what was added is told by the time of its file"))
	}
	return nil
}

// writtenSince returns the items whose files were written in a span before the first
// look: they were added then, or changed.
func writtenSince(items []startup.Item, from, to time.Time) []startup.Change {
	var out []startup.Change
	for _, it := range items {
		info, err := os.Stat(it.File)
		if err != nil || info.ModTime().Before(from) || info.ModTime().After(to) || it.Source == startup.FromGate {
			continue
		}
		out = append(out, startup.Change{At: info.ModTime(), Item: it.ID, What: startup.Changed, After: &startup.Seen{Name: it.Name, File: it.File, Command: it.Command, Enabled: it.Enabled}})
	}
	slices.SortFunc(out, func(a, b startup.Change) int { return a.At.Compare(b.At) })
	return out
}

func (a *app) printStartup(items []startup.Item) {
	var rows [][]string
	for _, it := range items {
		about := cmp.Or(it.About, it.Name)
		cost := ""
		if it.Cost != nil {
			cost = short(time.Duration(it.Cost.TookS * float64(time.Second)))
		}
		command := gate.CommandLine(it.Command...)
		if it.State == startup.Broken {
			command = it.Why
		}
		rows = append(rows, []string{it.ID, a.startState(&it), it.At, cost, about, command})
	}
	headers := []string{"ITEM", "STATE", "AT", "TAKES", "WHAT IT IS", "COMMAND"}
	if slices.ContainsFunc(items, func(it startup.Item) bool { return it.Account != "" && it.Account != items[0].Account }) { // whose rights they have differs
		for i, it := range items {
			rows[i] = append(rows[i], it.Account)
		}
		headers = append(headers, "AS")
	}
	const roomy = 110 // in a narrow terminal names that can be typed are worth more
	if a.out.width > 0 && a.out.width < roomy {
		for i := range rows {
			rows[i] = slices.Delete(rows[i], 4, 5)
		}
		headers = slices.Delete(headers, 4, 5)
	}
	if !slices.ContainsFunc(rows, func(r []string) bool { return r[3] != "" }) {
		for i := range rows {
			rows[i] = slices.Delete(rows[i], 3, 4)
		}
		headers = slices.Delete(headers, 3, 4)
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.out, "nothing starts here by itself")
		return
	}
	a.out.table(headers, rows)
}

// startState colours a state, and says which gate takes an item's place.
func (a *app) startState(it *startup.Item) string {
	text := string(it.State)
	switch it.State {
	case startup.On:
		text = a.out.good(text)
	case startup.Off, startup.Elsewhere:
		text = a.out.warn(text)
	default:
		text = a.out.bad(text)
	}
	if it.Gate != "" {
		text += ", by a gate"
	}
	if it.LookedAt {
		text += a.out.faint(", only looked at")
	}
	return text
}

// printStartupItem tells all of one item.
func (a *app) printStartupItem(it *startup.Item) {
	fmt.Fprintln(a.out, a.out.head(it.ID)+strings.TrimRight("  "+it.Name, " "))
	if it.About != "" {
		a.line("about", a.wrapped(it.About))
	}
	state := a.startState(it)
	if it.Why != "" {
		state += ": " + it.Why
	}
	a.line("state", a.wrapped(state))
	whose := "at " + it.At
	switch it.At {
	case startup.AtTimes:
		whose = "at its times: " + it.When
	case startup.AtCall:
		whose = "when it is called for: " + it.When
	}
	if it.Account != "" {
		whose += ", as " + it.Account
	}
	a.line("starts", a.wrapped(whose))
	if len(it.Command) > 0 {
		a.line("runs", a.wrapped(gate.CommandLine(it.Command...)))
	}
	file := a.shortHome(it.File)
	if it.Over != "" {
		file += ", in the place of " + it.Over
	}
	a.line("file", a.wrapped(file))
	if p := it.Package; p != nil {
		a.line("from", a.wrapped(fmt.Sprintf("package %s, as it was installed on %s", p.Name, p.Since.In(a.zone.Location()).Format("2 Jan 2006"))))
	}
	if it.Gate != "" {
		a.line("gate", it.Gate+" takes its place; to give it back: timegate startup release "+it.ID)
	}
	if it.Cost != nil {
		a.line("takes", a.wrapped(costText(it.Cost)))
	}
	if it.Source == startup.FromAutostart && (it.State == startup.Missing || it.State == startup.Broken) {
		a.line("remove", "it starts nothing; to take it away: timegate startup remove "+it.ID)
	}
}

// tellPackages tells with which package each item's file came, where one did.
func tellPackages(look *startup.Look, items []startup.Item, tell func(i int, p *startup.Package)) {
	var files []string
	for _, it := range items {
		files = append(files, cmp.Or(it.Over, it.File))
	}
	known := look.Packages(files)
	for i, file := range files {
		if p, ok := known[file]; ok {
			tell(i, &p)
		}
	}
}

// shortHome writes a path below the home folder with a tilde.
func (a *app) shortHome(path string) string {
	if dir, err := os.UserHomeDir(); err == nil && dir != "/" {
		if rest, ok := strings.CutPrefix(path, dir+"/"); ok {
			return "~/" + rest
		}
	}
	return path
}
