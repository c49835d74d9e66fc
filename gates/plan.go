package gates

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/home"
	"timegate/inspect"
)

// A Plan is a set of changes to a folder of gates that come into force
// together, or not at all, whatever dies in between: what it changes is first
// written to one file of the folder, which every reader lays over the others
// until all of them are in their places. The last plan stays there, so that it
// can be undone.
type Plan struct {
	home    home.Home
	changes []Change
	others  []OtherChange
	first   []func() error
}

// Change is what a plan does to one gate's file.
type Change struct {
	Name   string  `json:"name"`
	Before *string `json:"before"` // the file's content; nil where there is none
	After  *string `json:"after"`
}

// OtherChange is what a plan does to a file that is no gate's, and comes into force
// with the gates: what the machine starts by itself is switched off where a gate does
// so from then on.
type OtherChange struct {
	Path   string      `json:"path"`
	Before *home.State `json:"before"` // nil where there is nothing
	After  *home.State `json:"after"`
	// Tidy takes the file's folder away as well, where nothing is left in it.
	Tidy bool `json:"tidy,omitempty"`
}

// NewPlan returns a plan without changes.
func NewPlan(h home.Home) *Plan { return &Plan{home: h} }

// Put gives a gate's file a new content, or makes it.
func (p *Plan) Put(name string, data []byte) {
	text := string(data)
	p.set(name, &text)
}

// Remove takes a gate's file away. It stays in the folder "removed".
func (p *Plan) Remove(name string) { p.set(name, nil) }

func (p *Plan) set(name string, after *string) {
	if i := slices.IndexFunc(p.changes, func(c Change) bool { return c.Name == name }); i >= 0 {
		p.changes[i].After = after
		return
	}
	p.changes = append(p.changes, Change{Name: name, After: after})
}

// PutOther gives another file a new content, or takes it away.
func (p *Plan) PutOther(c OtherChange) { p.others = append(p.others, c) }

// Others lists what the plan does to files that are no gates'.
func (p *Plan) Others() []OtherChange { return p.others }

// First lets something be done before the gates change, such as putting a
// script in its place. If it fails, nothing changes.
func (p *Plan) First(do func() error) { p.first = append(p.first, do) }

// Changes lists what the plan does.
func (p *Plan) Changes() []Change { return p.changes }

// Findings returns what would be wrong or unwise with the gates of the plan
// once it is in force, faults among gates included.
func (p *Plan) Findings(env phrase.Env) (gate.Findings, error) {
	files, err := ReadFolder(p.home, env)
	if err != nil {
		return nil, err
	}
	k := kept{Changes: p.changes, Others: p.others}
	return k.findings(p.home, k.overlay(p.home, files, env, readOwn)), nil
}

// Files returns the gates as they are once the plan is in force.
func (p *Plan) Files(env phrase.Env) ([]File, error) {
	files, err := ReadFolder(p.home, env)
	if err != nil {
		return nil, err
	}
	k := kept{Changes: p.changes, Others: p.others}
	return k.overlay(p.home, files, env, readOwn), nil
}

// overlay returns files as they are with a plan in force.
func (k *kept) overlay(h home.Home, files []File, env phrase.Env, read Reader) []File {
	changes := k.Changes
	vars := sync.OnceValues(func() (gate.Vars, error) { return varsOf(h, k, env.Host) })
	out := slices.Clone(files)
	for i, f := range out {
		if k.givesValues(h, &f) {
			out[i] = parse(h, f.Name, []byte(f.Text), env, read.days, vars)
		}
	}
	for _, c := range changes {
		out = slices.DeleteFunc(out, func(f File) bool { return f.Name == c.Name })
		if c.After != nil {
			out = append(out, parse(h, c.Name, []byte(*c.After), env, read.days, vars))
		}
	}
	Sort(out)
	checkLinks(out)
	return out
}

