package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/home"
	"timegate/install"
	"timegate/startup"
)

func (a *app) startupSwitchCommand(on bool) *cli.Command {
	c := &cli.Command{
		Name: "off", Category: sayCommands, Usage: "let something start no more", ArgsUsage: "ITEM",
		Description: examples(`timegate startup off job-board`, `timegate startup off autostart:job-board --yes`) + "Nothing is deleted, and no file of a vendor is touched: the specification of each source has a way to say it. An entry of\n" +
			"the machine is switched off for you alone, as root for all. \"startup on\" gives every file back as it was.",
		Flags:  []cli.Flag{yesFlag()},
		Action: func(ctx context.Context, c *cli.Command) error { return a.startupSwitch(ctx, c, on) },
	}
	if on {
		c.Flags = append(c.Flags, laterFlag())
		c.Name, c.Usage, c.Description = "on", "let something start again", examples(`timegate startup on job-board`, `timegate startup on service:glue-warm`)
	}
	return c
}

// startupItem returns the item that a command names.
func (a *app) startupItem(ctx context.Context, c *cli.Command) (*startup.Look, startup.Item, error) {
	a.followClock(ctx)
	look, err := a.startupLook("")
	if err != nil {
		return nil, startup.Item{}, err
	}
	name, err := oneArgument(c, "the name of an item")
	if err != nil {
		return nil, startup.Item{}, err
	}
	items, err := a.startupItems(look)
	if err != nil {
		return nil, startup.Item{}, err
	}
	it, err := startup.Find(items, name)
	if err != nil {
		return nil, it, &exitError{exitUnknown, err}
	}
	return look, it, nil
}

func (a *app) startupSwitch(ctx context.Context, c *cli.Command, on bool) error {
	look, it, err := a.startupItem(ctx, c)
	if err != nil {
		return err
	}
	if it.State == startup.Broken {
		return usageError("%s starts nothing as it is: %s; put %s right first", it.ID, it.Why, it.File)
	}
	state := map[bool]string{true: "on", false: "off"}[on]
	if it.Enabled == on {
		fmt.Fprintf(a.err, "%s is %s already\n", it.ID, state)
		return nil
	}
	plan := gates.NewPlan(a.home)
	if it.Source == startup.FromGate {
		err = a.switchGate(c, plan, it.Name, on)
	} else {
		err = switchOthers(look, &it, on, plan)
	}
	if err != nil {
		return err
	}
	a.sayOthers(plan)
	if ok, err := a.confirm(c, fmt.Sprintf("Switch %s %s?", it.ID, state)); err != nil || !ok {
		return err
	}
	if on && it.Gate != "" {
		fmt.Fprintf(a.err, "%s starts it as well: %s\n", a.err.warn("the gate "+it.Gate), "to take only one of them back: timegate startup release "+it.ID)
	}
	if err := a.commit(plan, a.now()); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s is %s, from the next %s on\n", it.ID, state, it.From())
	return nil
}

// switchGate puts into a plan that a gate is on or off. What enable would refuse to switch
// on is refused here too.
func (a *app) switchGate(c *cli.Command, plan *gates.Plan, name string, on bool) error {
	f, err := a.file(name)
	if err != nil {
		return err
	}
	edit := gate.NewEdit([]byte(f.Text))
	edit.SetBool("enabled", on)
	data, err := edit.Bytes()
	if err != nil {
		return err
	}
	if plan.Put(name, data); !on {
		return nil
	}
	return a.refuse(c, []gates.File{gates.Parse(a.home, name, data, a.env())})
}

// switchOthers puts into a plan what switches an item that is no gate.
func switchOthers(look *startup.Look, it *startup.Item, on bool, plan *gates.Plan) error {
	changes, err := look.Switch(it, on)
	if err != nil {
		return switchError(err)
	}
	for _, change := range changes {
		plan.PutOther(change)
	}
	return nil
}

// switchError gives an error of the startup its exit status.
func switchError(err error) error {
	if why, ok := errors.AsType[*startup.SwitchError](err); ok {
		if why.Rights {
			return &control.PermissionError{Reason: why.Error()}
		}
		return usageError("%w", err)
	}
	return err
}

// sayOthers tells which files a plan touches besides those of gates.
func (a *app) sayOthers(plan *gates.Plan) {
	for _, o := range plan.Others() {
		what := "will be written"
		if o.After == nil {
			what = "will be taken away"
		}
		fmt.Fprintf(a.err, "%s %s\n", a.shortHome(o.Path), what)
	}
}

