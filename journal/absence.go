package journal

import (
	"database/sql"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// Absence is a time in which the machine was asleep or off.
type Absence struct {
	From, To calendar.Instant
	Off      bool
}

// Absences tell when the machine was asleep or off, from Since on, as far as
// that is certain: a machine whose power failed may have been up until then.
type Absences struct {
	Since calendar.Instant // 0 where nothing is known
	Spans []Absence        // in order
}

// Absences returns what is known of the time since an instant.
func (j *Journal) Absences(since calendar.Instant) (Absences, error) {
	var a Absences
	if err := j.brisk.QueryRow("SELECT coalesce(min(at), 0) FROM events WHERE at >= ?", int64(since)).Scan(&a.Since); err != nil {
		return a, j.wrap(err)
	}
	// When the keeper before had ended in good order: with the machine if that
	// boots next, and else by itself.
	var ended, before calendar.Instant
	_, err := collect(j, `SELECT at, kind, coalesce(json_extract(body, '$.by'), 0) FROM events
		WHERE kind IN ('begin', 'boot', 'asleep', 'rest') AND at >= ? ORDER BY id`, func(rows *sql.Rows) (struct{}, error) {
		var at, by calendar.Instant
		var kind engine.EventKind
		err := rows.Scan(&at, &kind, &by)
		switch {
		case kind == engine.Rest:
			ended = at
		case kind == engine.Begin:
			before, ended = ended, 0
		case kind == engine.Asleep:
			a.Spans = append(a.Spans, Absence{From: at - by, To: at})
		case kind == engine.Boot && before != 0 && before < at:
			a.Spans = append(a.Spans, Absence{From: before, To: at, Off: true})
			before = 0
		}
		return struct{}{}, err
	}, int64(since))
	return a, err
}
