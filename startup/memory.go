package startup

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"timegate/home"
)

// Memory is what earlier looks have found, so that what was added, taken away or changed
// since can be told.
type Memory struct {
	Since   time.Time       `json:"since"`  // the first look
	Looked  time.Time       `json:"looked"` // the last one
	Shown   time.Time       `json:"shown"`  // up to when a person has seen the changes
	Items   map[string]Seen `json:"items"`
	Changes []Change        `json:"changes"` // oldest first
	// Sources are those that the last look took in: what comes of another one is not new.
	Sources []Source `json:"sources,omitempty"`
}

// early are the sources that looks took in which did not say so.
var early = []Source{FromAutostart, FromService, FromOwnService, FromScript, FromGate}

// sources are all that a look takes in.
var sources = slices.Concat(early, []Source{FromTimer, FromSocket, FromPath, FromBus, FromProfile, FromOwnTimer, FromOwnSocket, FromOwnPath, FromOwnBus})

// Seen is what a look found of an item.
type Seen struct {
	Name    string   `json:"name"`
	File    string   `json:"file"`
	Command []string `json:"command"`
	Enabled bool     `json:"enabled"`
}

// What is how an item changed.
type What string

// How items change.
const (
	Added     What = "added"
	Gone      What = "gone"
	Changed   What = "changed" // its command or its file
	TurnedOn  What = "turned on"
	TurnedOff What = "turned off"
)

// Change is something that a look found to be otherwise than the look before.
type Change struct {
	At     time.Time `json:"at"` // of the look
	Item   string    `json:"item"`
	What   What      `json:"what"`
	Before *Seen     `json:"before"`
	After  *Seen     `json:"after"`
}

// mostChanges is how many changes are kept.
const mostChanges = 1000

func memoryFile(h home.Home) string { return filepath.Join(h.State, "startup.json") }

// ReadMemory reads what is remembered in a home; without a file that is nothing.
func ReadMemory(h home.Home) (Memory, error) {
	var m Memory
	data, err := os.ReadFile(memoryFile(h))
	if errors.Is(err, fs.ErrNotExist) {
		return m, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &m)
	}
	if err != nil {
		return m, &home.Error{Path: memoryFile(h), Reason: "what earlier looks found cannot be read: " + err.Error(), Remedy: "move it aside: the next look begins anew", Err: err}
	}
	return m, nil
}

// Write keeps what is remembered.
func (m *Memory) Write(h home.Home) error {
	data, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(h.State, 0o700); err != nil {
		return home.Wrap(h.State, err)
	}
	if err := home.Replace(memoryFile(h), append(data, '\n'), 0o600); err != nil {
		return home.Wrap(memoryFile(h), err)
	}
	return nil
}

// Note takes a look down, and returns what has changed since the one before. The first
// look of all changes nothing.
func (m *Memory) Note(items []Item, now time.Time) []Change {
	next := make(map[string]Seen, len(items))
	looked := m.Sources
	if looked == nil {
		looked = early
	}
	var out []Change
	for _, it := range items {
		s := Seen{it.Name, it.File, it.Command, it.Enabled}
		next[it.ID] = s
		before, there := m.Items[it.ID]
		c := Change{At: now, Item: it.ID, Before: &before, After: &s}
		switch {
		case !there && !slices.Contains(looked, it.Source):
			continue
		case !there:
			c.What, c.Before = Added, nil
		case before.Enabled != s.Enabled:
			if c.What = TurnedOff; s.Enabled {
				c.What = TurnedOn
			}
		case before.File != s.File || !slices.Equal(before.Command, s.Command):
			c.What = Changed
		default:
			continue
		}
		out = append(out, c)
	}
	for id, before := range m.Items {
		if _, there := next[id]; !there {
			out = append(out, Change{At: now, Item: id, What: Gone, Before: &before})
		}
	}
	slices.SortFunc(out, func(a, b Change) int { return strings.Compare(a.Item, b.Item) })
	if m.Since.IsZero() {
		m.Since, m.Shown, out = now, now, nil
	}
	m.Looked, m.Items, m.Sources = now, next, sources
	m.Changes = append(m.Changes, out...)
	m.Changes = m.Changes[max(0, len(m.Changes)-mostChanges):]
	return out
}

// After returns the changes that were found after a time.
func (m *Memory) After(at time.Time) []Change {
	i := slices.IndexFunc(m.Changes, func(c Change) bool { return c.At.After(at) })
	if i < 0 {
		return nil
	}
	return m.Changes[i:]
}

// Text says in a line what a change is.
func (c *Change) Text() string {
	switch {
	case c.What == Added:
		return fmt.Sprintf("%s was added by %s", c.Item, c.After.File)
	case c.What == Gone:
		return fmt.Sprintf("%s is gone: %s", c.Item, c.Before.File)
	case c.What == Changed && c.Before.File != c.After.File:
		return fmt.Sprintf("%s comes from %s now, and came from %s", c.Item, c.After.File, c.Before.File)
	case c.What == Changed:
		return fmt.Sprintf("%s starts another command", c.Item)
	}
	return fmt.Sprintf("%s was %s", c.Item, c.What)
}
