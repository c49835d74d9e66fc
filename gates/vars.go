package gates

import (
	"fmt"
	"maps"
	"path/filepath"
	"strings"

	"timegate/core/gate"
	"timegate/home"
	"timegate/inspect"
)

// varsReader returns the values that names have on this host.
type varsReader func() (gate.Vars, error)

// varsOf reads the values of names, as a plan has them that is being committed.
func varsOf(h home.Home, pending *kept, host string) (gate.Vars, error) {
	path := h.VarsFile()
	if !pending.Done {
		for _, o := range pending.Others {
			switch {
			case o.Path != path:
			case o.After == nil:
				return gate.Vars{}, nil
			default:
				return home.ParseVars(path, o.After.Text, host)
			}
		}
	}
	values, err := home.ReadVars(path, host)
	if err == nil && len(values) > 0 && h.Scope == gate.System {
		for _, found := range inspect.WritableByOthers(path) {
			return nil, &home.Error{Path: path, Reason: strings.Replace(found.Message, "the gate file", "the file of values", 1), Remedy: found.Remedy}
		}
	}
	return values, err
}

// valuesFor returns the values for one gate's file, the builtin ones with them.
func valuesFor(h home.Home, data []byte, host string, vars varsReader) (gate.Vars, error) {
	values, err := vars()
	if err != nil {
		return nil, err
	}
	values = maps.Clone(values)
	values["host"], values["scripts"] = host, filepath.Dir(h.KeptScript("x"))
	if strings.Contains(string(data), "{home}") {
		values["home"] = home.FolderOf(gate.AccountIn(data))
	}
	return values, nil
}

// Expand puts the values of a host in the places of the names that a text says, as in a gate
// file. A name without a value is an error.
func Expand(h home.Home, text, host string) (*gate.Expanded, error) {
	values, err := valuesFor(h, []byte(text), host, func() (gate.Vars, error) { return varsOf(h, &kept{}, host) })
	if err != nil {
		return nil, err
	}
	x := values.Expand([]byte(text))
	if name := x.Missing(); name != "" {
		return nil, fmt.Errorf("%s: nothing is called {%s} here; give it a value in %s", text, name, h.VarsFile())
	}
	return x, nil
}
