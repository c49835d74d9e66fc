package journal

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// Entry is a line of the history: a run, or a moment that passed without one.
type Entry struct {
	Run     int64 // 0 where nothing was started
	Gate    string
	Opening string // "" for a start by hand
	Due     calendar.Instant
	Decided calendar.Instant
	Started calendar.Instant // 0 if it never did
	Ended   calendar.Instant // 0 while it runs
	Result  engine.Result
	Exit    int
	Signal  string
	Reason  string // why it started, or why it did not
	Outcome string // why it ended as it did
	PID     int
	Command []string
	Account string // whom it runs as
	Note    string // what could not be as it was wished
	Count   int64  // how many moments the line stands for
	Usage   engine.Usage
	// What was measured when it started and when it ended, in bytes.
	Before, After map[string]int64
}

// Filter selects entries.
type Filter struct {
	Gate  string           // "" for all
	Since calendar.Instant // 0 for all
	Limit int              // newest first; 0 for all
	// OnlyRuns leaves out the moments without a run.
	OnlyRuns bool
}

const runColumns = `run, gate, opening, due, decided, started, ended, result, exit, signal, reason, outcome, pid, command,
	user_ms, system_ms, max_rss, output, dropped, before, after, account, note`

// History returns entries, newest first.
func (j *Journal) History(f Filter) ([]Entry, error) {
	limit := f.Limit
	if limit <= 0 {
		limit = -1
	}
	which, whose := "", []any{}
	if f.Gate != "" {
		which, whose = "gate = ? AND ", []any{f.Gate}
	}
	args := append(whose, int64(f.Since), limit)
	runs, err := j.runs("WHERE "+which+"decided >= ? ORDER BY run DESC LIMIT ?", args...)
	if err != nil || f.OnlyRuns {
		return runs, err
	}
	passed, err := j.decisions("WHERE kind = 'skip' AND "+which+"at >= ? ORDER BY id DESC LIMIT ?", args...)
	if err != nil {
		return nil, err
	}
	var skips []Entry
	for _, d := range passed {
		skips = append(skips, Entry{Gate: d.Gate, Opening: d.Opening, Due: d.Due, Decided: d.At, Result: d.Result, Reason: d.Reason, Count: d.Count})
	}
	return merge(runs, skips, f.Limit), nil
}

// merge joins two lists that are in order, newest first.
func merge(a, b []Entry, limit int) []Entry {
	out := make([]Entry, 0, len(a)+len(b))
	for len(a) > 0 || len(b) > 0 {
		if len(b) == 0 || len(a) > 0 && a[0].Decided >= b[0].Decided {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	if limit > 0 && len(out) > limit {
		out = out[:limit]
	}
	return out
}

// Run returns one run, and false if there is none of that number.
func (j *Journal) Run(run int64) (Entry, bool, error) {
	list, err := j.runs("WHERE run = ?", run)
	if err != nil || len(list) == 0 {
		return Entry{}, false, err
	}
	return list[0], true, nil
}

// LastRuns returns the newest run of each gate that has one.
func (j *Journal) LastRuns() (map[string]Entry, error) {
	list, err := j.runs("WHERE run IN (SELECT max(run) FROM runs GROUP BY gate)")
	out := make(map[string]Entry, len(list))
	for _, e := range list {
		out[e.Gate] = e
	}
	return out, err
}

// Alive returns the runs that have not ended, oldest first.
func (j *Journal) Alive() ([]Entry, error) { return j.runs("WHERE ended = 0 ORDER BY run") }

func (j *Journal) runs(where string, args ...any) ([]Entry, error) {
	return collect(j, "SELECT "+runColumns+" FROM runs "+where, func(rows *sql.Rows) (Entry, error) {
		var e Entry
		var command, before, after string
		err := rows.Scan(&e.Run, &e.Gate, &e.Opening, &e.Due, &e.Decided, &e.Started, &e.Ended, &e.Result, &e.Exit, &e.Signal,
			&e.Reason, &e.Outcome, &e.PID, &command, &e.Usage.UserMS, &e.Usage.SystemMS, &e.Usage.MaxRSS, &e.Usage.Output, &e.Usage.Dropped,
			&before, &after, &e.Account, &e.Note)
		if err == nil {
			err = json.Unmarshal([]byte(command), &e.Command)
		}
		if err == nil && before != "" {
			err = json.Unmarshal([]byte(before), &e.Before)
		}
		if err == nil && after != "" {
			err = json.Unmarshal([]byte(after), &e.After)
		}
		return e, err
	}, args...)
}

// collect collects rows.
func collect[T any](j *Journal, query string, scan func(*sql.Rows) (T, error), args ...any) ([]T, error) {
	rows, err := j.brisk.Query(query, args...)
	if err != nil {
		return nil, j.wrap(err)
	}
	defer rows.Close()
	var out []T
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return nil, j.wrap(err)
		}
		out = append(out, v)
	}
	return out, j.wrap(rows.Err())
}

