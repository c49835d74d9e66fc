package keeper

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/gates"
	"timegate/home"
)

// reloads are the readings of the folder of gates: one at a time.
type reloads struct {
	busy    bool
	again   bool     // something has changed since it began
	waiting []func() // that want a reading that begins later than now
	late    bool     // it does not come back
}

// homeRead is what was read of a home.
type homeRead struct {
	files       []gates.File
	err         error
	zone        *calendar.Zone
	settings    home.Settings
	settingsErr error
}

// readPatience is how long reading the folder of gates may take before the
// keeper goes on with what it has.
const readPatience = 10 * time.Second

var errNoFolder = errors.New("the folder of gates does not answer")

// readHome reads gates and settings, for as long as that may take.
func (k *Keeper) readHome(ctx context.Context) (homeRead, error) {
	done := make(chan homeRead, 1)
	go func() { done <- k.readNow() }()
	select {
	case r := <-done:
		return r, r.err
	case <-ctx.Done():
		return homeRead{}, ctx.Err()
	case <-time.After(readPatience):
		return homeRead{}, home.Wrap(k.home.Gates, errNoFolder)
	}
}

// readNow may block.
func (k *Keeper) readNow() homeRead {
	home.Account() // which is looked up once, and may take its time
	r := homeRead{zone: k.ws.Zone()}
	r.files, r.err = gates.ReadFolderAs(k.home, gates.Env(k.here(r.zone), r.zone), k.readAs)
	r.settings, r.settingsErr = home.ReadSettings(k.home.Settings())
	return r
}

// reload reads the folder anew, beside the keeper's goroutine; then is called
// on it when what is there by now is in force, or does not answer.
func (k *Keeper) reload(then func()) {
	r := &k.reloads
	if then != nil {
		r.waiting = append(r.waiting, then)
	}
	if r.busy {
		r.again = true
		return
	}
	r.busy, r.again = true, false
	waiting := r.waiting
	r.waiting = nil
	answered := false
	late := time.AfterFunc(readPatience, func() {
		k.post(input{do: func() {
			if !answered {
				r.late = true
				k.log.Error(errNoFolder.Error() + "; the last good gates go on")
				callAll(&waiting)
			}
		}})
	})
	go func() {
		read := k.readNow()
		k.post(input{do: func() {
			answered, r.late = true, false
			late.Stop()
			k.applyRead(read, func() {
				r.busy = false
				callAll(&waiting)
				if r.again || len(r.waiting) > 0 {
					k.reload(nil)
				}
			})
		}})
	}()
}

func callAll(list *[]func()) {
	for _, f := range *list {
		f()
	}
	*list = nil
}

// change is how a folder differs from what is in force.
type change struct {
	set     []gates.File
	removed []string
	broken  map[string]gate.Findings
}

// compare finds what has changed in the folder. A file that is wrong changes
// nothing.
func (k *Keeper) compare(files []gates.File) change {
	c := change{broken: map[string]gate.Findings{}}
	present := map[string]bool{}
	for _, f := range files {
		present[f.Name] = true
		if f.Gate == nil {
			c.broken[f.Name] = f.Findings.Errors()
			continue
		}
		if before, ok := k.files[f.Name]; !ok || !before.Same(&f) || !sameZones(before.Gate, f.Gate) {
			c.set = append(c.set, f)
		}
	}
	for name := range k.files {
		if !present[name] {
			c.removed = append(c.removed, name)
		}
	}
	return c
}

// sameZones reports whether the openings of a gate are read in the same zones
// as before. The text is the same.
func sameZones(a, b *gate.Gate) bool {
	return slices.EqualFunc(a.Opens, b.Opens, func(x, y gate.Opening) bool { return x.Plan.Zone == y.Plan.Zone })
}

// apply notes a change of the folder and returns the texts that are to be recorded.
func (k *Keeper) apply(c change) map[string]string {
	texts := map[string]string{}
	k.broken = c.broken
	for _, f := range c.set {
		texts[f.Version] = f.Whole
		for i := range f.Days {
			texts[f.Days[i].Version] = f.Days[i].Text
			f.Days[i].Text = ""
		}
		f.Text, f.Whole = "", "" // the journal has it
		k.files[f.Name] = f
	}
	for _, name := range c.removed {
		delete(k.files, name)
	}
	k.tellGates()
	return texts
}

// applyRead lets what was read come into force. The machine is first asked for
// what the gates then depend on.
func (k *Keeper) applyRead(read homeRead, then func()) {
	if read.err != nil {
		k.log.Error("the gates cannot be read; the last good ones go on", "error", read.err)
		then()
		return
	}
	k.applySettings(read)
	c := k.compare(read.files)
	for name, found := range c.broken {
		what := "a gate file is wrong; its last good version goes on"
		if _, good := k.files[name]; !good {
			what = "a gate file is wrong; the gate does not open"
		}
		k.log.Warn(what, "gate", name, "error", found.Error())
	}
	b := &engine.GatesChanged{Removed: c.removed}
	if zone := read.zone.Name(); zone != k.engine.Zone {
		b.Zone = zone
	}
	if len(c.set)+len(c.removed) == 0 && b.Zone == "" {
		k.broken = c.broken
		k.tellGates()
		then()
		return
	}
	next := maps.Clone(k.files)
	for _, f := range c.set {
		b.Set = append(b.Set, f.Definition())
		next[f.Name] = f
	}
	for _, name := range c.removed {
		delete(next, name)
	}
	known := k.watchAll(next, nil)
	k.logTroubles()
	go func() {
		waitKnown(context.Background(), known)
		k.post(input{do: func() {
			k.log.Info("gates changed", "set", len(b.Set), "removed", len(b.Removed), "zone", b.Zone)
			facts := k.facts()
			b.Facts = &facts
			k.handle(input{body: b, texts: k.apply(c)})
			then()
		}})
	}()
}

// applySettings puts settings into force. Where they are wrong, the last good ones go
// on.
func (k *Keeper) applySettings(read homeRead) {
	if read.settingsErr != nil {
		k.log.Warn("the settings are wrong; the last good ones go on", "error", read.settingsErr)
		return
	}
	before := k.settings
	k.settings = read.settings
	k.watchStartup()
	k.startTelling()
	if k.settings.Pace != before.Pace {
		k.watch()
		k.handle(input{body: &engine.PaceSet{Pace: k.settings.Pace}})
	}
}

// readAs reads a file with the rights of an account, by its agent.
func (k *Keeper) readAs(account, path string, most int64) ([]byte, error) {
	ctx, cancel := context.WithTimeout(context.Background(), daysPatience)
	defer cancel()
	text, err := k.crew.Of(account).Read(ctx, path, most)
	if errors.Is(err, context.DeadlineExceeded) {
		err = errors.New("what it lies on does not answer")
	}
	return text, err
}

// daysPatience is how long a file of days may take to be read.
const daysPatience = 2 * time.Second
