package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/phrase"
	"timegate/core/rehearsal"
	"timegate/journal"
)

// usualWeeks is how far back is looked for what is usual.
const usualWeeks = 8

// usualDay writes a day file of this machine's usual week, from what the journal knows.
func (a *app) usualDay() ([]byte, error) {
	if a.home.OfOthers() {
		return nil, &control.PermissionError{Reason: "what the system's keeper has recorded is root's to look at"}
	}
	states, err := a.pastStates(a.now())
	if errors.Is(err, journal.ErrNone) {
		return nil, &exitError{exitFailed, errNothingRecorded}
	}
	if err != nil {
		return nil, err
	}
	today, _ := a.zone.Local(calendar.InstantOf(a.now()))
	text, days := rehearsal.Usual(states, a.zone, today)
	if text == "" {
		return nil, &exitError{exitFailed, fmt.Errorf("only %s of this machine are known, and a usual week wants three at least", plural(days, "day"))}
	}
	return []byte(text), nil
}

// pastStates returns the states of this machine in the weeks before a time.
func (a *app) pastStates(now time.Time) ([]rehearsal.State, error) {
	j, err := journal.OpenReader(a.home.Journal())
	if err != nil {
		return nil, err
	}
	defer j.Close()
	since := calendar.InstantOf(now.AddDate(0, 0, -7*usualWeeks))
	away, err := j.Absences(since)
	if err != nil {
		return nil, err
	}
	events, err := j.Sessions(since)
	if err != nil {
		return nil, err
	}
	return statesOf(away, events, max(since, away.Since), calendar.InstantOf(now)), nil
}

// statesOf are the states of a machine one after the other, from when it was away and
// what happened on it besides.
func statesOf(away journal.Absences, events []journal.Session, from, to calendar.Instant) []rehearsal.State {
	type edge struct {
		at calendar.Instant
		do func(s *rehearsal.State)
	}
	var edges []edge
	for _, span := range away.Spans {
		set := func(on bool) func(*rehearsal.State) {
			return func(s *rehearsal.State) {
				if s.Off, s.Asleep = on && span.Off, on && !span.Off; s.Off {
					s.People = nil
				}
			}
		}
		edges = append(edges, edge{span.From, set(true)}, edge{span.To, set(false)})
	}
	for _, e := range events {
		edges = append(edges, edge{e.At, func(s *rehearsal.State) {
			switch without := slices.DeleteFunc(slices.Clone(s.People), func(p string) bool { return p == e.Name }); e.Event {
			case phrase.Logon:
				s.People = append(without, e.Name)
				slices.Sort(s.People)
			case phrase.Logoff:
				s.People = without
			case phrase.Battery, phrase.Mains:
				s.OnBattery = e.Event == phrase.Battery
			}
		}})
	}
	slices.SortStableFunc(edges, func(a, b edge) int { return cmp.Compare(a.at, b.at) })
	var out []rehearsal.State
	now := rehearsal.State{From: from}
	for _, e := range edges {
		if e.at > now.From {
			now.To = min(e.at, to)
			out = append(out, now)
			now.From = now.To
		}
		e.do(&now)
	}
	now.To = to
	return append(out, now)
}

// writeDay writes a day file that is not there yet.
func (a *app) writeDay(file string, data []byte) error {
	if _, err := os.Lstat(file); err == nil {
		return usageError("%s is there already; choose another name", file)
	}
	if err := writeFile(file, func(w io.Writer) error { _, err := w.Write(data); return err }); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), file)
	return nil
}
