package cli

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"
	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/gates"
	"timegate/home"
	"timegate/inspect"
)

func (a *app) applyCommand() *cli.Command {
	return &cli.Command{
		Name: "apply", Category: machineCommands, Usage: "bring a folder of gates onto this workstation", ArgsUsage: "FOLDER",
		Description: examples(`timegate apply ~/larkspur-gates --dry-run`, `timegate apply /mnt/share/gates --prune --yes`, `timegate apply ~/larkspur-gates --signed larkspur.pub`, `timegate apply --undo`) +
			"The gate files lie in FOLDER or in its folder gates, values of names in vars.toml, scripts in its folder scripts, which a\n" +
			"gate file calls {scripts}. All of it comes into force together, or nothing does; again it changes nothing. In the system\n" +
			"scope only what root alone can change is taken, or what is signed.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "dry-run", Usage: "only show what would change"},
			&cli.BoolFlag{Name: "prune", Usage: "remove gates that were brought before and are no longer in the folder"},
			&cli.StringFlag{Name: "signed", Usage: "take it only if the holder of the public key in `FILE` has signed it", TakesFile: true},
			&cli.BoolFlag{Name: "undo", Usage: "take the last apply back"},
			againstFlag(), laterFlag(), yesFlag(),
		},
		Before: a.mayChange,
		Action: a.apply,
	}
}

// gateChange is what an apply does to a gate.
type gateChange struct {
	Gate    string      `json:"gate"`
	Change  string      `json:"change"` // added, changed or removed
	Keys    []keyChange `json:"keys"`   // what the change means
	Text    string      `json:"text"`   // a unified diff
	Before  []time.Time `json:"due_before"`
	After   []time.Time `json:"due_after"`
	Dormant bool        `json:"dormant"` // it is for other hosts
}

// keyChange is a key that has another value.
type keyChange struct {
	Key    string `json:"key"`
	Before string `json:"before"` // as a file would have it; "" is not said
	After  string `json:"after"`
}

func (a *app) apply(ctx context.Context, c *cli.Command) error {
	a.followClock(ctx)
	if c.Bool("undo") {
		return a.applyUndo(c)
	}
	dir, err := oneArgument(c, "the folder")
	if err != nil {
		return err
	}
	source, err := a.readSource(dir, c.String("signed"))
	if err != nil {
		return err
	}
	if err := source.CheckVars(a.host); err != nil {
		return usageError("%w", err)
	}
	before, err := a.files()
	if err != nil {
		return err
	}
	plan, err := source.Plan(a.home, c.Bool("prune"))
	if err != nil {
		return err
	}
	after, err := plan.Files(a.env())
	if err != nil {
		return err
	}
	changes := a.gateChanges(plan, before, after)
	if a.json && c.Bool("dry-run") {
		return a.out.printJSON(changes)
	}
	a.printChanges(plan, changes, c.Bool("dry-run"))
	if gone, err := source.Gone(a.home); err == nil && len(gone) > 0 && !c.Bool("prune") {
		fmt.Fprintf(a.err, "%s not in the folder any more: %s; to remove them: --prune\n", a.err.warn("left:"), strings.Join(gone, ", "))
	}
	if len(plan.Changes())+len(plan.Others()) == 0 {
		fmt.Fprintf(a.err, "nothing to change: everything in %s is in force (%s)\n", a.shortHome(source.Dir), plural(len(source.Gates()), "gate"))
		return nil
	}
	if err := a.refuse(c, changedFiles(source, changes, after), copiedScripts(plan)...); err != nil {
		return err
	}
	if err := a.showAgainst(ctx, c, after); err != nil {
		return err
	}
	if c.Bool("dry-run") {
		fmt.Fprintln(a.err, "nothing was written: --dry-run")
		return nil
	}
	if ok, err := a.confirm(c, fmt.Sprintf("Bring %s here?", countChanges(changes))); err != nil || !ok {
		return err
	}
	if err := a.commit(plan, a.now()); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s %s from %s; to take it back: timegate apply --undo\n", a.err.good("written"), countChanges(changes), a.shortHome(source.Dir))
	a.sayKeeper()
	return nil
}

// readSource reads the folder, and checks whether it is to be trusted.
func (a *app) readSource(dir, keyFile string) (*gates.Source, error) {
	wrong := func(err error) error {
		if fault := (*gates.SourceError)(nil); errors.As(err, &fault) {
			return usageError("%w", err)
		}
		return err
	}
	source, err := gates.ReadSource(dir, a.home.Scope == gate.System && keyFile == "")
	if err != nil || keyFile == "" {
		return source, wrong(err)
	}
	if a.home.Scope == gate.System {
		abs, err := filepath.Abs(keyFile)
		if err != nil {
			return nil, err
		}
		for _, found := range inspect.WritableByOthers(abs) {
			return nil, usageError("--signed: %s; %s", strings.Replace(found.Message, "the gate file", "the key", 1), found.Remedy)
		}
	}
	text, err := home.ReadPlain(keyFile, mostKey)
	if err != nil {
		return nil, usageError("--signed: %s cannot be read: %w", keyFile, cause(err))
	}
	key, err := gates.PublicKey(text)
	if err != nil {
		return nil, usageError("--signed: %s: %w", keyFile, err)
	}
	return source, wrong(source.Verify(key))
}

