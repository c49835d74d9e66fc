package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"slices"
	"sync"
	"time"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	coreestate "timegate/core/estate"
	"timegate/core/gate"
	"timegate/estate"
	"timegate/gates"
	"timegate/home"
	"timegate/journal"
	"timegate/workstation"
	"timegate/workstation/accounts"
	"timegate/workstation/here"
)

// station is this workstation's side of its estate, beside a keeper.
type station struct {
	changed chan struct{} // a run has not ended well
	stop    func()        // ends it, and waits for that a while
}

// startStation begins to follow the estate that the home belongs to; without one, and
// on a staged machine, nothing is done. What is wrong with it is told, and keeps no gate from opening.
func (a *app) startStation(log *slog.Logger, isStaged bool) *station {
	out := &station{changed: make(chan struct{}, 1), stop: func() {}}
	if isStaged {
		return out
	}
	settings, err := estate.ReadSettings(a.home)
	if errors.Is(err, estate.ErrNone) || err == nil && settings.Desk {
		return out
	}
	var s *estate.Station
	var broker estate.Broker
	if err == nil {
		broker, err = settings.BrokerOf(a.host)
	}
	if err == nil {
		s, err = a.stationOf(settings, log)
	}
	if err != nil {
		log.Warn("the estate is not followed", "error", err)
		return out
	}
	link := &estate.Link{Start: a.startNetwork}
	s.Publish = link.Publish
	ctx, stop := context.WithCancel(context.Background())
	const most = 4 // that wait; the network's process waits for the rest
	messages := make(chan estate.Message, most)
	var both sync.WaitGroup
	both.Go(func() {
		link.Run(ctx, broker, func(m estate.Message) {
			select {
			case messages <- m:
			case <-ctx.Done():
			}
		})
	})
	both.Go(func() {
		if err := s.Run(ctx, messages, out.changed); err != nil {
			log.Warn("the estate is not followed any more", "error", err)
		}
	})
	ended := make(chan struct{})
	go func() { both.Wait(); close(ended) }()
	out.stop = func() {
		stop()
		select {
		case <-ended:
		case <-time.After(endPatience): // it waits for something that hangs, and dies with the keeper
		}
	}
	return out
}

// happened tells the station of runs that did not end well.
func (s *station) happened(decisions []engine.Decision) {
	for i := range decisions {
		if !slices.Contains(badResults, decisions[i].Result) {
			continue
		}
		select {
		case s.changed <- struct{}{}:
		default: // it knows
		}
		return
	}
}

func (a *app) stationOf(settings *estate.Settings, log *slog.Logger) (*estate.Station, error) {
	trust, err := settings.Keys()
	if err != nil {
		return nil, err
	}
	key, err := estate.HostKey(a.home)
	if err != nil {
		return nil, err
	}
	return &estate.Station{Shop: settings.Shop, Host: settings.NameOn(a.host), Groups: settings.Groups, Version: version, Trust: trust, Need: settings.Need, Key: key, May: settings.May,
		Keeper: &estateKeeper{app: a, may: settings.May}, Store: estate.Files{Home: a.home}, Log: log, Times: estate.UsualTimes}, nil
}

// networkAccounts are whose rights the network's process has, where the keeper is root's: the
// first that there is.
var networkAccounts = []string{"timegate-network", "nobody"}

// startNetwork starts the process that speaks to the network: with no rights that matter.
func (a *app) startNetwork(argument string, files []*os.File) (*os.Process, error) {
	o := here.SelfOrder{Args: []string{argument}, Env: []string{"PATH=/usr/bin:/bin"}, Files: files}
	for _, name := range networkAccounts {
		if os.Getuid() != 0 || o.As != nil {
			break
		}
		if who, err := accounts.ByName(name); err == nil {
			o.As = &workstation.Account{UID: uint32(who.UID), GID: uint32(who.GID)}
		}
	}
	if os.Getuid() == 0 && o.As == nil {
		return nil, fmt.Errorf("there is no account without rights for the network (%s)", networkAccounts[0])
	}
	return here.StartSelf(o)
}

// estateKeeper brings bundles into force as apply does, and knows what reports tell.
type estateKeeper struct {
	app *app
	may []string // what the settings permit
}

// refusedBy makes the reason why a bundle is not taken.
func refusedBy(code string, err error) error { return &estate.ApplyError{Code: code, Err: err} }

// Apply implements [estate.Keeper].
func (k *estateKeeper) Apply(b *coreestate.Bundle) error {
	a := k.app
	if err := k.looked(b); err != nil {
		return err
	}
	source := gates.SourceOf(bundleName(b), b.Content)
	plan, err := source.Plan(a.home, true)
	if err != nil {
		return refusedBy("gates", err)
	}
	if len(plan.Changes())+len(plan.Others()) == 0 {
		return nil
	}
	// Somebody may be changing gates here just now.
	for began := time.Now(); ; time.Sleep(tryPause) {
		err = a.commit(plan, a.now())
		if _, busy := errors.AsType[*home.BusyError](err); !busy || time.Since(began) > busyPatience {
			break
		}
	}
	if err != nil {
		return refusedBy("write", err)
	}
	return nil
}

// What is refused is so for good. So what may pass is tried again: with a pause, and for so
// long, or so often.
const (
	tryPause     = 200 * time.Millisecond
	busyPatience = 10 * time.Second
	mostLooks    = 3
)

