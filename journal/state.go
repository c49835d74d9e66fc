package journal

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// State returns the engine's state as it was last committed; false where there
// is none yet.
func (j *Journal) State() (engine.State, bool, error) {
	s := engine.State{Gates: map[string]engine.GateState{}}
	var body string
	err := j.quick.QueryRow("SELECT version, body FROM state_machine").Scan(&s.Version, &body)
	if errors.Is(err, sql.ErrNoRows) {
		return s, false, nil
	}
	if err == nil {
		err = json.Unmarshal([]byte(body), &s.Machine)
	}
	if err != nil {
		return s, false, j.wrap(err)
	}
	_, err = collect(j, "SELECT gate, body FROM state_gates", func(rows *sql.Rows) (struct{}, error) {
		var name string
		var body sql.RawBytes
		if err := rows.Scan(&name, &body); err != nil {
			return struct{}{}, err
		}
		var g engine.GateState
		err := json.Unmarshal(body, &g)
		s.Gates[name] = g
		return struct{}{}, err
	})
	if err != nil {
		return s, false, err
	}
	return s, true, j.stateFiles(&s)
}

// stateFiles adds the files that changed and that no run was told of yet.
func (j *Journal) stateFiles(s *engine.State) error {
	type key struct {
		gate, opening string
		settled       bool
	}
	files := map[key][]string{}
	_, err := collect(j, "SELECT gate, opening, settled, paths FROM state_files ORDER BY id", func(rows *sql.Rows) (struct{}, error) {
		var k key
		var paths sql.RawBytes
		err := rows.Scan(&k.gate, &k.opening, &k.settled, &paths)
		files[k] = append(files[k], splitPaths(paths)...)
		return struct{}{}, err
	})
	for k, paths := range files {
		for i := range s.Gates[k.gate].Openings {
			if o := &s.Gates[k.gate].Openings[i]; o.Name == k.opening {
				if k.settled {
					o.Files = engine.NewFileSet(paths)
				} else {
					o.MovingFiles = engine.NewFileSet(paths)
				}
			}
		}
	}
	return err
}

// Booted returns the boot that was last recorded and when it was first seen.
func (j *Journal) Booted() (id string, at calendar.Instant, err error) {
	err = j.quick.QueryRow("SELECT coalesce(json_extract(body, '$.boot_id'), ''), coalesce(json_extract(body, '$.booted'), 0) FROM state_machine").Scan(&id, &at)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return id, at, j.wrap(err)
}

// Text returns a text that an event brought, by its version.
func (j *Journal) Text(version string) (string, error) {
	var text string
	err := j.quick.QueryRow("SELECT text FROM texts WHERE version = ?", version).Scan(&text)
	return text, j.wrap(err)
}

// Checkpoint keeps the state as it is now, whole, so that a replay can begin
// there.
func (j *Journal) Checkpoint() error {
	_, err := j.quick.Exec(`INSERT OR REPLACE INTO checkpoints (event, at, body)
		SELECT (SELECT max(id) FROM events), (SELECT at FROM events ORDER BY id DESC LIMIT 1),
			json_object('version', version, 'machine', json(body),
				'gates', json((SELECT json_group_object(gate, json(body)) FROM state_gates)))
		FROM state_machine`)
	return j.wrap(err)
}

// Past is a stretch of the history as it was recorded: the state before it,
// and its events.
type Past struct {
	State  engine.State // its Version is 0 at the beginning of a journal
	After  int64        // the number of the event that led to it
	Events []engine.Event
}

// lastAt returns the number of the last event that was recorded at an instant or
// before, 0 where there is none. The order of what was recorded is that of the numbers:
// a clock may have been set back since.
func (j *Journal) lastAt(at calendar.Instant) (event int64, err error) {
	err = j.quick.QueryRow("SELECT id FROM events WHERE at <= ? ORDER BY id DESC LIMIT 1", int64(at)).Scan(&event)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return event, j.wrap(err)
}

