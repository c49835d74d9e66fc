package cli

import (
	"context"
	"fmt"
	"os"
	"slices"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/gates"
)

func (a *app) renameCommand() *cli.Command {
	return &cli.Command{
		Name: "rename", Category: sayCommands, Usage: "give a gate another name", ArgsUsage: "OLD NEW",
		Description: examples(`timegate rename stock-count shelf-count`, `timegate rename stock-count shelf-count --yes`) +
			"Its history goes along, and running programs go on. Gates that open when it ends, fails or starts are changed as well.",
		Flags:  []cli.Flag{yesFlag()},
		Action: a.rename,
	}
}

func (a *app) rename(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) != 2 {
		return usageError("write the old name and the new one: timegate rename %s", c.ArgsUsage)
	}
	old, name := args[0], args[1]
	f, err := a.file(old)
	if err != nil {
		return err
	}
	if f.Gate == nil {
		return f.Findings.Errors()
	}
	if err := a.freeName(name); err != nil {
		return err
	}
	data, put, err := a.renamed(f, name)
	if err != nil {
		return err
	}
	plan := gates.NewPlan(a.home)
	plan.First(put)
	plan.Put(name, data)
	plan.Remove(old)
	others, err := a.followers(plan, old, name)
	if err != nil {
		return err
	}
	for _, other := range others {
		fmt.Fprintf(a.out, "%s opens by %s, and is changed with it\n", other, old)
	}
	if ok, err := a.confirm(c, fmt.Sprintf("Rename %s to %s?", old, name)); err != nil || !ok {
		return err
	}
	if err := a.commit(plan, a.now()); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s is now %s: %s\n", old, a.err.good(name), a.home.GateFile(name))
	return nil
}

// freeName refuses what cannot be the name of a new gate.
func (a *app) freeName(name string) error {
	if !gate.ValidName(name) {
		remedy := gate.NameRule
		if near := gate.NearName(name); near != "" {
			remedy = fmt.Sprintf("write %s: %s", near, gate.NameRule)
		}
		return usageError("%q cannot be a gate's name; %s", name, remedy)
	}
	path := a.home.GateFile(name)
	if _, err := os.Lstat(path); err == nil {
		return usageError("there is a gate %q already: %s; choose another name, or change that gate", name, path)
	}
	return nil
}

// renamed returns a gate's file under its new name, and what puts its script in
// place.
func (a *app) renamed(f gates.File, name string) (data []byte, put func() error, err error) {
	edit := gate.NewEdit([]byte(f.Text))
	was := slices.DeleteFunc(append(slices.Clone(f.Gate.Was), f.Name), func(s string) bool { return s == name })
	edit.SetTexts("was", was)
	put = func() error { return nil }
	script := a.home.KeptScript(f.Name)
	if at := slices.Index(f.Gate.Run, script); at >= 0 {
		run := slices.Clone(f.Gate.Run)
		run[at] = a.home.KeptScript(name)
		edit.SetTexts("run", run)
		put = func() error {
			if err := copyKept(script, a.home.KeptScript(name)); err != nil {
				return err
			}
			return a.home.NoteScriptSource(name, a.home.ScriptSource(f.Name))
		}
	}
	data, err = edit.Bytes()
	return data, put, err
}

// copyKept gives a script that is kept a second name; the first is taken away when
// no gate uses it.
func copyKept(from, to string) error {
	os.Remove(to)
	if err := os.Link(from, to); err != nil {
		return fmt.Errorf("the script cannot be renamed: %w", err)
	}
	return nil
}

// followers changes the gates that open by another one to its new name, and
// returns their names.
func (a *app) followers(plan *gates.Plan, old, name string) ([]string, error) {
	files, err := a.files()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, f := range files {
		if f.Gate == nil {
			continue
		}
		edit, follows := gate.NewEdit([]byte(f.Text)), false
		for _, o := range f.Gate.Opens {
			if q := *o.Plan.Phrase; q.Event.Name == old && q.Event.OfGate() {
				q.Event.Name, follows = name, true
				edit.SetOpening(o.Name, q.String())
			}
		}
		if !follows {
			continue
		}
		data, err := edit.Bytes()
		if err != nil {
			return nil, err
		}
		plan.Put(f.Name, data)
		out = append(out, f.Name)
	}
	return out, nil
}