// givesValues reports whether a plan may give the names in a gate's file other values.
func (k *kept) givesValues(h home.Home, f *File) bool {
	return slices.ContainsFunc(k.Others, func(o OtherChange) bool { return o.Path == h.VarsFile() }) && gate.HasNames([]byte(f.Text))
}

// findings returns what is wrong or unwise with those gates that a plan touches.
func (k *kept) findings(h home.Home, files []File) gate.Findings {
	var out gate.Findings
	for _, f := range files {
		if k.givesValues(h, &f) || slices.ContainsFunc(k.Changes, func(c Change) bool { return c.Name == f.Name }) {
			out = append(out, f.Findings...)
		}
	}
	return out
}

// Commit brings the plan into force. Where something is wrong with what it
// writes, nothing changes, and the error is the [gate.Findings].
func (p *Plan) Commit(env phrase.Env, now time.Time) error {
	found, err := p.Findings(env)
	if err != nil {
		return err
	}
	if errs := found.Errors(); len(errs) > 0 {
		return errs
	}
	if err := p.home.Prepare(); err != nil {
		return err
	}
	unlock, err := p.home.LockGates()
	if err != nil {
		return err
	}
	defer unlock()
	last, err := finish(p.home)
	if err != nil {
		return err
	}
	for i := range p.changes {
		c := &p.changes[i]
		if c.Before, err = contentOf(p.home.GateFile(c.Name)); err != nil {
			return err
		}
	}
	if len(p.others) > 0 { // what stays as it is is no change; of gates alone the keeper is told all the same
		p.changes = slices.DeleteFunc(p.changes, func(c Change) bool { return c.Before != nil && c.After != nil && *c.Before == *c.After })
	}
	for i := range p.others {
		o := &p.others[i]
		if o.Before, err = home.StateOf(o.Path, longestOther); err != nil {
			return home.Wrap(o.Path, err)
		}
	}
	next := kept{Number: last.Number + 1, At: now, Changes: p.changes, Others: p.others}
	text, err := next.text() // what could not be read again is refused before anything is done
	if err != nil {
		return err
	}
	for _, do := range p.first {
		if err := do(); err != nil {
			return err
		}
	}
	if slices.ContainsFunc(p.others, func(o OtherChange) bool {
		return o.After != nil && filepath.Dir(o.Path) == filepath.Dir(p.home.KeptScript("x"))
	}) {
		if err := p.home.MakeScripts(); err != nil {
			return err
		}
	}
	if err := keepRemoved(p.home, p.changes, now); err != nil {
		return err
	}
	if err := writePlan(p.home, text); err != nil { // from here on it is in force
		return err
	}
	if _, err = finish(p.home); err != nil {
		return err
	}
	return tidyScripts(p.home, p.changes)
}

// tidyScripts takes copies of scripts away that no gate runs any more, nor would
// once the last plan is undone.
func tidyScripts(h home.Home, last []Change) error {
	var texts []string
	for _, c := range last {
		if c.Before != nil {
			texts = append(texts, *c.Before)
		}
	}
	names, err := filepath.Glob(filepath.Join(h.Gates, "*"+Suffix))
	if err != nil {
		return err
	}
	for _, path := range names {
		text, err := contentOf(path)
		if err != nil {
			return err
		}
		if text != nil {
			texts = append(texts, *text)
		}
	}
	return h.TidyScripts(func(path string) bool {
		return slices.ContainsFunc(texts, func(text string) bool {
			return strings.Contains(text, path) || strings.Contains(text, "{scripts}/"+filepath.Base(path))
		})
	})
}

// kept is the last plan, as it lies in the folder.
type kept struct {
	Number  int64         `json:"number"` // grows by one with each plan
	At      time.Time     `json:"at"`
	Done    bool          `json:"done"` // all files are in their places
	Changes []Change      `json:"changes"`
	Others  []OtherChange `json:"others,omitempty"`
}

// planFile is where the last plan lies.
func planFile(h home.Home) string { return filepath.Join(h.Gates, ".plan.json") }