// Booted returns the boot that was last recorded and when it was first seen.
func (j *Journal) Booted() (id string, at calendar.Instant, err error) {
	err = j.brisk.QueryRow(`SELECT (SELECT value FROM facts WHERE name = 'boot_id'),
		(SELECT CAST(value AS INTEGER) FROM facts WHERE name = 'booted') WHERE EXISTS (SELECT 1 FROM facts WHERE name = 'booted')`).Scan(&id, &at)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return id, at, j.wrap(err)
}

// Memory returns what a new engine must know, on the boot named bootID.
func (j *Journal) Memory(bootID string) (*engine.Memory, error) {
	m := &engine.Memory{NextRun: 1, Versions: map[string]string{}, Openings: map[string]engine.OpeningMemory{}, LastGood: map[string]calendar.Instant{}}
	db := j.brisk
	if err := db.QueryRow("SELECT coalesce((SELECT at FROM events ORDER BY id DESC LIMIT 1), 0), coalesce((SELECT max(run) FROM runs), 0) + 1").
		Scan(&m.LastSeen, &m.NextRun); err != nil {
		return nil, j.wrap(err)
	}
	id, booted, err := j.Booted()
	if err != nil {
		return nil, err
	}
	if id == bootID {
		m.Booted = booted
	}
	for _, step := range []func(*engine.Memory) error{j.recallOpenings, j.recallGood, j.recallVersions, j.recallPause, j.recallRuns, j.recallWaits, j.recallPeople} {
		if err := step(m); err != nil {
			return nil, fmt.Errorf("what happened before: %w", err)
		}
	}
	return m, nil
}

func (j *Journal) recallOpenings(m *engine.Memory) error {
	recall := func(query string, set func(o *engine.OpeningMemory, due calendar.Instant, n int64)) error {
		_, err := collect(j, query, func(rows *sql.Rows) (struct{}, error) {
			var gate, opening string
			var due calendar.Instant
			var n int64
			err := rows.Scan(&gate, &opening, &due, &n)
			o := m.Openings[engine.Key(gate, opening)]
			set(&o, due, n)
			m.Openings[engine.Key(gate, opening)] = o
			return struct{}{}, err
		})
		return err
	}
	if err := recall("SELECT gate, opening, max(due), 0 FROM decisions WHERE opening != '' GROUP BY gate, opening",
		func(o *engine.OpeningMemory, due calendar.Instant, _ int64) { o.Last = due }); err != nil {
		return err
	}
	return recall("SELECT gate, opening, max(due), count(DISTINCT due) FROM decisions WHERE moment = 1 GROUP BY gate, opening",
		func(o *engine.OpeningMemory, due calendar.Instant, n int64) { o.Moment, o.Count = due, n })
}

func (j *Journal) recallGood(m *engine.Memory) (err error) {
	m.LastGood, err = j.LastGood()
	return err
}

// LastGood returns when each gate's last good run ended.
func (j *Journal) LastGood() (map[string]calendar.Instant, error) {
	out := map[string]calendar.Instant{}
	_, err := collect(j, "SELECT gate, max(ended) FROM runs WHERE result = 'ok' GROUP BY gate", func(rows *sql.Rows) (struct{}, error) {
		var gate string
		var at calendar.Instant
		err := rows.Scan(&gate, &at)
		out[gate] = at
		return struct{}{}, err
	})
	return out, err
}

// recallVersions plays the changes of gates since the last keeper began.
func (j *Journal) recallVersions(m *engine.Memory) error {
	events, err := j.Events("WHERE kind IN ('begin', 'gates') AND id >= coalesce((SELECT max(id) FROM events WHERE kind = 'begin'), 0) ORDER BY id")
	for _, ev := range events {
		for _, def := range ev.Set {
			m.Versions[def.Name] = def.Version
		}
		for _, name := range ev.Removed {
			delete(m.Versions, name)
		}
	}
	return err
}

func (j *Journal) recallPause(m *engine.Memory) error {
	events, err := j.Events("WHERE kind IN ('pause', 'resume') ORDER BY id DESC LIMIT 1")
	if err == nil && len(events) == 1 && events[0].Kind == engine.Pause {
		ev := events[0]
		m.Paused, m.PausedSince, m.PauseUntil = true, ev.At, ev.Until
	}
	return err
}