// gateChanges tells what a plan does to each gate, by what the gates are before and after.
func (a *app) gateChanges(plan *gates.Plan, before, after []gates.File) []gateChange {
	find := func(files []gates.File, name string) *gates.File {
		if i := slices.IndexFunc(files, func(f gates.File) bool { return f.Name == name }); i >= 0 {
			return &files[i]
		}
		return nil
	}
	out := []gateChange{}
	touched := map[string]bool{}
	for _, ch := range plan.Changes() {
		touched[ch.Name] = true
	}
	for _, f := range after { // names have other values
		if old := find(before, f.Name); old != nil && old.Whole != f.Whole {
			touched[f.Name] = true
		}
	}
	for name := range touched {
		old, now := find(before, name), find(after, name)
		x := gateChange{Gate: name, Change: "changed", Keys: []keyChange{}, Before: a.nextDues(old), After: a.nextDues(now)}
		switch {
		case old == nil:
			x.Change = "added"
		case now == nil:
			x.Change = "removed"
		}
		x.Dormant = now != nil && now.Gate != nil && !now.Gate.RunsOn(a.host)
		if now == nil || now.Gate != nil { // what is wrong means nothing
			x.Keys = append(x.Keys, keyChanges(old, now)...)
		}
		x.Text = udiff.Unified(name+" before", name+" after", wholeText(old), wholeText(now))
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b gateChange) int { return strings.Compare(a.Gate, b.Gate) })
	return out
}

func wholeText(f *gates.File) string {
	if f == nil {
		return ""
	}
	return f.Text
}

// keyChanges lists the keys that have another value.
func keyChanges(old, now *gates.File) []keyChange {
	var out []keyChange
	usual := gate.Default("")
	was, is := usual, usual
	if old != nil && old.Gate != nil {
		was = old.Gate
	}
	if now != nil && now.Gate != nil {
		is = now.Gate
	}
	for i := range gate.Keys {
		k := gate.Keys[i].Name
		if a, b := was.Setting(k), is.Setting(k); a != b {
			out = append(out, keyChange{k, a, b})
		}
	}
	return out
}

// nextDues are the next moments of a gate.
func (a *app) nextDues(f *gates.File) []time.Time {
	out := []time.Time{}
	if f == nil || f.Gate == nil {
		return out
	}
	const count = 3
	for _, d := range a.dues(f.Gate, forecast.Span{From: calendar.InstantOf(a.now()), To: calendar.MaxInstant, Count: count}) {
		out = append(out, d.Due)
	}
	return out
}

// changedFiles are the files of gates that a plan adds or changes, by where they lie in
// the source.
func changedFiles(source *gates.Source, changes []gateChange, after []gates.File) []gates.File {
	touched := map[string]bool{}
	for _, x := range changes {
		touched[x.Gate] = x.Change != "removed"
	}
	out := slices.DeleteFunc(slices.Clone(after), func(f gates.File) bool { return !touched[f.Name] })
	for i := range out {
		out[i] = atSource(source, out[i])
	}
	return out
}

// atSource returns a file with the place where it lies in the source.
func atSource(source *gates.Source, f gates.File) gates.File {
	if path := source.Path(f.Name); path != "" {
		f.Path, f.Findings = path, slices.Clone(f.Findings)
		for i := range f.Findings {
			f.Findings[i].File = path
		}
	}
	return f
}

// copiedScripts are the paths of scripts that a plan is about to put in place.
func copiedScripts(plan *gates.Plan) []string {
	var out []string
	for _, o := range plan.Others() {
		if o.After != nil {
			out = append(out, o.Path)
		}
	}
	return out
}

// countChanges says how many gates are added, changed and removed.
func countChanges(changes []gateChange) string {
	count := map[string]int{}
	for _, x := range changes {
		count[x.Change]++
	}
	var list []string
	for _, what := range []string{"added", "changed", "removed"} {
		if n := count[what]; n > 0 {
			list = append(list, fmt.Sprintf("%d %s", n, what))
		}
	}
	if len(list) == 0 {
		return "what goes with the gates"
	}
	return plural(len(changes), "gate") + " (" + strings.Join(list, ", ") + ")"
}

// mostTold is how many gates are told in full.
const mostTold = 20

// printChanges tells what a plan does: what each change means, and in its text.
func (a *app) printChanges(plan *gates.Plan, changes []gateChange, full bool) {
	for i, x := range changes {
		if i == mostTold && !full {
			fmt.Fprintf(a.out, "and %d more; --dry-run shows all\n", len(changes)-i)
			break
		}
		a.printChange(&x)
	}
	for _, o := range plan.Others() {
		if plan.Noted(o.Path) {
			continue
		}
		what := "written"
		if o.After == nil {
			what = "taken away"
		}
		fmt.Fprintf(a.out, "%s  %s\n", a.out.head(a.shortHome(o.Path)), what)
	}
}

