package journal

import (
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// Moment is all that was decided about one due of a gate, in order.
type Moment struct {
	Opening   string // "" for a start by hand
	Due       calendar.Instant
	Decisions []engine.Decision
	Runs      []Entry // that came of it
}

// Story returns the last moments of a gate, newest first. That files had
// begun to change and were not quiet yet is told with the moment that came of
// it.
func (j *Journal) Story(gate string, limit int) ([]Moment, error) {
	condition, key, err := j.ofGate(gate)
	if err != nil {
		return nil, err
	}
	dues, err := j.lastDues(condition, key, limit)
	if err != nil {
		return nil, err
	}
	var out []Moment
	for _, m := range dues {
		if m.Decisions, err = j.decisions("WHERE "+condition+" AND opening = ? AND due = ? ORDER BY id", key, m.Opening, int64(m.Due)); err != nil {
			return nil, err
		}
		m.Decisions = slices.DeleteFunc(m.Decisions, quiet)
		for _, step := range m.Decisions {
			if !step.Starts() {
				continue
			}
			run, ok, err := j.Run(step.Run)
			if err != nil {
				return nil, err
			}
			if ok {
				m.Runs = append(m.Runs, run)
			}
		}
		out = append(out, m)
	}
	return out, nil
}

// quiet reports whether a decision only tells that files have begun to change, and nothing of
// why that is special.
func quiet(d engine.Decision) bool {
	return d.Kind == engine.Wait && d.For == engine.ForQuiet && d.Code == engine.CodeQuiet
}

// lastDues walks back through what was decided about a gate, until there are
// so many dues. The gate is given by a condition with its argument.
func (j *Journal) lastDues(condition string, key any, limit int) ([]Moment, error) {
	rows, err := j.quick.Query("SELECT body FROM decisions WHERE "+condition+" ORDER BY id DESC", key)
	if err != nil {
		return nil, j.wrap(err)
	}
	defer rows.Close()
	var out []Moment
	type due struct {
		opening string
		at      calendar.Instant
	}
	seen := map[due]bool{}
	for len(out) < limit && rows.Next() {
		var body sql.RawBytes
		var d engine.Decision
		if err := rows.Scan(&body); err != nil {
			return nil, j.wrap(err)
		}
		if err := json.Unmarshal(body, &d); err != nil {
			return nil, err
		}
		if key := (due{d.Opening, d.Due}); !quiet(d) && !seen[key] {
			seen[key] = true
			out = append(out, Moment{Opening: d.Opening, Due: d.Due})
		}
	}
	return out, j.wrap(rows.Err())
}

// Version is what a gate's file was from an instant on.
type Version struct {
	At   calendar.Instant
	Text string // "" where the gate was removed
}

// Versions returns what a gate's file was as far back as that is kept, newest first.
// One that was read anew without a change is there once.
func (j *Journal) Versions(gate string) ([]Version, error) {
	list, err := collect(j, `
		SELECT e.at AS at, e.id AS id, coalesce((SELECT text FROM texts WHERE version = json_extract(d.value, '$.version')), '') AS text
			FROM events AS e, json_each(e.body, iif(e.kind = 'begin', '$.gates', '$.set')) AS d
			WHERE e.kind IN ('begin', 'gates') AND json_extract(d.value, '$.name') = ?1
		UNION ALL SELECT e.at, e.id, '' FROM events AS e, json_each(e.body, '$.removed') AS d WHERE e.kind = 'gates' AND d.value = ?1
		ORDER BY id DESC`, func(rows *sql.Rows) (Version, error) {
		var v Version
		var id int64
		err := rows.Scan(&v.At, &id, &v.Text)
		return v, err
	}, gate)
	var out []Version
	for i, v := range list {
		if i+1 < len(list) && list[i+1].Text == v.Text {
			continue
		}
		out = append(out, v)
	}
	return out, err
}

// UnwatchedSince returns from when on no keeper was there, before the one that begins now;
// 0 where none ever was. What one did not get to tell when it ended counts as unwatched.
func (j *Journal) UnwatchedSince() (calendar.Instant, error) {
	rows, err := j.quick.Query("SELECT at, kind FROM events ORDER BY id DESC LIMIT 2")
	if err != nil {
		return 0, j.wrap(err)
	}
	defer rows.Close()
	var since calendar.Instant
	for rows.Next() {
		var at calendar.Instant
		var kind string
		if err := rows.Scan(&at, &kind); err != nil {
			return 0, j.wrap(err)
		}
		if since = max(since, at); kind != string(engine.KindEnded) {
			break
		}
		since = at.Add(-untold)
	}
	return since, j.wrap(rows.Err())
}

// untold is how long a change of files may not have been told yet.
const untold = 200 * time.Millisecond

// Kept reports whether a keeper was there at an instant, as far as it said so: one
// that was killed counts until the next begins.
func (j *Journal) Kept(at calendar.Instant) (bool, error) {
	var kind string
	err := j.quick.QueryRow("SELECT kind FROM presence WHERE at <= ? ORDER BY at DESC, event DESC LIMIT 1", int64(at)).Scan(&kind)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return kind != presenceEnd, j.wrap(err)
}