func (j *Journal) recallRuns(m *engine.Memory) error {
	alive, err := j.Alive()
	for _, e := range alive {
		rm := engine.RunMemory{Run: e.Run, Gate: e.Gate, Opening: e.Opening, Due: e.Due, Started: e.Started, PID: e.PID}
		started, err := j.decisions("WHERE gate = ? AND opening = ? AND due = ? AND run = ? ORDER BY id LIMIT 1", e.Gate, e.Opening, int64(e.Due), e.Run)
		if err != nil {
			return err
		}
		for _, d := range started {
			rm.Try = d.Try
		}
		m.Running = append(m.Running, rm)
	}
	return err
}

// recallWaits finds the starts that were still waiting: nothing was decided
// about their due since. Files that change put the due off, so there any
// later word on the opening counts.
func (j *Journal) recallWaits(m *engine.Memory) error {
	waits, err := j.decisions(`AS w WHERE kind = 'wait' AND NOT EXISTS (SELECT 1 FROM decisions AS s
		WHERE s.gate = w.gate AND s.opening = w.opening AND s.id > w.id AND (s.due = w.due OR json_extract(w.body, '$.for') = 'quiet')
			AND s.kind IN ('start', 'repeat', 'retry', 'catch-up', 'skip', 'wait'))
		AND (json_extract(w.body, '$.try') IS NULL OR NOT EXISTS (SELECT 1 FROM runs AS r WHERE r.gate = w.gate AND r.decided >= w.at)) ORDER BY id`)
	for _, d := range waits {
		m.Waiting = append(m.Waiting, engine.WaitMemory{For: waitFor(&d), Gate: d.Gate, Opening: d.Opening, Due: d.Due, Until: d.Until, Try: d.Try, Cause: d.Cause})
	}
	return err
}

// waitFor tells what a start waited for; early journals did not say.
func waitFor(d *engine.Decision) engine.WaitFor {
	switch {
	case d.For != "":
		return d.For
	case d.Until == 0:
		return engine.ForRun
	case d.Try > 0:
		return engine.ForRetry
	}
	return engine.ForDelay
}

// recallPeople returns who was told to be logged on, in this boot.
func (j *Journal) recallPeople(m *engine.Memory) error {
	if m.Booted == 0 {
		return nil
	}
	var text string
	err := j.brisk.QueryRow("SELECT value FROM facts WHERE name = 'people'").Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return j.wrap(err)
	}
	return json.Unmarshal([]byte(text), &m.People)
}

func (j *Journal) decisions(where string, args ...any) ([]engine.Decision, error) {
	return collect(j, "SELECT body FROM decisions "+where, func(rows *sql.Rows) (engine.Decision, error) {
		var body string
		var d engine.Decision
		err := rows.Scan(&body)
		if err == nil {
			err = json.Unmarshal([]byte(body), &d)
		}
		return d, err
	}, args...)
}

// Events returns recorded events, in order unless where says otherwise.
func (j *Journal) Events(where string, args ...any) ([]engine.Event, error) {
	return collect(j, "SELECT body FROM events "+where, func(rows *sql.Rows) (engine.Event, error) {
		var body string
		var ev engine.Event
		err := rows.Scan(&body)
		if err == nil {
			err = json.Unmarshal([]byte(body), &ev)
		}
		return ev, err
	}, args...)
}

// Decisions returns the JSON of all decisions, in order.
func (j *Journal) Decisions() ([]string, error) {
	return collect(j, "SELECT body FROM decisions ORDER BY id", func(rows *sql.Rows) (string, error) {
		var body string
		return body, rows.Scan(&body)
	})
}

// Text returns the text of a gate's version.
func (j *Journal) Text(version string) (string, error) {
	var text string
	err := j.brisk.QueryRow("SELECT text FROM texts WHERE version = ?", version).Scan(&text)
	return text, j.wrap(err)
}

// LongRun is the longest run of a gate.
type LongRun struct {
	Gate string
	Run  int64
	Took time.Duration
}

// Longest returns the longest run of each gate, the longest first.
func (j *Journal) Longest() ([]LongRun, error) {
	return collect(j, `SELECT gate, run, max(ended - started) AS took FROM runs WHERE ended > 0 AND started > 0 GROUP BY gate ORDER BY took DESC`,
		func(rows *sql.Rows) (LongRun, error) {
			var l LongRun
			var ms int64
			err := rows.Scan(&l.Gate, &l.Run, &ms)
			l.Took = time.Duration(ms) * time.Millisecond
			return l, err
		})
}