func (a *app) printChange(x *gateChange) {
	what := map[string]string{"added": a.out.good("added"), "changed": a.out.warn("changed"), "removed": a.out.bad("removed")}[x.Change]
	if x.Dormant {
		what += ", dormant here"
	}
	fmt.Fprintf(a.out, "%s  %s\n", a.out.head(x.Gate), what)
	for _, k := range x.Keys {
		text := k.Before + " → " + k.After
		if a.out.ascii {
			text = k.Before + " -> " + k.After
		}
		switch x.Change {
		case "added":
			text = k.After
		case "removed":
			text = k.Before
		}
		fmt.Fprintf(a.out, "  %s: %s\n", k.Key, oneLine(text))
	}
	if was, is := a.duesText(x.Before), a.duesText(x.After); was != is {
		fmt.Fprintf(a.out, "  next: %s (before: %s)\n", is, was)
	} else {
		fmt.Fprintf(a.out, "  next: %s\n", is)
	}
	if x.Change != "changed" {
		return
	}
	for line := range strings.Lines(x.Text) {
		line = strings.TrimRight(line, "\n")
		switch {
		case strings.HasPrefix(line, "+"):
			line = a.out.good(line)
		case strings.HasPrefix(line, "-"):
			line = a.out.bad(line)
		default:
			line = a.out.faint(line)
		}
		fmt.Fprintln(a.out, "    "+line)
	}
}

// oneLine writes a value that has several lines in one.
func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

func (a *app) duesText(dues []time.Time) string {
	if len(dues) == 0 {
		return "at no set time"
	}
	var list []string
	for _, t := range dues {
		list = append(list, a.local(t))
	}
	return strings.Join(list, ", ")
}

// applyUndo takes the last change back, if it was an apply.
func (a *app) applyUndo(c *cli.Command) error {
	if c.Args().Present() {
		return usageError("--undo takes no folder: it takes the last apply back")
	}
	plan, err := gates.Undo(a.home)
	if err == nil && !plan.FromSource() {
		return usageError("the last change was no apply; to take that back: timegate undo")
	}
	return a.undoPlan(c, plan, err)
}

func (a *app) signCommand() *cli.Command {
	return &cli.Command{
		Name: "sign", Category: machineCommands, Usage: "sign a folder of gates, so that workstations take it", ArgsUsage: "FOLDER --key FILE",
		Description: examples(`timegate sign --new-key larkspur.key`, `timegate sign ~/larkspur-gates --key larkspur.key`) +
			"The signature (Ed25519) covers the gate files, vars.toml and the scripts, as they are now. Keep the key to yourself, and\n" +
			"give workstations the public one beside it (.pub), for \"timegate apply FOLDER --signed FILE.pub\".",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "key", Usage: "the key in `FILE` signs", TakesFile: true},
			&cli.StringFlag{Name: "new-key", Usage: "make a key, and write it to `FILE` and its public part to FILE.pub", TakesFile: true},
		},
		Action: a.sign,
	}
}

func (a *app) sign(_ context.Context, c *cli.Command) error {
	if file := c.String("new-key"); file != "" {
		if err := noArguments(c); err != nil {
			return err
		}
		return a.newKey(file)
	}
	dir, err := oneArgument(c, "the folder")
	if err != nil {
		return err
	}
	file := c.String("key")
	if file == "" {
		return usageError("say which key signs: --key FILE; to make one: timegate sign --new-key FILE")
	}
	key, err := signingKey(file)
	if err != nil {
		return err
	}
	source, err := gates.ReadSource(dir, false)
	if err != nil {
		return usageError("%w", err)
	}
	if len(source.Gates()) == 0 {
		return usageError("there is no gate file in %s", source.Dir)
	}
	if err := source.Sign(key); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s %s in %s\n", a.err.good("signed"), plural(len(source.Gates()), "gate"), a.shortHome(source.Dir))
	return nil
}

// mostKey bounds how much of a file with a key is read, in bytes.
const mostKey = 64 << 10

// signingKey reads a key that signs.
func signingKey(file string) (ed25519.PrivateKey, error) {
	text, err := home.ReadPlain(file, mostKey)
	if err != nil {
		return nil, usageError("--key: %s cannot be read: %w", file, cause(err))
	}
	key, err := gates.PrivateKey(text)
	if err != nil {
		return nil, usageError("--key: %s: %w", file, err)
	}
	return key, nil
}

// newKey makes a key, and never writes over one that is there.
func (a *app) newKey(file string) error {
	for _, path := range []string{file, file + ".pub"} {
		if _, err := os.Lstat(path); err == nil {
			return usageError("%s is there already; choose another name", path)
		}
	}
	private, public, err := gates.NewKey()
	if err != nil {
		return err
	}
	if err := writeNamed(file, private, 0o600); err != nil {
		return err
	}
	if err := writeNamed(file+".pub", public, 0o644); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s %s, to be kept secret, and %s, for workstations\n", a.err.good("written"), file, file+".pub")
	return nil
}