func (a *app) startupAdoptCommand() *cli.Command {
	return &cli.Command{
		Name: "adopt", Category: sayCommands, Usage: "make a gate of something that starts here, in its place", ArgsUsage: "ITEM",
		Description: examples(`timegate startup adopt job-board`, `timegate startup adopt job-board --delay 30s`, `timegate startup adopt job-board --name board --open "logon + 30s" --set needs.power=mains`) +
			"The gate starts the same command at the same moment, and has a history from then on; the options are those of \"add\".\n" +
			"The original is switched off in the same step, and so the keeper must begin by itself. \"startup release\" takes both back.",
		Flags: append([]cli.Flag{&cli.StringFlag{Name: "name", Usage: "the `NAME` of the gate; by default that of the item"},
			&cli.StringFlag{Name: "delay", Usage: "start it this `DURATION` later than it starts now, such as 30s"}},
			gateFlags("a moment to start at instead, as a `PHRASE`; may be given several times")...),
		Action: a.startupAdopt,
	}
}

func (a *app) startupAdopt(ctx context.Context, c *cli.Command) error {
	look, it, err := a.startupItem(ctx, c)
	if err != nil {
		return err
	}
	name := c.String("name")
	if name == "" {
		name = it.GateName()
	}
	if it.Gate != "" {
		return usageError("the gate %s takes the place of %s already", it.Gate, it.ID)
	}
	if it.Source != startup.FromGate {
		if err := a.freeName(name); err != nil {
			return fmt.Errorf("%w (or give another --name)", err)
		}
	}
	g, lost, err := it.Adopt(name, a.home.Scope)
	if err != nil {
		return switchError(err)
	}
	if a.home.Scope == gate.System && it.Source == startup.FromAutostart && c.String("user") == "" && !c.Bool("elevated") {
		return usageError("%s starts as who logs on, and a gate of the system scope has one account: say which with --user, or adopt it as that person", it.ID)
	}
	for _, text := range lost {
		fmt.Fprintf(a.err, "%s %s\n", a.err.warn("not taken over:"), text)
	}
	edit, err := a.adoptedEdit(c, g)
	if err != nil {
		return err
	}
	if !install.BeginsByItself(a.home, a.own) && !c.Bool("later") {
		return usageError("%s would not start any more after the next logon or boot: the keeper %s; or add --later, if that is yet to come", it.ID, a.notByItself())
	}
	plan := gates.NewPlan(a.home)
	if err := switchOthers(look, &it, false, plan); err != nil {
		return err
	}
	if err := a.writeEdit(ctx, c, name, g.Run, edit, plan.Others()...); err != nil {
		return err
	}
	return nil
}

// later puts openings off that wait for events.
func (a *app) later(opens []gate.Opening, delay string) ([]gate.Opening, error) {
	by, err := parseSpan("delay", delay)
	if err != nil {
		return nil, err
	}
	var out []gate.Opening
	for _, o := range opens {
		p, err := phrase.Parse(o.When)
		if err != nil {
			return nil, err
		}
		if p.Kind != phrase.Event {
			return nil, usageError("--delay is for what starts at an event, and this starts %s; say another moment with --open", p.Words())
		}
		p.Delay += by
		put, err := a.openingOf(p.String())
		if err != nil {
			return nil, err
		}
		put.Name, put.Enabled = o.Name, o.Enabled
		out = append(out, put)
	}
	return out, nil
}

// adoptedEdit gives the gate of an item what the options say.
func (a *app) adoptedEdit(c *cli.Command, g *gate.Gate) (*gate.Edit, error) {
	said, err := a.newGate(c, g.Name, g.Run)
	if err != nil {
		return nil, err
	}
	if c.IsSet("about") {
		g.About = said.About
	}
	if c.IsSet("user") || c.IsSet("elevated") {
		g.As.User, g.As.Elevated = said.As.User, said.As.Elevated
	}
	switch {
	case c.IsSet("open") && c.IsSet("delay"):
		return nil, usageError("--delay puts off when it starts now, and --open says another moment; write one of them")
	case c.IsSet("open"):
		g.Opens = said.Opens
	case c.IsSet("delay"):
		if g.Opens, err = a.later(g.Opens, c.String("delay")); err != nil {
			return nil, err
		}
	}
	if c.IsSet("measure") {
		g.Measure = said.Measure
	}
	if c.IsSet("folder") {
		g.Folder = said.Folder
	}
	g.Enabled, g.Limits.Longest = said.Enabled, said.Limits.Longest
	if c.IsSet("busy") {
		g.Rules.Busy = said.Rules.Busy
	}
	for i := range g.Opens {
		if g.Opens[i].Name == "" {
			g.Opens[i].Name = strconv.Itoa(i + 1)
		}
	}
	edit := gate.NewEdit(gate.Format(g))
	return edit, setKeys(c, edit)
}

