package keeper

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/home"
	"timegate/launch"
	"timegate/workstation"
)

// knownPatience is how long the keeper waits for the machine to tell what
// holds, before it goes on: what comes later is told like any other change.
const knownPatience = 500 * time.Millisecond

// watch tells the workstation and the agents what the gates depend on.
func (k *Keeper) watch() (known <-chan struct{}) { return k.watchAll(k.files, nil) }

// unwatched returns from when on nobody watched the files that openings of an earlier keeper
// wait for, by the keys of their watches.
func (k *Keeper) unwatched(kept bool, before *engine.State) (map[string]time.Time, error) {
	if !kept || k.ws.Staged() { // a staged machine's files have the times of the real one
		return nil, nil
	}
	since, err := k.journal.UnwatchedSince()
	if err != nil || since == 0 {
		return nil, err
	}
	out := map[string]time.Time{}
	for name, f := range k.files {
		for i := range f.Gate.Opens {
			o := &f.Gate.Opens[i]
			if o.Plan.Phrase.Event.Kind != phrase.Change || !slices.ContainsFunc(before.Gates[name].Openings, func(was engine.OpeningState) bool { return was.Name == o.Name && was.Phrase == o.When }) {
				continue
			}
			want := engine.WantedEvent{Account: f.Gate.Account(), Event: o.Plan.Phrase.Event}
			out[want.Key()] = since.Time()
		}
	}
	return out, nil
}

// watchAll has what some gates depend on watched, some of it from when on nobody did.
func (k *Keeper) watchAll(files map[string]gates.File, unwatched map[string]time.Time) <-chan struct{} {
	machine, accounts := wantsOf(files, k.ws, k.settings.Pace)
	for _, a := range accounts {
		for i := range a.Watches {
			a.Watches[i].Since = unwatched[a.Watches[i].Key]
		}
	}
	for _, name := range sortedNames(files) {
		g := files[name].Gate
		a := accounts[g.Account()]
		for _, path := range g.DaysFiles() {
			a.Watches = append(a.Watches, workstation.Watch{Key: daysKey + path, Event: phrase.EventSpec{Kind: phrase.Change, Paths: []string{path}}})
		}
		if g.RunsOn(k.ws.Host()) || len(a.Watches) > 0 {
			accounts[g.Account()] = a
		}
	}
	k.wantedPlaces = nil
	if k.ws.Staged() { // the file systems are not asked alone
		for _, a := range accounts {
			k.wantedPlaces = append(k.wantedPlaces, a.Places...)
		}
	}
	there, seen := k.ws.Watch(machine), k.crew.Watch(accounts)
	both := make(chan struct{})
	go func() {
		defer close(both)
		<-there
		<-seen
	}()
	return both
}

// daysKey begins the names of watches for files of days: a change of one is a
// change of the gates that read it.
const daysKey = "days in "

func isDays(key string) bool { return strings.HasPrefix(key, daysKey) }

// wantsOf returns what gates depend on: what the machine tells, and what is seen
// with the rights of accounts.
func wantsOf(files map[string]gates.File, ws workstation.Workstation, pace engine.Pace) (machine workstation.Wants, accounts map[string]workstation.Wants) {
	list := make([]*gate.Gate, 0, len(files))
	for _, name := range sortedNames(files) {
		list = append(list, files[name].Gate)
	}
	wants := engine.WantsOf(list, ws.Host())
	wants.Pressure = pace.Calm > 0
	whole := workstation.WantsOf(wants, func(_, path string) string { return path })
	machine, accounts = whole.Split(ws.Staged())
	for i := range machine.Watches {
		w := &machine.Watches[i]
		for j, p := range w.Event.Paths {
			w.Event.Paths[j] = home.Expand(p, home.FolderOf(w.Account))
		}
	}
	return machine, accounts
}

// facts are what holds on the machine, with the paths that are there.
func (k *Keeper) facts() engine.Facts {
	f := k.ws.Facts()
	f.Paths = k.places()
	return f
}

// places are the paths that are there: as agents see them, or as the machine says.
func (k *Keeper) places() []string {
	there := k.crew.Places()
	for _, p := range k.wantedPlaces {
		is, told := k.ws.There(home.Expand(p.Path, home.FolderOf(p.Account)))
		if !told {
			continue
		}
		there = slices.DeleteFunc(there, func(name string) bool { return name == p.Name })
		if is {
			there = append(there, p.Name)
		}
	}
	return there
}

// waitKnown waits for a while until it is known what holds, and reports whether it is.
func waitKnown(ctx context.Context, known <-chan struct{}) bool {
	select {
	case <-known:
		return true
	case <-ctx.Done():
	case <-time.After(knownPatience):
	}
	return false
}

