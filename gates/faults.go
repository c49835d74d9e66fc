package gates

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/home"
)

// Faults returns what is wrong with the texts of a source for hosts that it is to come to,
// wherever that is: gates that cannot be read, and circles of them. What only a machine knows,
// such as whether a program is there or who has an account, is not looked at; neither are texts
// with names whose values it may have of its own. What differs among hosts is told of the first. Where no host is known
// yet, the texts are looked at for those that have values of their own in the source.
// The error is a [*home.SettingsError] for values of names that cannot be read.
func (s *Source) Faults(hosts []string, env phrase.Env) (gate.Findings, error) {
	vars, brings := s.files[varsName]
	c := &faultSearch{source: s, env: env, ownNames: !brings || len(hosts) == 0, seen: map[string]*gate.Gate{}}
	c.env.DaysIn = func(string) ([]calendar.Item, error) { return nil, nil }
	if len(hosts) == 0 { // then those that have values of their own
		hosts = append(home.VarsHosts(vars.data), "")
	}
	circled := false
	for _, host := range hosts {
		values := gate.Vars{}
		if brings {
			var err error
			if values, err = home.ParseVars(filepath.Join(s.Dir, varsName), vars.data, host); err != nil {
				return nil, err
			}
		}
		all := c.host(host, values)
		if !circled {
			links := gate.Links(all).Errors()
			circled = len(links) > 0
			for _, f := range links {
				f.File = s.Path(f.Gate)
				c.found = append(c.found, f)
			}
		}
	}
	return c.found, nil
}

// faultSearch looks for what is wrong with texts, once with each.
type faultSearch struct {
	source   *Source
	env      phrase.Env
	ownNames bool                  // hosts may have values of their own for names
	seen     map[string]*gate.Gate // by name and text; nil for one that is wrong
	found    gate.Findings
}

// host looks at the gates as a host would have them, and returns those that can be read.
func (c *faultSearch) host(host string, values gate.Vars) []*gate.Gate {
	// Of the values that each has for itself only the shape matters.
	values = maps.Clone(values)
	values["host"], values["scripts"] = "workstation", "/scripts"
	c.env.Host = host
	var all []*gate.Gate
	texts := c.source.Gates()
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		text := texts[name]
		var from *gate.Expanded
		if gate.HasNames(text) {
			values["home"] = "/home/" + gate.AccountIn(text)
			from = values.Expand(text)
			if c.ownNames && from.Missing() != "" {
				continue
			}
			text = from.Text
		}
		key := name + "\n" + string(text)
		g, seen := c.seen[key]
		if !seen {
			var found gate.Findings
			g, found = c.read(name, text, from)
			if len(found) > 0 && from != nil && host != "" {
				for i := range found {
					found[i].Message = fmt.Sprintf("on %s: %s", host, found[i].Message)
				}
			}
			c.seen[key], c.found = g, append(c.found, found...)
		}
		if g != nil {
			all = append(all, g)
		}
	}
	return all
}

// read reads a text as it would be read in the scope in which less is wrong with it: which one
// the workstations keep it in is theirs to say.
func (c *faultSearch) read(name string, text []byte, from *gate.Expanded) (*gate.Gate, gate.Findings) {
	var least gate.Findings
	for _, scope := range []gate.Scope{gate.System, gate.User} {
		g, found := gate.Read(name, c.source.Path(name), text, gate.Options{Scope: scope, Env: c.env, From: from})
		if g != nil {
			return g, nil
		}
		if errs := found.Errors(); least == nil || len(errs) < len(least) {
			least = errs
		}
	}
	return nil, least
}