func (a *app) startupReleaseCommand() *cli.Command {
	return &cli.Command{
		Name: "release", Category: sayCommands, Usage: "give back what a gate took the place of, and remove the gate", ArgsUsage: "ITEM",
		Description: examples(`timegate startup release job-board`, `timegate startup release autostart:job-board --yes`) + "ITEM may be the name of the gate. The history of the gate stays.",
		Flags:       []cli.Flag{yesFlag()},
		Action:      a.startupRelease,
	}
}

func (a *app) startupRelease(ctx context.Context, c *cli.Command) error {
	look, err := a.startupLook("")
	if err != nil {
		return err
	}
	name, err := oneArgument(c, "the name of an item")
	if err != nil {
		return err
	}
	items, err := a.startupItems(look)
	if err != nil {
		return err
	}
	files, err := a.files()
	if err != nil {
		return err
	}
	item, findErr := startup.Find(slices.DeleteFunc(slices.Clone(items), func(it startup.Item) bool { return it.Gate == "" }), name)
	i := slices.IndexFunc(files, func(f gates.File) bool {
		return f.Gate != nil && f.Gate.InsteadOf != "" && (f.Name == name || findErr == nil && f.Name == item.Gate || f.Gate.InsteadOf == name)
	})
	if i < 0 {
		return usageError("no gate takes the place of %q; see: timegate startup", name)
	}
	g := files[i].Gate
	plan := gates.NewPlan(a.home)
	plan.Remove(g.Name)
	if item, err = startup.Find(items, g.InsteadOf); err != nil {
		fmt.Fprintf(a.err, "%s %s is not there any more; only the gate is removed\n", a.err.warn("note:"), g.InsteadOf)
	} else if err := switchOthers(look, &item, true, plan); err != nil {
		return err
	}
	a.sayOthers(plan)
	if ok, err := a.confirm(c, fmt.Sprintf("Remove the gate %s and give %s back?", g.Name, g.InsteadOf)); err != nil || !ok {
		return err
	}
	if err := a.commit(plan, a.now()); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s starts by itself again; the gate %s is removed, and lies in %s\n", g.InsteadOf, g.Name, a.shortHome(gates.RemovedFile(a.home, g.Name, a.now())))
	return nil
}

func (a *app) startupRemoveCommand() *cli.Command {
	return &cli.Command{
		Name: "remove", Category: sayCommands, Usage: "take away an entry of the desktop that starts nothing", ArgsUsage: "ITEM",
		Description: examples(`timegate startup remove job-board`, `timegate startup remove autostart:job-board --yes`) +
			"Only an entry whose program is not there, or that cannot be read, and that no package owns. A copy is kept with the\n" +
			"gates that were removed; \"timegate undo\" puts the entry back.",
		Flags:  []cli.Flag{yesFlag()},
		Action: a.startupRemove,
	}
}

func (a *app) startupRemove(ctx context.Context, c *cli.Command) error {
	look, it, err := a.startupItem(ctx, c)
	if err != nil {
		return err
	}
	changes, err := look.Remove(&it)
	if err != nil {
		return switchError(err)
	}
	plan := gates.NewPlan(a.home)
	kept := ""
	for _, change := range changes {
		plan.PutOther(change)
		was, err := home.StateOf(change.Path, home.ScriptSize)
		if err != nil {
			return err
		}
		if was != nil && was.Link == "" {
			kept = strings.TrimSuffix(gates.RemovedFile(a.home, it.GateName(), a.now()), gates.Suffix) + filepath.Ext(change.Path)
			plan.PutOther(gates.OtherChange{Path: kept, After: &home.State{Text: was.Text}})
		}
	}
	fmt.Fprintf(a.err, "%s: %s\n%s will be taken away\n", it.ID, it.Why, a.shortHome(it.File))
	if ok, err := a.confirm(c, fmt.Sprintf("Remove %s?", it.ID)); err != nil || !ok {
		return err
	}
	if err := a.commit(plan, a.now()); err != nil {
		return err
	}
	text := it.ID + " is removed; to put it back: timegate undo"
	if kept != "" {
		text += "; a copy lies in " + a.shortHome(kept)
	}
	fmt.Fprintln(a.err, text)
	return nil
}
