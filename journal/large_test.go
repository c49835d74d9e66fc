package journal

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// large fills a journal with so many decisions of 100 gates (half of them
// starts), 6,000 of them waits of one opening, in the shape in which a keeper
// would have written them: each gate starts every ten minutes, the last one a moment before
// the instant given.
func large(b *testing.B, path string, decisions int, last calendar.Instant) {
	b.Helper()
	const step = 3000 // milliseconds from one event to the next
	first := int64(last)/600_000*600_000 - int64(decisions)*step
	fill := strings.NewReplacer("$first", strconv.FormatInt(first, 10), "$step", strconv.Itoa(step), "$run", strconv.Itoa(2*step),
		"$end", strconv.FormatInt(first+int64(decisions)*step, 10)).Replace
	j, err := Open(path)
	if err != nil {
		b.Fatal(err)
	}
	defer j.Close()
	if _, err := j.durable.Exec("PRAGMA synchronous = OFF"); err != nil {
		b.Fatal(err)
	}
	runs := decisions / 2
	// Indices are made at the end, which is much faster.
	indices := regexp.MustCompile(`CREATE INDEX (\w+)\s[^;]*;`).FindAllStringSubmatch(tables, -1)
	var statements []string
	for _, index := range indices {
		statements = append(statements, "DROP INDEX "+index[1])
	}
	statements = append(statements,
		fmt.Sprintf(`WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d)
			INSERT INTO runs (run, gate, opening, due, decided, reason, command, account, started, pid, ended, took, result, outcome)
			SELECT i, 'gate-' || (i %% 100), '1', $first + i * $run, $first + i * $run, '{"code":"due","args":{"phrase":"every 10m"}}', '["/opt/larkspur/bin/job-board"]', 'maren',
				$first + i * $run + 2, 4711, $first + i * $run + 2 + i %% 500, i %% 500, iif(i %% 50 = 0, 'failed', 'ok'), '{"code":"exit"}' FROM n`, runs),
		fmt.Sprintf(`WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d)
			INSERT INTO events (at, kind, body) SELECT $first + i * $step, iif(i %% 2, 'tick', 'run-ended'), '{}' FROM n`, decisions),
		fmt.Sprintf(`WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d)
			INSERT INTO decisions (event, at, kind, gate, opening, due, run, account, body)
			SELECT i, $first + i * $step, iif(i %% 2, iif(i %% 20 = 1, 'skip', 'start'), 'end'), 'gate-' || ((i + 1) / 2 %% 100), '1', $first + (i + 1) / 2 * $run, (i + 1) / 2, 'maren',
				json_object('kind', iif(i %% 2, iif(i %% 20 = 1, 'skip', 'start'), 'end'), 'at', $first + i * $step, 'gate', 'gate-' || ((i + 1) / 2 %% 100), 'opening', '1',
					'due', $first + (i + 1) / 2 * $run, 'run', (i + 1) / 2, 'code', 'due') FROM n`, decisions),
		`WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 6000)
			INSERT INTO decisions (event, at, kind, gate, opening, due, run, account, body)
			SELECT i, $first + i * $step, 'wait', 'gate-1', '2', $first + i * $run, 0, 'maren',
				json_object('kind', 'wait', 'at', $first + i * $step, 'gate', 'gate-1', 'opening', '2', 'due', $first + i * $run, 'for', 'quiet', 'code', 'quiet') FROM n`,
		`WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < 99)
			INSERT INTO state_gates (gate, body) SELECT 'gate-' || i, json_object('version', 'v' || i, 'openings', json('[{"name":"1","phrase":"every 10m","moment":$end,"last":$end}]'), 'last_good', $end) FROM n`,
		`INSERT INTO checkpoints (event, at, body) SELECT id, at, '{"version":1,"machine":{},"gates":{}}' FROM events WHERE id % 20000 = 0`,
		fmt.Sprintf(`INSERT INTO state_machine (one, version, body) VALUES (1, 1, '{"next_run":%d,"now":$end}')`, runs+1),
		`WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 2000)
			INSERT INTO presence (event, at, kind, span) SELECT i, $first + i * 100000, iif(i % 3, 'begin', 'slept'), 5000 FROM n`)
	for _, index := range indices {
		statements = append(statements, index[0])
	}
	for _, statement := range append(statements, "PRAGMA wal_checkpoint(TRUNCATE)") {
		if _, err := j.durable.Exec(fill(statement)); err != nil {
			b.Fatal(err)
		}
	}
}

