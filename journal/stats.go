package journal

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"maps"
	"math"
	"slices"
	"time"

	"timegate/core/engine"
)

// Stats are the figures of a gate over a time.
type Stats struct {
	Gate    string
	Runs    int64 // that have ended
	Bad     int64 // of them, those that did not end well, or as the filter says
	Skipped int64 // moments without a run
	Missed  int64 // moments at which no keeper or machine was there
	Longest time.Duration
	Total   time.Duration // of all runs that have ended
}

// What is asked for the figures of runs. Over all time, each figure is read from an index (the
// plus sign keeps SQLite from another one);
// of a part of it, the runs are looked up by when they were decided.
var (
	allStats = `WITH n AS (SELECT gate, count(*) AS runs FROM runs GROUP BY gate),
			good AS (SELECT gate, count(*) AS ok FROM runs WHERE result = 'ok' GROUP BY gate),
			alive AS (SELECT gate, count(*) AS running FROM runs WHERE ended = 0 GROUP BY +gate),
			long AS (SELECT gate, max(took) AS longest, sum(took) AS total FROM runs WHERE took > 0 GROUP BY gate)
		SELECT ` + nameOf("n.gate") + ` AS name, sum(runs - coalesce(running, 0)), sum(runs - coalesce(running, 0) - coalesce(ok, 0)),
			max(coalesce(longest, 0)), sum(coalesce(total, 0))
		FROM n LEFT JOIN good USING (gate) LEFT JOIN alive USING (gate) LEFT JOIN long USING (gate) GROUP BY name`
	someStats = `SELECT ` + nameOf("gate") + ` AS name, sum(ended), sum(bad), max(longest), sum(total) FROM
		(SELECT gate, sum(ended > 0) AS ended, sum(ended > 0 AND iif(? = '', result <> 'ok', result IN (SELECT value FROM json_each(?)))) AS bad, max(took) AS longest, sum(took) AS total FROM runs
			WHERE decided >= ? AND decided <= ? AND (? = '' OR gate IN (SELECT value FROM json_each(?))) GROUP BY +gate) GROUP BY name`
)

// Stats returns the figures of the gates that did something in the time that a filter
// selects, by name. Of the filter, only the gate and the time count; its results, where there
// are some, say which runs are bad ones.
func (j *Journal) Stats(f Filter) ([]Stats, error) {
	until := int64(math.MaxInt64)
	if f.Until != 0 {
		until = int64(f.Until)
	}
	keys, err := j.keysOf(f.Gate)
	if err != nil {
		return nil, err
	}
	list, err := json.Marshal(append([]string{}, keys...))
	if err != nil {
		return nil, err
	}
	between := []any{int64(f.Since), until, f.Gate, string(list)}
	bad := ""
	if len(f.Results) > 0 {
		list, err := json.Marshal(f.Results)
		if err != nil {
			return nil, err
		}
		bad = string(list)
	}
	query, args := someStats, append([]any{bad, cmp.Or(bad, "[]")}, between...)
	if f.Gate == "" && f.Since == 0 && f.Until == 0 && bad == "" && !j.views { // a view has no indices
		query, args = allStats, nil
	}
	runs, err := collect(j, query, func(rows *sql.Rows) (Stats, error) {
		var s Stats
		var longest, total int64
		err := rows.Scan(&s.Gate, &s.Runs, &s.Bad, &longest, &total)
		s.Longest, s.Total = time.Duration(longest)*time.Millisecond, time.Duration(total)*time.Millisecond
		return s, err
	}, args...)
	if err != nil {
		return nil, err
	}
	passed, err := j.passedStats(between)
	if err != nil {
		return nil, err
	}
	byGate := map[string]Stats{}
	for _, s := range runs {
		byGate[s.Gate] = s
	}
	for _, p := range passed {
		s := byGate[p.Gate]
		s.Gate, s.Skipped, s.Missed = p.Gate, p.Skipped, p.Missed
		byGate[p.Gate] = s
	}
	return slices.SortedFunc(maps.Values(byGate), func(a, b Stats) int { return cmp.Compare(a.Gate, b.Gate) }), nil
}

// passedStats counts the moments that passed without a run.
func (j *Journal) passedStats(between []any) ([]Stats, error) {
	indexed := "INDEXED BY passed_gate"
	if j.views {
		indexed = "" // a view has no index; what one account did not run is little
	}
	return collect(j, `SELECT `+nameOf("gate")+` AS name, sum(skipped), sum(missed) FROM (SELECT gate, sum(iif(result = ?, 0, n)) AS skipped, sum(iif(result = ?, n, 0)) AS missed FROM
		(SELECT gate, body ->> '$.result' AS result, max(coalesce(body ->> '$.count', 1), 1) AS n
			FROM decisions `+indexed+` WHERE kind = 'skip' AND at >= ? AND at <= ? AND (? = '' OR gate IN (SELECT value FROM json_each(?)))) GROUP BY gate) GROUP BY name`,
		func(rows *sql.Rows) (Stats, error) {
			var s Stats
			err := rows.Scan(&s.Gate, &s.Skipped, &s.Missed)
			return s, err
		}, append([]any{engine.ResultMissed, engine.ResultMissed}, between...)...)
}
