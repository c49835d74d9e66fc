package journal

import (
	"database/sql"
	"encoding/json"
	"math"
	"slices"
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
	Reason  engine.Reason // why it started, or why it did not
	Outcome engine.Reason // why it ended as it did
	PID     int
	Command []string
	Account string // whom it runs as
	Note    string // what could not be as it was wished
	Count   int64  // how many moments the line stands for
	Usage   engine.Usage
	// What was measured when it started and when it ended, in bytes.
	Before, After map[string]float64
}

// Filter selects entries.
type Filter struct {
	Gate  string           // "" for all
	Since calendar.Instant // 0 for all
	Until calendar.Instant // 0 for all
	Limit int              // newest first; 0 for all
	// OnlyRuns leaves out the moments without a run.
	OnlyRuns bool
	Results  []engine.Result // empty for all
}

var runColumns = `run, ` + nameOf("gate") + `, opening, due, decided, started, ended, result, exit, signal, reason, outcome, pid, command,
	user_ms, system_ms, max_rss, output, dropped, before, after, account, note, read, written`

// History returns entries, newest first.
func (j *Journal) History(f Filter) ([]Entry, error) {
	limit := f.Limit
	if limit <= 0 {
		limit = -1
	}
	which, whose := "", []any{}
	if f.Gate != "" {
		condition, arg, err := j.ofGate(f.Gate)
		if err != nil {
			return nil, err
		}
		which, whose = condition+" AND ", []any{arg}
	}
	until := int64(math.MaxInt64)
	if f.Until != 0 {
		until = int64(f.Until)
	}
	args := append(whose, int64(f.Since), until, limit)
	// Since picks by time; else the newest are at the end. Nothing is scanned
	// from the beginning.
	order := "ORDER BY run DESC LIMIT ?"
	between := "+decided >= ? AND +decided <= ? " // the plus signs keep it from being looked up
	if f.Since != 0 || f.Until != 0 {
		between, order = "decided >= ? AND decided <= ? ", "ORDER BY decided DESC, run DESC LIMIT ?"
	}
	ofRuns, ofPassed := "", ""
	if len(f.Results) > 0 {
		list, err := json.Marshal(f.Results)
		if err != nil {
			return nil, err
		}
		const among = "IN (SELECT value FROM json_each(?)) AND "
		ofRuns, ofPassed = "result "+among, "json_extract(body, '$.result') "+among
		args = append([]any{string(list)}, args...)
	}
	passes := func(r engine.Result) bool { return r == engine.ResultSkipped || r == engine.ResultMissed }
	var runs []Entry
	if len(f.Results) == 0 || slices.ContainsFunc(f.Results, func(r engine.Result) bool { return !passes(r) }) {
		list, err := j.runs("WHERE "+ofRuns+which+between+order, args...)
		if err != nil {
			return nil, err
		}
		runs = list
	}
	if f.OnlyRuns || len(f.Results) > 0 && !slices.ContainsFunc(f.Results, passes) {
		return runs, nil
	}
	passed, err := j.decisions("WHERE kind = 'skip' AND "+ofPassed+which+"at >= ? AND at <= ? ORDER BY at DESC, id DESC LIMIT ?", args...)
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

// everyGate steps through the gates that have runs, one look into an index
// each.
const everyGate = `WITH RECURSIVE every (gate) AS (SELECT min(gate) FROM runs UNION ALL
	SELECT (SELECT min(gate) FROM runs WHERE gate > every.gate) FROM every WHERE every.gate IS NOT NULL) `

// Accounts returns the accounts that runs ran as, as far as they are known.
func (j *Journal) Accounts(runs []int64) (map[int64]string, error) {
	if len(runs) == 0 {
		return nil, nil
	}
	rows, err := j.quick.Query("SELECT run, account FROM runs WHERE run BETWEEN ? AND ?", runs[0], runs[len(runs)-1])
	if err != nil {
		return nil, j.wrap(err)
	}
	defer rows.Close()
	wanted := make(map[int64]bool, len(runs))
	for _, r := range runs {
		wanted[r] = true
	}
	out := make(map[int64]string, len(runs))
	for rows.Next() {
		var run int64
		var account string
		if err := rows.Scan(&run, &account); err != nil {
			return nil, j.wrap(err)
		}
		if wanted[run] {
			out[run] = account
		}
	}
	return out, j.wrap(rows.Err())
}

// LastRuns returns the newest run of each gate that has one.
func (j *Journal) LastRuns() (map[string]Entry, error) {
	list, err := j.runsWith(everyGate, "WHERE run IN (SELECT (SELECT max(run) FROM runs AS r WHERE r.gate = every.gate) FROM every WHERE gate IS NOT NULL)")
	out := make(map[string]Entry, len(list))
	for _, e := range list {
		if e.Run > out[e.Gate].Run {
			out[e.Gate] = e
		}
	}
	return out, err
}

// LastGood returns when each gate's last good run ended.
func (j *Journal) LastGood() (map[string]calendar.Instant, error) {
	out := map[string]calendar.Instant{}
	_, err := collect(j, everyGate+`SELECT `+nameOf("gate")+`, (SELECT max(ended) FROM runs AS r WHERE r.gate = every.gate AND r.result = 'ok') AS good
		FROM every WHERE gate IS NOT NULL AND good IS NOT NULL`, func(rows *sql.Rows) (struct{}, error) {
		var gate string
		var at calendar.Instant
		err := rows.Scan(&gate, &at)
		out[gate] = max(out[gate], at)
		return struct{}{}, err
	})
	return out, err
}

// LongRun is the longest run of a gate.
type LongRun struct {
	Gate string
	Run  int64
	Took time.Duration
}

// Longest returns the longest run of each gate, the longest first.
func (j *Journal) Longest() ([]LongRun, error) {
	list, err := collect(j, everyGate+`SELECT `+nameOf("l.gate")+`, l.run, l.took FROM every JOIN runs AS l ON l.run =
			(SELECT run FROM runs AS r WHERE r.gate = every.gate AND r.took > 0 ORDER BY r.took DESC LIMIT 1)
		WHERE every.gate IS NOT NULL ORDER BY l.took DESC`,
		func(rows *sql.Rows) (LongRun, error) {
			var l LongRun
			var ms int64
			err := rows.Scan(&l.Gate, &l.Run, &ms)
			l.Took = time.Duration(ms) * time.Millisecond
			return l, err
		})
	seen := map[string]bool{}
	return slices.DeleteFunc(list, func(l LongRun) bool {
		again := seen[l.Gate]
		seen[l.Gate] = true
		return again
	}), err
}

// Alive returns the runs that have not ended, oldest first.
func (j *Journal) Alive() ([]Entry, error) { return j.runs("WHERE ended = 0 ORDER BY run") }

func (j *Journal) runs(where string, args ...any) ([]Entry, error) {
	return j.runsWith("", where, args...)
}

func (j *Journal) runsWith(with, where string, args ...any) ([]Entry, error) {
	return collect(j, with+"SELECT "+runColumns+" FROM runs "+where, func(rows *sql.Rows) (Entry, error) {
		var e Entry
		var command, before, after, reason, outcome string
		err := rows.Scan(&e.Run, &e.Gate, &e.Opening, &e.Due, &e.Decided, &e.Started, &e.Ended, &e.Result, &e.Exit, &e.Signal,
			&reason, &outcome, &e.PID, &command, &e.Usage.UserMS, &e.Usage.SystemMS, &e.Usage.MaxRSS, &e.Usage.Output, &e.Usage.Dropped,
			&before, &after, &e.Account, &e.Note, &e.Usage.Read, &e.Usage.Written)
		for _, part := range []struct {
			text string
			to   any
		}{{command, &e.Command}, {reason, &e.Reason}, {outcome, &e.Outcome}, {before, &e.Before}, {after, &e.After}} {
			if err == nil && part.text != "" {
				err = json.Unmarshal([]byte(part.text), part.to)
			}
		}
		return e, err
	}, args...)
}

// collect collects rows.
func collect[T any](j *Journal, query string, scan func(*sql.Rows) (T, error), args ...any) ([]T, error) {
	rows, err := j.quick.Query(query, args...)
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

func (j *Journal) decisions(where string, args ...any) ([]engine.Decision, error) {
	return collect(j, "SELECT "+nameOf("gate")+", body FROM decisions "+where, func(rows *sql.Rows) (engine.Decision, error) {
		var gate, body string
		var d engine.Decision
		err := rows.Scan(&gate, &body)
		if err == nil {
			err = json.Unmarshal([]byte(body), &d)
		}
		d.Gate = gate // as it is called now
		return d, err
	}, args...)
}
