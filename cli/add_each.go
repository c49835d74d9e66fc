package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/gates"
	"timegate/inspect"
)

// addEach adds a gate for each program and script of a folder, with the same options: all of
// them, or none.
func (a *app) addEach(ctx context.Context, c *cli.Command, folder string) error {
	for _, other := range []string{"program", "copy-script", "line", "now", "against"} {
		if c.IsSet(other) {
			return usageError("--each adds several gates, and --%s is for one; leave one of them out", other)
		}
	}
	if c.Args().Len() > 0 {
		return usageError("--each takes names and commands from the folder, and %q is one more; leave it out", c.Args().First())
	}
	if a.asks() && len(c.StringSlice("open")) == 0 {
		return usageError("say when they start: --open PHRASE")
	}
	a.followClock(ctx)
	paths, left, err := startable(folder)
	if err != nil {
		return err
	}
	for _, text := range left {
		fmt.Fprintln(a.err, a.err.warn("left out:"), text)
	}
	if len(paths) == 0 {
		return usageError("there is nothing in %s that can be started", folder)
	}
	plan := gates.NewPlan(a.home)
	var files []gates.File
	taken := map[string]string{}
	for _, path := range paths {
		base := filepath.Base(path)
		name := gate.NearName(strings.TrimSuffix(base, filepath.Ext(base)))
		if name == "" {
			return usageError("%s gives no name for a gate; add it alone: timegate add NAME -- %s", base, gate.CommandLine(path))
		}
		if before, twice := taken[name]; twice {
			return usageError("%s and %s would both be called %s; add one of them alone", before, base, name)
		}
		taken[name] = base
		if err := a.freeName(name); err != nil {
			return err
		}
		g, err := a.newGate(c, name, []string{path})
		if err != nil {
			return err
		}
		a.giveDesktop(c, g)
		edit := gate.NewEdit(gate.Format(g))
		if err := setKeys(c, edit); err != nil {
			return err
		}
		data, err := edit.Bytes()
		if err != nil {
			return err
		}
		f := gates.Parse(a.home, name, data, a.env())
		if f.Gate == nil {
			return f.Findings.Errors()
		}
		a.summary(f.Gate, calendar.InstantOf(a.now()))
		files = append(files, f)
		plan.Put(name, data)
	}
	if err := a.refuse(c, files); err != nil {
		return err
	}
	if ok, err := a.confirmOr(c, fmt.Sprintf("Write %s to %s?", plural(len(files), "gate"), a.home.Gates), true); err != nil || !ok {
		return err
	}
	if err := a.commit(plan, a.now()); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s %s to %s; to take them back: timegate undo\n", a.err.good("written"), plural(len(files), "gate"), a.home.Gates)
	a.sayKeeper()
	return nil
}

// startable lists the programs and scripts that lie in a folder, in order, and what looks
// like a script and cannot be started, with why.
func startable(folder string) (paths, left []string, err error) {
	abs, err := filepath.Abs(folder)
	if err != nil {
		return nil, nil, err
	}
	entries, err := os.ReadDir(abs)
	if err != nil {
		return nil, nil, usageError("--each: %w", cause(err))
	}
	for _, e := range entries {
		path := filepath.Join(abs, e.Name())
		info, err := os.Stat(path)
		if err != nil || !info.Mode().IsRegular() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		kind, err := inspect.KindOf(path)
		switch {
		case err == nil && kind.Problem == "":
			paths = append(paths, path)
		case err == nil && (kind.Script != "" || filepath.Ext(path) != ""):
			left = append(left, kind.Problem)
		}
	}
	return paths, left, nil
}
