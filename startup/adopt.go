package startup

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/shlex"

	"timegate/core/gate"
)

// kept are the keys of a service that a gate has of its own, or that are of no matter
// to it. What another one asks for is lost.
var kept = strings.Fields("Type ExecStart User Group WorkingDirectory Environment Nice IOSchedulingClass RemainAfterExit StandardOutput StandardError SyslogIdentifier TimeoutStopSec KillMode")

// Adopt returns a gate that starts what an item starts, and which keys of the item a
// gate cannot keep. Its error is a [*SwitchError].
func (it *Item) Adopt(name string, scope gate.Scope) (g *gate.Gate, lost []string, err error) {
	no := func(problem, remedy string) (*gate.Gate, []string, error) {
		return nil, nil, &SwitchError{Problem: it.ID + " " + problem, Remedy: remedy}
	}
	switch {
	case it.Source == FromGate:
		return no("is a gate already", "see: timegate show "+it.Name)
	case it.Source == FromScript:
		return no("is a script that starts and stops a service by itself", `write a gate of what it runs: timegate add NAME --open boot -- PROGRAM`)
	case slices.Contains([]Source{FromBus, FromOwnBus, FromProfile}, it.Source):
		return no("is only looked at here", `write a gate of what it starts: timegate add NAME --open "PHRASE" -- `+cmp.Or(gate.CommandLine(it.Command...), "PROGRAM"))
	case triggers["."+strings.TrimPrefix(string(it.Source), "own-")].at != "":
		return no("starts by what its unit says ("+it.When+"), and not at boot or logon", `write that as a phrase: timegate add NAME --open "PHRASE" -- `+gate.CommandLine(it.Command...))
	case it.State == Broken || len(it.Command) == 0:
		return no("cannot be started: "+cmp.Or(it.Why, "it names no program"), "nothing is lost by leaving it")
	case it.Source == FromService && scope != gate.System:
		return no("belongs to the machine", "adopt it as root, in the system scope")
	case it.Source == FromOwnService && scope != gate.User:
		return no("belongs to a person", "adopt it as that person")
	}
	g = gate.Default(name)
	g.About, g.Run, g.Folder, g.InsteadOf = it.About, it.Command, it.folder, it.ID
	if g.About == "" && it.Name != name {
		g.About = it.Name
	}
	g.Opens = []gate.Opening{{Name: "1", When: it.At, Enabled: true}}
	if it.Source == FromAutostart {
		g.As.Desktop = true
		if it.terminal {
			g.As.Window = gate.WindowTerminal
		}
		return g, nil, nil
	}
	lost, err = it.adoptService(g)
	return g, lost, err
}

// adoptService takes over what a service says.
func (it *Item) adoptService(g *gate.Gate) (lost []string, err error) {
	u := it.unit
	no := func(problem string) ([]string, error) {
		return nil, &SwitchError{Problem: it.ID + " " + problem, Remedy: "leave it where it is"}
	}
	commands, err := u.commands("ExecStart")
	switch kind := u.value("Service", "Type"); {
	case err != nil:
		return no("cannot be started: " + err.Error())
	case !slices.Contains([]string{"", "simple", "exec", "oneshot", "idle"}, kind):
		return no(fmt.Sprintf("is a service of type %s: it works together with the init system", kind))
	case len(commands) > 1:
		return no(fmt.Sprintf("runs %d programs in turn, and a gate runs one", len(commands)))
	}
	for _, key := range []string{"ExecStartPre", "ExecStartPost", "ExecStop", "EnvironmentFile", "Sockets"} {
		if len(u.values("Service", key)) > 0 {
			return no("wants " + key + ", which a gate does not have")
		}
	}
	if slices.ContainsFunc(it.Command, func(a string) bool { return strings.Contains(a, "$") || strings.Contains(a, "%") }) {
		return no("has variables in its command")
	}
	if user := u.value("Service", "User"); user != "" {
		g.As.User = user
	} else {
		g.As.Elevated = it.Source == FromService
	}
	if dir := strings.TrimPrefix(u.value("Service", "WorkingDirectory"), "-"); filepath.IsAbs(dir) || dir == "~" {
		g.Folder = dir
	}
	for _, line := range u.values("Service", "Environment") {
		words, err := shlex.Split(line)
		if err != nil {
			return no("has an environment that cannot be parted")
		}
		for _, w := range words {
			if key, value, ok := strings.Cut(w, "="); ok {
				if g.As.Env == nil {
					g.As.Env = map[string]string{}
				}
				g.As.Env[key] = value
			}
		}
	}
	if nice := u.value("Service", "Nice"); nice != "" && !strings.HasPrefix(nice, "-") && nice != "0" {
		g.As.Priority = "low"
	}
	for _, o := range u.options {
		if text := o.key + "=" + o.value; o.section == "Service" && o.value != "" && !slices.Contains(kept, o.key) && !slices.Contains(lost, text) {
			lost = append(lost, text)
		}
	}
	return lost, nil
}

// GateName makes a name for a gate out of that of an item.
func (it *Item) GateName() string {
	_, name, _ := strings.Cut(it.ID, ":")
	if i := strings.LastIndexByte(name, '.'); i >= 0 && strings.Count(name, ".") > 1 { // org.larkspur.JobBoard
		name = name[i+1:]
	}
	out := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, strings.ToLower(name))
	out = strings.Trim(out, "-")
	const longest = 63
	return cmp.Or(strings.Trim(out[:min(len(out), longest)], "-"), "adopted")
}