// Past returns what was recorded from the last checkpoint at or before an
// instant on, until another: where the clock was set in between, all that came in
// between, whatever the clock said.
func (j *Journal) Past(from, to calendar.Instant) (Past, error) {
	var p Past
	var event int64
	var body string
	first, err := j.lastAt(from)
	last, lastErr := j.lastAt(to)
	if err := errors.Join(err, lastErr); err != nil {
		return p, err
	}
	err = j.quick.QueryRow("SELECT event, body FROM checkpoints WHERE event <= ? ORDER BY event DESC LIMIT 1", first).Scan(&event, &body)
	if errors.Is(err, sql.ErrNoRows) {
		err = j.quick.QueryRow("SELECT event, body FROM checkpoints WHERE event < (SELECT min(id) FROM events)").Scan(&event, &body)
	}
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return p, j.wrap(err)
	}
	if body != "" {
		kept := struct {
			Version int
			Machine engine.Machine
			Gates   map[string]engine.GateState
		}{}
		if err := json.Unmarshal([]byte(body), &kept); err != nil {
			return p, fmt.Errorf("the checkpoint after event %d: %w", event, err)
		}
		p.State = engine.State(kept)
	}
	p.After = event
	p.Events, err = j.events("WHERE id > ? AND id <= ? ORDER BY id", event, last)
	return p, err
}

// events returns recorded events.
func (j *Journal) events(where string, args ...any) ([]engine.Event, error) {
	return collect(j, "SELECT at, kind, body FROM events "+where, func(rows *sql.Rows) (engine.Event, error) {
		var at calendar.Instant
		var kind engine.Kind
		var body sql.RawBytes
		if err := rows.Scan(&at, &kind, &body); err != nil {
			return engine.Event{}, err
		}
		return engine.DecodeEvent(at, kind, body)
	}, args...)
}

// Committed is an event with what was decided, by its number. A viewer sees
// decisions of its own, and neither kinds of events nor those without one.
type Committed struct {
	Number    int64
	At        calendar.Instant
	Kind      engine.Kind
	Decisions []engine.Decision
	Accounts  map[string]string // whom the gates of the decisions run as
}

// Newest returns the number of the last event that was committed, 0 for none.
func (j *Journal) Newest() (number int64, err error) {
	err = j.quick.QueryRow("SELECT coalesce(max(id), 0) FROM events").Scan(&number)
	return number, j.wrap(err)
}

// Committed returns so many events after a number, in order.
func (j *Journal) Committed(after int64, limit int) ([]Committed, error) {
	var out []Committed
	_, err := collect(j, `SELECT e.id, e.at, e.kind, coalesce(d.body, ''), coalesce(d.account, '') FROM
			(SELECT id, at, kind FROM events WHERE id > ?1 ORDER BY id LIMIT ?2) AS e LEFT JOIN decisions AS d ON d.event = e.id ORDER BY e.id, d.id`,
		func(rows *sql.Rows) (struct{}, error) {
			var c Committed
			var body sql.RawBytes
			var account string
			if err := rows.Scan(&c.Number, &c.At, &c.Kind, &body, &account); err != nil {
				return struct{}{}, err
			}
			if n := len(out); n == 0 || out[n-1].Number != c.Number {
				out = append(out, c)
			}
			if len(body) == 0 {
				return struct{}{}, nil
			}
			last := &out[len(out)-1]
			var d engine.Decision
			if err := json.Unmarshal(body, &d); err != nil {
				return struct{}{}, err
			}
			if last.Accounts == nil {
				last.Accounts = map[string]string{}
			}
			last.Decisions, last.Accounts[d.Gate] = append(last.Decisions, d), account
			return struct{}{}, nil
		}, after, limit)
	return out, err
}

// Decisions returns the JSON of all decisions after an event, in order.
func (j *Journal) Decisions(after int64) ([]string, error) {
	return collect(j, "SELECT body FROM decisions WHERE event > ? ORDER BY id", func(rows *sql.Rows) (string, error) {
		var body string
		return body, rows.Scan(&body)
	}, after)
}
