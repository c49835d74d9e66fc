package journal

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"slices"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
)

// Cost is what the runs of a gate take: each figure the middle one of its last runs, so
// that a single odd run does not count.
type Cost struct {
	Runs   int // how many it is of
	Took   time.Duration
	Spread time.Duration // how far apart they are: the middle of what each took more or less
	Late   time.Duration // how long after they were due they started
	Usage  engine.Usage
}

// Unusual is how a run stands out that took so long: "long", "short", or "" where it does
// not, or too few runs are known. It stands out where it is further from the middle than
// five times what half of the others are, and by half of the middle, and by a second.
func (c *Cost) Unusual(took time.Duration) string {
	const least, times = 5, 5
	if c.Runs < least {
		return ""
	}
	switch room := max(times*c.Spread, c.Took/2, time.Second); {
	case took > c.Took+room:
		return "long"
	case took < c.Took-room:
		return "short"
	}
	return ""
}

// costRuns is of how many runs a cost is.
const costRuns = 15

// Costs returns what the runs of each gate take that has one which has ended.
func (j *Journal) Costs() (map[string]Cost, error) {
	type line struct {
		gate string
		took int64
		late int64
		u    engine.Usage
	}
	list, err := collect(j, everyGate+`SELECT `+nameOf("every.gate")+`, r.took, r.started - r.due, r.user_ms, r.system_ms, r.max_rss, r.read, r.written FROM every JOIN runs AS r ON r.run IN
			(SELECT run FROM runs WHERE gate = every.gate AND started > 0 AND ended > 0 ORDER BY run DESC LIMIT ?) WHERE every.gate IS NOT NULL`,
		func(rows *sql.Rows) (line, error) {
			var l line
			err := rows.Scan(&l.gate, &l.took, &l.late, &l.u.UserMS, &l.u.SystemMS, &l.u.MaxRSS, &l.u.Read, &l.u.Written)
			return l, err
		}, costRuns)
	byGate := map[string][]line{}
	for _, l := range list {
		byGate[l.gate] = append(byGate[l.gate], l)
	}
	out := make(map[string]Cost, len(byGate))
	for gate, lines := range byGate {
		of := func(f func(l *line) int64) int64 {
			values := make([]int64, len(lines))
			for i := range lines {
				values[i] = f(&lines[i])
			}
			return middle(values)
		}
		took := of(func(l *line) int64 { return l.took })
		ms := func(n int64) time.Duration { return time.Duration(n) * time.Millisecond }
		out[gate] = Cost{Runs: len(lines), Took: ms(took), Spread: ms(of(func(l *line) int64 { return max(l.took-took, took-l.took) })), Late: ms(of(func(l *line) int64 { return max(l.late, 0) })), Usage: engine.Usage{
			UserMS: of(func(l *line) int64 { return l.u.UserMS }), SystemMS: of(func(l *line) int64 { return l.u.SystemMS }), MaxRSS: of(func(l *line) int64 { return l.u.MaxRSS }),
			Read: of(func(l *line) int64 { return l.u.Read }), Written: of(func(l *line) int64 { return l.u.Written })}}
	}
	return out, err
}

// middle returns the median of some values; of an even number the larger of the two in
// the middle.
func middle[T cmp.Ordered](values []T) T {
	slices.Sort(values)
	return values[len(values)/2]
}

// Settled returns how the machine fared after its last boots and logons, newest first.
func (j *Journal) Settled(limit int) ([]engine.Settled, error) {
	return collect(j, "SELECT body FROM events WHERE kind = 'settled' ORDER BY id DESC LIMIT ?", func(rows *sql.Rows) (engine.Settled, error) {
		var body string
		var s engine.Settled
		err := rows.Scan(&body)
		if err == nil {
			err = json.Unmarshal([]byte(body), &s)
		}
		return s, err
	}, limit)
}

// Session is that somebody logged on or off, or that the machine was plugged in or out.
type Session struct {
	At    calendar.Instant
	Event phrase.EventKind
	Name  string
}

// Sessions returns these since an instant, in order.
func (j *Journal) Sessions(since calendar.Instant) ([]Session, error) {
	return collect(j, `SELECT at, body ->> '$.event', coalesce(body ->> '$.name', '') FROM events
		WHERE `+sessionEvents+` AND at >= ? ORDER BY id`, func(rows *sql.Rows) (Session, error) {
		var s Session
		err := rows.Scan(&s.At, &s.Event, &s.Name)
		return s, err
	}, int64(since))
}