// Probe finds what of the gates' openings and needs cannot be told on a
// workstation, or done by it.
func Probe(ctx context.Context, files []gates.File, ws workstation.Workstation) []workstation.Trouble {
	good := map[string]gates.File{}
	var wake bool
	for _, f := range files {
		if f.Gate != nil {
			good[f.Name] = f
			wake = wake || f.Gate.Rules.Wake > 0 && f.Gate.Enabled && f.Gate.RunsOn(ws.Host())
		}
	}
	machine, accounts := wantsOf(good, ws, engine.Pace{})
	for account, w := range accounts {
		if !launch.OwnAccount(account) {
			continue // it is not for us to look into others' folders
		}
		for i := range w.Watches {
			for j, p := range w.Watches[i].Event.Paths {
				w.Watches[i].Event.Paths[j] = home.Expand(p, home.Folder())
			}
		}
		for i := range w.Places {
			w.Places[i].Path = home.Expand(w.Places[i].Path, home.Folder())
		}
		machine.Watches, machine.Places = append(machine.Watches, w.Watches...), append(machine.Places, w.Places...)
	}
	waitKnown(ctx, ws.Watch(machine))
	out := ws.Troubles()
	if wake {
		if err := ws.CanWake(); err != nil {
			out = append(out, wakeTrouble(err))
		}
	}
	return out
}

// Waking is what the trouble is about where nothing can wake the machine.
const Waking = "waking the machine"

func wakeTrouble(err error) workstation.Trouble {
	return workstation.Trouble{What: Waking, Why: err.Error()}
}

// troubles lists what cannot be told or done on this machine.
func (k *Keeper) troubles() []workstation.Trouble {
	out := append(k.ws.Troubles(), k.crew.Troubles()...)
	if err := k.ws.SetAlarm(k.alarm); err != nil && !k.alarm.IsZero() {
		out = append(out, wakeTrouble(err))
	}
	for name := range k.programs.late {
		out = append(out, workstation.Trouble{Stops: true, What: "starting " + name, Why: "what it is started from does not answer"})
	}
	if k.reloads.late {
		out = append(out, workstation.Trouble{Stops: true, What: "the folder of gates", Why: "it does not answer; the last good gates go on"})
	}
	if r := &k.recorder; r.err != nil {
		why := fmt.Sprintf("it cannot be written since %s, and %s: %v", r.since.Format(time.TimeOnly), k.meanwhile(), r.err)
		if r.lost > 0 {
			why += fmt.Sprintf("; %d events are lost from the history already", r.lost)
		}
		out = append(out, workstation.Trouble{Stops: true, What: "the journal", Why: why})
	}
	slices.SortFunc(out, func(a, b workstation.Trouble) int { return strings.Compare(a.What, b.What) })
	return out
}

// logTroubles logs each trouble once.
func (k *Keeper) logTroubles() {
	now := map[workstation.Trouble]bool{}
	for _, t := range k.troubles() {
		now[t] = true
		if !k.troubled[t] {
			k.log.Warn("cannot be told here: "+t.What, "reason", t.Why)
		}
	}
	k.troubled = now
}

// handleNotice hands the engine what happened on the machine.
func (k *Keeper) handleNotice(n workstation.Notice) {
	n.Facts.Paths = k.places()
	if n.Zone {
		k.reload(nil)
		return
	}
	var body engine.Body = &engine.Occurred{Event: n.Event, Name: n.Name, Subject: n.Subject, Text: n.Text,
		Count: n.Count, Files: n.Files, Facts: &n.Facts, Holds: n.Release != nil}
	switch n.Event {
	case "":
		body = &engine.FactsChanged{Facts: n.Facts}
	case phrase.Boot:
		body = &engine.Booted{BootID: k.ws.BootID(), Facts: n.Facts}
	}
	if n.Release != nil {
		if k.release != nil {
			go k.release()
		}
		k.release = n.Release
	}
	k.handle(input{body: body})
}

// setAlarm lets the machine be woken in time.
func (k *Keeper) setAlarm() {
	var at time.Time
	if next, ok := k.engine.Alarm(); ok {
		at = next.Time()
	}
	// An alarm that is about to ring anyway is not moved with every event.
	if d := at.Sub(k.alarm); !at.IsZero() && d > 0 && d < time.Minute && k.alarm.After(k.now()) {
		return
	}
	if at.Equal(k.alarm) {
		return
	}
	k.alarm = at
	if err := k.ws.SetAlarm(at); err != nil {
		k.logTroubles()
	}
}
