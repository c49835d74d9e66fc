package control

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/home"
	"timegate/journal"
)

// Records is what was recorded, as far as the caller may see it.
type Records interface {
	History(journal.Filter) ([]journal.Entry, error)
	Run(int64) (journal.Entry, bool, error)
	LastRuns() (map[string]journal.Entry, error)
	LastGood() (map[string]calendar.Instant, error)
	Longest() ([]journal.LongRun, error)
	Costs() (map[string]journal.Cost, error)
	Stats(journal.Filter) ([]journal.Stats, error)
	Settled(limit int) ([]engine.Settled, error)
	Booted() (id string, at calendar.Instant, err error)
	Absences(since calendar.Instant) (journal.Absences, error)
	Story(gate string, limit int) ([]journal.Moment, error)
	// Versions and Kept tell what a gate was, and whether a keeper was there. Who
	// must ask the keeper is not told.
	Versions(gate string) ([]journal.Version, error)
	Kept(at calendar.Instant) (bool, error)
	// Output returns what a run printed.
	Output(run int64) ([]byte, error)
	Close() error
}

// Records opens what a home's keeper has recorded. It returns nil where that
// is nothing yet.
func (c *Client) Records() (Records, error) {
	if c.home.OfOthers() {
		return asked{c}, nil
	}
	j, err := journal.OpenReader(c.home.Journal())
	if errors.Is(err, journal.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return opened{j, c.home}, nil
}

// opened reads the files of a home.
type opened struct {
	*journal.Journal
	home home.Home
}

func (r opened) Output(run int64) ([]byte, error) { return r.home.ReadOutput(run) }

// question asks a keeper for something recorded: the name of a method of
// [Records], and what it is given.
type question struct {
	About  string         `json:"about"`
	Filter journal.Filter `json:"filter"`
	Gate   string         `json:"gate,omitempty"`
	Limit  int            `json:"limit,omitempty"`
	Run    int64          `json:"run,omitempty"`
}

// reply is what comes of it: of the fields, those that the question is for.
type reply struct {
	Entries []journal.Entry             `json:"entries,omitempty"`
	Last    map[string]journal.Entry    `json:"last,omitempty"`
	Good    map[string]calendar.Instant `json:"good,omitempty"`
	Long    []journal.LongRun           `json:"long,omitempty"`
	Moments []journal.Moment            `json:"moments,omitempty"`
	Costs   map[string]journal.Cost     `json:"costs,omitempty"`
	Stats   []journal.Stats             `json:"stats,omitempty"`
	Settled []engine.Settled            `json:"settled,omitempty"`
	Boot    string                      `json:"boot,omitempty"`
	Booted  calendar.Instant            `json:"booted,omitempty"`
	Away    journal.Absences            `json:"away,omitzero"`
	Output  []byte                      `json:"output,omitempty"`
}

// most is how many lines of history, or moments, are told in one reply.
const most = 10_000

// replyTo answers a question from records.
func replyTo(q question, from Records) (r reply, err error) {
	if q.Filter.Limit <= 0 || q.Filter.Limit > most {
		q.Filter.Limit = most
	}
	switch q.About {
	case "history":
		r.Entries, err = from.History(q.Filter)
	case "run", "output":
		var e journal.Entry
		var ok bool
		if e, ok, err = from.Run(q.Run); err != nil || !ok {
			return r, err
		}
		r.Entries = []journal.Entry{e}
		if q.About == "output" {
			r.Output, err = from.Output(q.Run)
		}
	case "last":
		r.Last, err = from.LastRuns()
	case "good":
		r.Good, err = from.LastGood()
	case "long":
		r.Long, err = from.Longest()
	case "costs":
		r.Costs, err = from.Costs()
	case "stats":
		r.Stats, err = from.Stats(q.Filter)
	case "settled":
		r.Settled, err = from.Settled(min(max(q.Limit, 1), most))
	case "boot":
		r.Boot, r.Booted, err = from.Booted()
	case "absences":
		r.Away, err = from.Absences(q.Filter.Since)
	case "story":
		r.Moments, err = from.Story(q.Gate, min(max(q.Limit, 1), most))
	default:
		err = fmt.Errorf("nothing is recorded about %q", q.About)
	}
	return r, err
}

// asked asks the keeper.
type asked struct{ client *Client }

func (t asked) ask(q question) (reply, error) {
	var r reply
	return r, t.client.call(context.Background(), http.MethodPost, "/records", q, &r)
}

func (t asked) History(f journal.Filter) ([]journal.Entry, error) {
	r, err := t.ask(question{About: "history", Filter: f})
	return r.Entries, err
}

func (t asked) Run(run int64) (journal.Entry, bool, error) {
	r, err := t.ask(question{About: "run", Run: run})
	if err != nil || len(r.Entries) == 0 {
		return journal.Entry{}, false, err
	}
	return r.Entries[0], true, nil
}

func (t asked) LastRuns() (map[string]journal.Entry, error) {
	r, err := t.ask(question{About: "last"})
	return r.Last, err
}

func (t asked) LastGood() (map[string]calendar.Instant, error) {
	r, err := t.ask(question{About: "good"})
	return r.Good, err
}

func (t asked) Longest() ([]journal.LongRun, error) {
	r, err := t.ask(question{About: "long"})
	return r.Long, err
}

func (t asked) Costs() (map[string]journal.Cost, error) {
	r, err := t.ask(question{About: "costs"})
	return r.Costs, err
}

func (t asked) Stats(f journal.Filter) ([]journal.Stats, error) {
	r, err := t.ask(question{About: "stats", Filter: f})
	return r.Stats, err
}

func (t asked) Settled(limit int) ([]engine.Settled, error) {
	r, err := t.ask(question{About: "settled", Limit: limit})
	return r.Settled, err
}

func (t asked) Booted() (string, calendar.Instant, error) {
	r, err := t.ask(question{About: "boot"})
	return r.Boot, r.Booted, err
}

func (t asked) Absences(since calendar.Instant) (journal.Absences, error) {
	r, err := t.ask(question{About: "absences", Filter: journal.Filter{Since: since}})
	return r.Away, err
}

func (t asked) Story(gate string, limit int) ([]journal.Moment, error) {
	r, err := t.ask(question{About: "story", Gate: gate, Limit: limit})
	return r.Moments, err
}

func (t asked) Output(run int64) ([]byte, error) {
	r, err := t.ask(question{About: "output", Run: run})
	return r.Output, err
}

func (t asked) Versions(string) ([]journal.Version, error) { return nil, nil }

func (t asked) Kept(calendar.Instant) (bool, error) { return true, nil }

func (t asked) Close() error { return nil }

// Files reads the gates of a home that the caller may see.
func (c *Client) Files(env phrase.Env) ([]gates.File, error) {
	if !c.home.OfOthers() {
		return gates.ReadFolder(c.home, env)
	}
	texts := map[string]string{}
	if err := c.call(context.Background(), http.MethodGet, "/gates", nil, &texts); err != nil {
		return nil, err
	}
	out := make([]gates.File, 0, len(texts))
	for name, text := range texts {
		out = append(out, gates.Parse(c.home, name, []byte(text), env))
	}
	gates.Sort(out)
	return out, nil
}