// longestOther is how large a file may be that is no gate's, in bytes.
const longestOther = 1 << 20

// longestPlan is how large a plan may be, in bytes, as it is written.
const longestPlan = 64 << 20

// LongestFolder is how much a folder of gates that is brought to a home may hold in all, in
// bytes: a plan holds each file as it was and as it will be, written with more letters.
const LongestFolder = 20 << 20

// readPlan reads the last plan; one without a number where there was none.
func readPlan(h home.Home) (kept, error) {
	var k kept
	path := planFile(h)
	info, err := os.Lstat(path)
	switch {
	case err != nil:
		return k, nil // that the folder cannot be read, who reads it will say
	case !info.Mode().IsRegular() || info.Size() > longestPlan:
		return k, &home.Error{Path: path, Reason: "it is not the last plan of changes but something else", Remedy: "move it aside"}
	}
	if h.Scope == gate.System {
		if found := inspect.WritableByOthers(path); len(found) > 0 {
			return k, &home.Error{Path: path, Reason: strings.Replace(found[0].Message, "the gate file", "the file of changes", 1), Remedy: found[0].Remedy}
		}
	}
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return k, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &k)
	}
	if err != nil {
		return k, &home.Error{Path: path, Reason: "it cannot be read: " + err.Error(), Remedy: "move it aside", Err: err}
	}
	return k, nil
}

// text returns a plan as it is written: never more than is read.
func (k *kept) text() ([]byte, error) {
	data, err := json.MarshalIndent(k, "", "  ")
	if err == nil && len(data) >= longestPlan {
		err = &TooLargeError{Bytes: int64(len(data))}
	}
	return append(data, '\n'), err
}

// TooLargeError says that a change is larger than one may be. Nothing was done.
type TooLargeError struct{ Bytes int64 }

func (e *TooLargeError) Error() string {
	return fmt.Sprintf("the change is too large: with what was before, to be undone, it has %s, and %s are the most; leave large files out, or change fewer at a time",
		phrase.FormatAmount(e.Bytes), phrase.FormatAmount(longestPlan))
}

func writePlan(h home.Home, text []byte) error {
	if err := home.Replace(planFile(h), text, 0o600); err != nil {
		return home.Wrap(planFile(h), err)
	}
	return nil
}

func (k *kept) write(h home.Home) error {
	text, err := k.text()
	if err != nil {
		return err
	}
	return writePlan(h, text)
}

// RescuePlan sets the last plan aside where it cannot be read, so that the gates are as
// their files are. It returns where that is now, or "" where nothing was wrong.
func RescuePlan(h home.Home, now time.Time) (aside string, err error) {
	if _, broken := readPlan(h); broken == nil {
		return "", nil
	}
	unlock, err := h.LockGates()
	if err != nil {
		return "", err
	}
	defer unlock()
	aside = planFile(h) + ".aside-" + now.UTC().Format("20060102-150405")
	return aside, os.Rename(planFile(h), aside)
}

// finish puts the files of the last plan in their places, where whoever made it
// did not come to that.
func finish(h home.Home) (kept, error) {
	k, err := readPlan(h)
	if err != nil || k.Number == 0 || k.Done {
		return k, err
	}
	if err := k.putGates(h); err != nil {
		return k, err
	}
	for _, o := range k.Others {
		if err := o.After.Put(o.Path); err != nil {
			return k, fmt.Errorf("write %s: %w", o.Path, err)
		}
		if o.After == nil && o.Tidy {
			os.Remove(filepath.Dir(o.Path)) // stays where something else is in it
		}
	}
	k.Done = true
	return k, k.write(h)
}

