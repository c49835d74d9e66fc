package estate

import (
	"cmp"
	"crypto/ed25519"
	"fmt"
	"maps"
	"slices"
	"time"
	"timegate/core/estate"
)

// Hosts returns the workstations, by name.
func (d *Desk) Hosts() []Host {
	d.mu.Lock()
	defer d.mu.Unlock()
	var out []Host
	for _, name := range slices.Sorted(maps.Keys(d.hosts)) {
		out = append(out, *d.hosts[name])
	}
	return out
}

// in returns what is seen of the workstations that were let in and that a bundle is for.
func (d *Desk) in(m *estate.Manifest) (seen []estate.Seen, names []string) {
	for _, h := range d.Hosts() {
		holder := estate.Holder{Shop: m.Shop, Host: h.Host, Groups: h.Groups, Number: m.Number - 1}
		if h.In && m.Refused(holder, m.Made) == nil {
			seen, names = append(seen, h.Seen), append(names, h.Host)
		}
	}
	return seen, names
}

// For returns the names of the workstations that were let in and that a bundle would be for. A
// pattern of hosts or a group to which none of them belongs is an error: it may be misspelt.
// While one has not told its groups yet, no group is.
func (d *Desk) For(m *estate.Manifest) ([]string, error) {
	matching := func(m *estate.Manifest) (names []string) {
		for _, h := range d.Hosts() {
			if h.In && m.IsFor(estate.Holder{Host: h.Host, Groups: h.Groups}) {
				names = append(names, h.Host)
			}
		}
		return names
	}
	for _, pattern := range m.Hosts {
		if matching(&estate.Manifest{Hosts: []string{pattern}}) == nil {
			return nil, fmt.Errorf("no workstation that was let in is called %q", pattern)
		}
	}
	untold := slices.ContainsFunc(d.Hosts(), func(h Host) bool { return h.In && h.Last == nil && h.Groups == nil })
	for _, group := range m.Groups {
		if !untold && matching(&estate.Manifest{Groups: []string{group}}) == nil {
			return nil, fmt.Errorf("no workstation that was let in belongs to the group %q", group)
		}
	}
	names := matching(m)
	if names == nil && !untold && len(m.Hosts)+len(m.Groups) > 0 {
		return nil, fmt.Errorf("no workstation that was let in has one of these names and belongs to one of these groups")
	}
	return names, nil
}

// Released reports whether the bundle that the broker shows is the one that is released.
func (d *Desk) Released() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.release != nil && d.bundle != nil && d.release.Number == d.bundle.Number && (d.release.Digest == "" || d.release.Digest == d.digest)
}

// Bundle returns the latest bundle, and its release; nil for none.
func (d *Desk) Bundle() (*estate.Bundle, *estate.Release) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.bundle, d.release
}

// Accept lets a workstation in with the key that it asks with.
func (d *Desk) Accept(name string) (ed25519.PublicKey, error) {
	key, before, err := d.letIn(name)
	for _, one := range before {
		d.lookAt(one)
	}
	return key, err
}

// Forget takes a workstation out of the estate. Whoever asks with its key is asked for anew.
func (d *Desk) Forget(name string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	h := d.hosts[name]
	if h == nil || !h.In {
		return fmt.Errorf("%s was not let in", name)
	}
	delete(d.hosts, name)
	d.learn(func(k *Known) { delete(k.Hosts, name); delete(k.Told, name); delete(k.Checked, name) })
	return nil
}

// letIn is the part of Accept that needs the lock; it returns also what the workstation has
// said before.
func (d *Desk) letIn(name string) (ed25519.PublicKey, []said, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	h := d.hosts[name]
	switch {
	case h == nil || h.Key == nil:
		return nil, nil, fmt.Errorf("%s does not ask to be let in", name)
	case h.Other != nil: // its place is another's from now on
		h.Key, h.Other, h.Wrong, h.Last, h.Told = h.Other, nil, "", nil, time.Time{}
		delete(d.known.Told, name)
		d.learn(func(k *Known) { delete(k.Told, name); delete(k.Checked, name) })
	case h.Wrong != "":
		return nil, nil, fmt.Errorf("%s: %s", name, h.Wrong)
	}
	h.In = true
	key := h.Key
	d.learn(func(k *Known) {
		if k.Hosts == nil {
			k.Hosts = map[string]ed25519.PublicKey{}
		}
		k.Hosts[name] = key
	})
	var before []said
	for _, what := range []string{reportOf, forecastOf} {
		if raw, there := d.raw[hostTopic+name+what]; there {
			before = append(before, *d.toLookAt(h, what, raw))
		}
	}
	return h.Key, before, nil
}

// Trouble is how much is wrong on a workstation: 0 for nothing, 1 where runs have failed, 2
// for more.
func (h *Host) Trouble() int {
	switch last := h.Last; {
	case h.Wrong != "" || last != nil && (last.Broken > 0 || last.Bundle.State != estate.Taken && last.Bundle.Number > 0):
		return 2
	case last != nil && last.Failed > 0:
		return 1
	}
	return 0
}

// SortHosts sorts workstations for a list: those with trouble first.
func SortHosts(list []Host) {
	slices.SortFunc(list, func(a, b Host) int {
		return cmp.Or(cmp.Compare(b.Trouble(), a.Trouble()), cmp.Compare(a.Host, b.Host))
	})
}
