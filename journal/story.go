package journal

import (
	"database/sql"
	"encoding/json"
	"slices"

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
	dues, err := j.lastDues(gate, limit)
	if err != nil {
		return nil, err
	}
	var out []Moment
	for _, m := range dues {
		if m.Decisions, err = j.decisions("WHERE gate = ? AND opening = ? AND due = ? ORDER BY id", gate, m.Opening, int64(m.Due)); err != nil {
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

// quiet reports whether a decision only tells that files have begun to change.
func quiet(d engine.Decision) bool { return d.Kind == engine.Wait && d.For == engine.ForQuiet }

// lastDues walks back through what was decided about a gate, until there are
// so many dues.
func (j *Journal) lastDues(gate string, limit int) ([]Moment, error) {
	rows, err := j.quick.Query("SELECT body FROM decisions WHERE gate = ? ORDER BY id DESC", gate)
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
