package journal

import (
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
	const settled = `NOT (kind = 'wait' AND coalesce(json_extract(body, '$.for'), '') = 'quiet')`
	latest, err := j.decisions(`WHERE id IN (SELECT max(id) FROM decisions WHERE gate = ? AND `+settled+`
		GROUP BY opening, due ORDER BY max(id) DESC LIMIT ?) ORDER BY id DESC`, gate, limit)
	if err != nil {
		return nil, err
	}
	var out []Moment
	for _, d := range latest {
		m := Moment{Opening: d.Opening, Due: d.Due}
		if m.Decisions, err = j.decisions("WHERE gate = ? AND opening = ? AND due = ? AND "+settled+" ORDER BY id", gate, d.Opening, int64(d.Due)); err != nil {
			return nil, err
		}
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