// bundleName is how a bundle is called where a folder would be named.
func bundleName(b *coreestate.Bundle) string {
	return fmt.Sprintf("bundle %d of %s", b.Number, b.Shop)
}

// Confirm implements [estate.Keeper].
func (k *estateKeeper) Confirm(ctx context.Context, files map[string]string) error {
	for {
		err := k.InForce(ctx, files)
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(tryPause):
		}
	}
}

// InForce implements [estate.Keeper]: the files say what the bundle says, and the keeper has
// just these.
func (k *estateKeeper) InForce(ctx context.Context, files map[string]string) error {
	s, err := k.app.client.Status(ctx)
	if err != nil {
		return err
	}
	for _, f := range s.Broken.Errors() {
		if _, ours := files[f.Gate]; ours { // another one was broken before, and is no bundle's fault
			return &estate.DiffersError{Gate: f.Gate, Why: f.Error()}
		}
	}
	for name, sum := range files {
		text, err := home.ReadPlain(k.app.home.GateFile(name), gate.MaxSize)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return &estate.DiffersError{Gate: name, Why: "its file is gone"}
		case err != nil:
			return err
		case coreestate.TextSum(text) != sum:
			return &estate.DiffersError{Gate: name, Why: "its file says something else"}
		}
		st, there := s.Gates[name]
		if !there || st.Version != gates.ReadFile(k.app.home, name, k.app.env()).Version {
			return &estate.DiffersError{Gate: name, Why: "it is not in force as its file says"}
		}
	}
	return nil
}

// Back implements [estate.Keeper].
func (k *estateKeeper) Back(since time.Time) error {
	at, err := gates.LastChange(k.app.home)
	if err == nil && at.Before(since) {
		return nil // the bundle has changed nothing
	}
	if err != nil {
		return err
	}
	plan, err := gates.Undo(k.app.home)
	switch {
	case err != nil:
		return err
	case !plan.FromSource():
		return errors.New("the last change of the gates was another")
	}
	return k.app.commit(plan, k.app.now())
}

// badResults are those of runs that a report tells of.
var badResults = []engine.Result{engine.ResultFailed, engine.ResultOverran, engine.ResultRefused, engine.ResultLost}

// Gates implements [estate.Keeper].
func (k *estateKeeper) Gates(ctx context.Context) (names []string, broken int, err error) {
	s, err := k.app.client.Status(ctx)
	return slices.Sorted(maps.Keys(s.Gates)), brokenOf(&s), err
}

// brokenOf counts the gates that cannot be read.
func brokenOf(s *control.Status) int {
	broken := map[string]bool{}
	for _, f := range s.Broken {
		broken[f.Gate] = true
	}
	return len(broken)
}

// Look implements [estate.Keeper].
func (k *estateKeeper) Look(ctx context.Context, r *coreestate.Report, since time.Time, had []string) error {
	s, err := k.app.client.Status(ctx)
	if err != nil {
		return err
	}
	r.Gates, r.Broken, r.Running, r.Next = len(s.Gates), brokenOf(&s), s.Running, s.Next
	j, err := k.app.reader()
	if err != nil || j == nil {
		return err
	}
	defer j.Close()
	if !since.IsZero() {
		const most = 1000
		list, err := j.History(journal.Filter{Since: calendar.InstantOf(since), Results: badResults, Limit: most})
		if err != nil {
			return err
		}
		r.Failed = len(list)
		if r.Worse, err = worseSince(j, calendar.InstantOf(since), had); err != nil {
			return err
		}
	}
	list, err := j.History(journal.Filter{Results: badResults, Limit: coreestate.MostFailures})
	if err != nil {
		return err
	}
	for _, e := range list {
		if !gate.ValidName(e.Gate) {
			continue
		}
		at := e.Ended
		if at == 0 {
			at = e.Decided
		}
		why := e.Outcome
		if why.Code == "" {
			why = e.Reason
		}
		f := coreestate.Failure{Gate: e.Gate, Run: e.Run, At: at.Time().UTC(), Result: string(e.Result), Code: string(why.Code), Status: e.Exit}
		k.detail(&f, &e)
		r.Failures = append(r.Failures, f)
	}
	return nil
}

// daysBefore is how much of the past says how often gates fail.
const daysBefore = 7 * 24 * time.Hour

// worseSince counts the gates that fail more often since an instant. One that there was not
// before has no past, whatever came of one of its name earlier.
func worseSince(j control.Records, since calendar.Instant, had []string) (int, error) {
	runs := func(f journal.Filter) (map[string]coreestate.GateRuns, error) {
		f.Results = badResults
		list, err := j.Stats(f)
		out := map[string]coreestate.GateRuns{}
		for _, s := range list {
			out[s.Gate] = coreestate.GateRuns{Runs: s.Runs, Bad: s.Bad}
		}
		return out, err
	}
	before, err := runs(journal.Filter{Since: since.Add(-daysBefore), Until: since - 1})
	if err != nil {
		return 0, err
	}
	maps.DeleteFunc(before, func(name string, _ coreestate.GateRuns) bool { return !slices.Contains(had, name) })
	now, err := runs(journal.Filter{Since: since})
	if err != nil {
		return 0, err
	}
	return coreestate.Worse(before, now), nil
}
