package journal

import (
	"database/sql"

	"timegate/core/calendar"
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
	if err := j.quick.QueryRow("SELECT coalesce(min(at), 0) FROM presence WHERE at >= ?", int64(since)).Scan(&a.Since); err != nil {
		return a, j.wrap(err)
	}
	// When the keeper before had ended in good order: with the machine if that
	// boots next, and else by itself.
	var ended calendar.Instant
	_, err := collect(j, "SELECT at, kind, span FROM presence WHERE at >= ? ORDER BY event", func(rows *sql.Rows) (struct{}, error) {
		var at, span calendar.Instant
		var kind string
		err := rows.Scan(&at, &kind, &span)
		switch kind {
		case presenceSlept:
			a.Spans = append(a.Spans, Absence{From: at - span, To: at})
		case presenceBoot:
			if ended != 0 && ended < at {
				a.Spans = append(a.Spans, Absence{From: ended, To: at, Off: true})
			}
		}
		if ended = 0; kind == presenceEnd {
			ended = at
		}
		return struct{}{}, err
	}, int64(since))
	return a, err
}