// lastEvent is when the last event of a journal came.
func lastEvent(b *testing.B, path string) (at calendar.Instant) {
	b.Helper()
	j, err := OpenReader(path)
	if err != nil {
		b.Fatal(err)
	}
	defer j.Close()
	if err := j.quick.QueryRow("SELECT at FROM events ORDER BY id DESC LIMIT 1").Scan(&at); err != nil {
		b.Fatal(err)
	}
	return at
}

// BenchmarkLarge measures what is asked of a large journal, opened anew for
// each question as a command does. TIMEGATE_BENCH_DECISIONS says how many
// decisions it has (a million otherwise), TIMEGATE_BENCH_JOURNAL where it lies
// and is left for the next time.
func BenchmarkLarge(b *testing.B) {
	decisions := 1_000_000
	if text := os.Getenv("TIMEGATE_BENCH_DECISIONS"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			b.Fatal(err)
		}
		decisions = n
	}
	path := os.Getenv("TIMEGATE_BENCH_JOURNAL")
	if path == "" {
		path = filepath.Join(b.TempDir(), "journal.db")
	}
	if _, err := os.Stat(path); err != nil {
		large(b, path, decisions, calendar.InstantOf(time.Now()))
	}
	last := lastEvent(b, path)
	for _, question := range []struct {
		name string
		ask  func(j *Journal) (int, error)
	}{
		{"begin", func(j *Journal) (int, error) { s, _, err := j.State(); return len(s.Gates), err }},
		{"history", func(j *Journal) (int, error) { l, err := j.History(Filter{Limit: 50}); return len(l), err }},
		{"history-of-gate", func(j *Journal) (int, error) {
			l, err := j.History(Filter{Gate: "gate-7", Limit: 50})
			return len(l), err
		}},
		{"history-since", func(j *Journal) (int, error) {
			l, err := j.History(Filter{Since: last - 100_000, Limit: 0})
			return len(l), err
		}},
		{"history-failed", func(j *Journal) (int, error) {
			l, err := j.History(Filter{Results: []engine.Result{engine.ResultFailed}, Limit: 50})
			return len(l), err
		}},
		{"history-stats", func(j *Journal) (int, error) { l, err := j.Stats(Filter{}); return len(l), err }},
		{"list-last", func(j *Journal) (int, error) { l, err := j.LastRuns(); return len(l), err }},
		{"list-good", func(j *Journal) (int, error) { l, err := j.LastGood(); return len(l), err }},
		{"week-longest", func(j *Journal) (int, error) { l, err := j.Longest(); return len(l), err }},
		{"why", func(j *Journal) (int, error) { l, err := j.Story("gate-7", 5); return len(l), err }},
		{"check-absences", func(j *Journal) (int, error) {
			a, err := j.Absences(calendar.Instant(8 * 7 * 24 * time.Hour / time.Millisecond))
			return len(a.Spans) + 1, err
		}},
		{"follow", func(j *Journal) (int, error) { l, err := j.Committed(1000, 500); return len(l), err }},
		{"wants-checkpoint", func(j *Journal) (int, error) { _, err := j.WantsCheckpoint(last, 100); return 1, err }},
		{"past", func(j *Journal) (int, error) {
			p, err := j.Past(last-500_000, last)
			return len(p.Events), err
		}},
		{"stats-of-one-account", func(j *Journal) (int, error) {
			v, err := j.Viewer("maren")
			if err != nil {
				return 0, err
			}
			defer v.Close()
			l, err := v.Stats(Filter{})
			return len(l), err
		}},
		{"of-one-account", func(j *Journal) (int, error) {
			v, err := j.Viewer("maren")
			if err != nil {
				return 0, err
			}
			defer v.Close()
			l, err := v.LastRuns()
			return len(l), err
		}},
	} {
		b.Run(question.name, func(b *testing.B) {
			for b.Loop() {
				j, err := OpenReader(path)
				if err != nil {
					b.Fatal(err)
				}
				if n, err := question.ask(j); err != nil || n == 0 {
					b.Fatalf("%d answers, %v", n, err)
				}
				j.Close()
			}
		})
	}
	b.Run("rename", func(b *testing.B) { // with one hundredth of all that is known
		j, err := Open(path)
		if err != nil {
			b.Fatal(err)
		}
		defer j.Close()
		from, to := "gate-9", "gate-nine"
		for b.Loop() {
			if _, err := j.Write(Record{Event: tick(last), Delta: engine.Delta{Renamed: []engine.Renamed{{From: from, To: to}}}}); err != nil {
				b.Fatal(err)
			}
			from, to = to, from
		}
	})
}
