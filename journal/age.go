package journal

import (
	"database/sql"
	"errors"

	"timegate/core/calendar"
)

// step is how many rows of a table are taken away at once: so few that a start
// which comes meanwhile does not wait for long.
const step = 400

// Size returns how many bytes of the journal are in use.
func (j *Journal) Size() (int64, error) {
	var pages, free, size int64
	for name, to := range map[string]*int64{"page_count": &pages, "freelist_count": &free, "page_size": &size} {
		if err := j.quick.QueryRow("PRAGMA " + name).Scan(to); err != nil {
			return 0, j.wrap(err)
		}
	}
	return (pages - free) * size, nil
}

// WantsCheckpoint reports whether the last checkpoint is older than an
// instant, or later than the last event since the clock was set back, or more events than
// so many have come since. History is only taken away up to a checkpoint.
func (j *Journal) WantsCheckpoint(older calendar.Instant, events int64) (bool, error) {
	var wants bool
	err := j.quick.QueryRow(`SELECT coalesce((SELECT max(id) FROM events), 0) > coalesce((SELECT max(event) FROM checkpoints), 0)
		AND (coalesce((SELECT at FROM checkpoints ORDER BY event DESC LIMIT 1), 0) < ?
			OR coalesce((SELECT at FROM checkpoints ORDER BY event DESC LIMIT 1), 0) > (SELECT at FROM events ORDER BY id DESC LIMIT 1)
			OR coalesce((SELECT max(id) FROM events), 0) - coalesce((SELECT max(event) FROM checkpoints), 0) > ?)`, int64(older), events).Scan(&wants)
	return wants, j.wrap(err)
}

// Age takes away a little of the history that is older than an instant, or
// that exceeds a size in bytes (0 for any). It reports whether there is more
// to take away. Nothing is decided by history, so nothing changes but what can
// be looked at and replayed.
func (j *Journal) Age(before calendar.Instant, size int64) (more bool, err error) {
	// Of a clock that was ahead once a later checkpoint knows better.
	var event, run int64
	var at calendar.Instant
	err = j.quick.QueryRow(`SELECT event, (SELECT min(at) FROM checkpoints AS later WHERE later.event >= c.event), coalesce(body ->> '$.machine.next_run', 0)
		FROM checkpoints AS c WHERE event >= (SELECT min(id) FROM events) ORDER BY event LIMIT 1`).Scan(&event, &at, &run)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, j.wrap(err)
	}
	if at >= before {
		used, err := j.Size()
		if err != nil || size == 0 || used <= size {
			return false, err
		}
	}
	if err := j.ageTo(event, run); err != nil {
		return false, err
	}
	_, err = j.quick.Exec("PRAGMA incremental_vacuum(100)")
	return true, j.wrap(err)
}

// ageTo takes one step away of what was recorded up to an event, and of the runs before
// a number.
func (j *Journal) ageTo(event, run int64) error {
	tx, err := j.quick.Begin()
	if err != nil {
		return j.wrap(err)
	}
	defer tx.Rollback()
	var rows int64
	for _, d := range []struct {
		query string
		args  []any
	}{
		{"DELETE FROM decisions WHERE id IN (SELECT id FROM decisions ORDER BY id LIMIT ?) AND event <= ?", []any{step, event}},
		{"DELETE FROM runs WHERE run IN (SELECT run FROM runs WHERE run < ? AND ended > 0 ORDER BY run LIMIT ?)", []any{run, step}},
		{"DELETE FROM presence WHERE event IN (SELECT event FROM presence WHERE event <= ? ORDER BY event LIMIT ?)", []any{event, step}},
		{"DELETE FROM checkpoints WHERE event < ?", []any{event}},
	} {
		res, err := tx.Exec(d.query, d.args...)
		if err != nil {
			return j.wrap(err)
		}
		n, _ := res.RowsAffected()
		rows = max(rows, n)
	}
	// Events last, since they say whether there is more to take away.
	if rows < step {
		res, err := tx.Exec("DELETE FROM events WHERE id IN (SELECT id FROM events WHERE id <= ? ORDER BY id LIMIT ?)", event, step)
		if err != nil {
			return j.wrap(err)
		}
		if n, _ := res.RowsAffected(); n < step {
			// The checkpoint from which is replayed names texts, too: what is later than it
			// names those or later ones.
			if _, err := tx.Exec(`DELETE FROM texts WHERE event <= ?1 AND version NOT IN (SELECT json_extract(body, '$.version') FROM state_gates
				UNION SELECT value FROM state_gates, json_each(state_gates.body, '$.days')
				UNION SELECT t.value FROM checkpoints AS c, json_tree(c.body) AS t WHERE c.event = ?1 AND t.type = 'text' AND (t.key = 'version' OR t.path LIKE '%.days'))`, event); err != nil {
				return j.wrap(err)
			}
		}
	}
	return j.wrap(tx.Commit())
}