// written is the file in which a gate's file is written: where it is a link, the one that it
// leads to, so that the link stays. In the system scope that holds only for what nobody but
// root can change.
func written(h home.Home, path string) string {
	info, err := os.Lstat(path)
	if err != nil || info.Mode()&fs.ModeSymlink == 0 {
		return path
	}
	to, err := filepath.EvalSymlinks(path)
	if err != nil || h.Scope == gate.System && len(inspect.WritableByOthers(to)) > 0 {
		return path
	}
	return to
}

// putGates puts the gates' files in their places. Until all of them are on the disk, the
// plan lies there and counts.
func (k *kept) putGates(h home.Home) error {
	mode := fs.FileMode(0o600)
	if h.Scope == gate.System {
		mode = 0o644
	}
	const many = 16 // from here on it is quicker to wait for the disk once
	put := home.Rewrite
	if len(k.Changes) >= many {
		put = home.Renew
	}
	for _, c := range k.Changes {
		path := h.GateFile(c.Name)
		var err error
		if c.After == nil {
			err = os.Remove(path)
			if errors.Is(err, fs.ErrNotExist) {
				err = nil
			}
		} else {
			err = put(written(h, path), []byte(*c.After), mode)
		}
		if err != nil {
			return fmt.Errorf("write %s: %w", path, err)
		}
	}
	if len(k.Changes) >= many {
		return home.Settle(h.Gates)
	}
	return nil
}

// RemovedFile is where the file of a gate lies that was removed at a time.
func RemovedFile(h home.Home, name string, at time.Time) string {
	return filepath.Join(h.State, "removed", fmt.Sprintf("%s-%s%s", name, at.Format("20060102-150405"), Suffix))
}

// keepRemoved keeps what is taken away.
func keepRemoved(h home.Home, changes []Change, now time.Time) error {
	dir := ""
	for _, c := range changes {
		if c.After != nil || c.Before == nil {
			continue
		}
		to := RemovedFile(h, c.Name, now)
		dir = filepath.Dir(to)
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return home.Wrap(dir, err)
		}
		if err := home.Renew(to, []byte(*c.Before), 0o600); err != nil {
			return home.Wrap(to, err)
		}
	}
	if dir == "" {
		return nil
	}
	return home.Settle(dir)
}

// contentOf returns a file's content, nil where there is none.
func contentOf(path string) (*string, error) {
	data, err := readBounded(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, home.Wrap(path, err)
	}
	text := string(data)
	return &text, nil
}

// ErrNothingToUndo is returned where no plan can be undone.
var ErrNothingToUndo = errors.New("there is no change to undo")

// ChangedError reports gates and files that were changed since a plan, so that undoing it
// would lose that.
type ChangedError struct{ Names []string }

func (e *ChangedError) Error() string {
	return "changed since, by hand or otherwise: " + strings.Join(e.Names, ", ")
}

// LastChange returns when the last plan came into force; zero for never.
func LastChange(h home.Home) (time.Time, error) {
	last, err := readPlan(h)
	return last.At, err
}

// Undo returns a plan that takes the last one back. Its error is
// [ErrNothingToUndo], or a [*ChangedError].
func Undo(h home.Home) (*Plan, error) {
	k, err := finish(h)
	if err != nil {
		return nil, err
	}
	if len(k.Changes)+len(k.Others) == 0 {
		return nil, ErrNothingToUndo
	}
	p := NewPlan(h)
	var changed []string
	for _, c := range k.Changes {
		now, err := contentOf(h.GateFile(c.Name))
		if err != nil {
			return nil, err
		}
		if (now == nil) != (c.After == nil) || now != nil && *now != *c.After {
			changed = append(changed, c.Name)
		}
		p.set(c.Name, c.Before)
	}
	for _, o := range k.Others {
		now, err := home.StateOf(o.Path, longestOther)
		if err != nil || !now.Same(o.After) {
			changed = append(changed, o.Path)
		}
		p.PutOther(OtherChange{Path: o.Path, After: o.Before, Tidy: o.Tidy})
	}
	if len(changed) > 0 {
		return nil, &ChangedError{changed}
	}
	return p, nil
}
