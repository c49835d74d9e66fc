package journal

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"timegate/core/engine"
	"timegate/core/phrase"
)

// Record is what one event led to.
type Record struct {
	Event     engine.Event
	Texts     map[string]string // of gates that the event brings, by version
	Decisions []engine.Decision
	Programs  map[string]Program // of the gates that something was decided about
	BootID    string             // set where the event is the first of this boot
}

// Program is what a gate starts.
type Program struct {
	Command []string
	Account string // whom it runs as
}

// Write commits records, all of them or none. It returns when starts among
// them are safe on the disk.
func (j *Journal) Write(records ...Record) error {
	if len(records) == 0 {
		return nil
	}
	db := j.brisk
	for i := range records {
		for _, d := range records[i].Decisions {
			if d.Starts() {
				db = j.durable
			}
		}
	}
	tx, err := db.Begin()
	if err != nil {
		return j.wrap(err)
	}
	defer tx.Rollback()
	w := writer{tx: tx, statements: map[string]*sql.Stmt{}}
	for i := range records {
		w.record(&records[i])
	}
	if w.err != nil {
		return j.wrap(w.err)
	}
	return j.wrap(tx.Commit())
}

// writer keeps the first error, so that its steps read as a list.
type writer struct {
	tx         *sql.Tx
	statements map[string]*sql.Stmt
	err        error
}

func (w *writer) exec(query string, args ...any) int64 {
	if w.err != nil {
		return 0
	}
	stmt := w.statements[query]
	if stmt == nil {
		if stmt, w.err = w.tx.Prepare(query); w.err != nil {
			return 0
		}
		w.statements[query] = stmt
	}
	res, err := stmt.Exec(args...)
	if err != nil {
		w.err = err
		return 0
	}
	id, _ := res.LastInsertId()
	return id
}

func (w *writer) json(v any) string {
	b, err := json.Marshal(v)
	w.err = errors.Join(w.err, err)
	return string(b)
}

// readings returns what was measured, or nothing.
func (w *writer) readings(values map[string]int64) string {
	if len(values) == 0 {
		return ""
	}
	return w.json(values)
}

func (w *writer) record(r *Record) {
	ev := &r.Event
	for version, text := range r.Texts {
		w.exec("INSERT OR IGNORE INTO texts (version, text) VALUES (?, ?)", version, text)
	}
	id := w.exec("INSERT INTO events (at, kind, body) VALUES (?, ?, ?)", int64(ev.At), string(ev.Kind), w.json(ev))
	if r.BootID != "" {
		w.fact("boot_id", r.BootID)
		w.fact("booted", fmt.Sprint(int64(ev.At)))
	}
	if ev.Facts != nil && (ev.Kind == engine.Begin && len(ev.Facts.People) > 0 || ev.What == phrase.Logon || ev.What == phrase.Logoff) {
		w.fact("people", w.json(ev.Facts.People))
	}
	if ev.Kind == engine.Started {
		w.exec("UPDATE runs SET started = ?, pid = ?, before = ?, note = ? WHERE run = ?", int64(ev.At), ev.PID, w.readings(ev.Readings), ev.Detail, ev.Run)
	}
	for i := range r.Decisions {
		w.decision(id, r, &r.Decisions[i])
	}
}

func (w *writer) fact(name, value string) {
	w.exec("INSERT INTO facts (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value", name, value)
}

func (w *writer) decision(event int64, r *Record, d *engine.Decision) {
	p := r.Programs[d.Gate]
	// What is decided about a run concerns whom it runs as, whatever the gate
	// has become since.
	w.exec(`INSERT INTO decisions (event, at, kind, gate, opening, due, run, result, moment, body, account)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, coalesce((SELECT account FROM runs WHERE run = ?), ?))`,
		event, int64(d.At), string(d.Kind), d.Gate, d.Opening, int64(d.Due), d.Run, string(d.Result), d.Moment, w.json(d), d.Run, p.Account)
	switch {
	case d.Starts():
		w.exec("INSERT INTO runs (run, gate, opening, due, decided, reason, command, account) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
			d.Run, d.Gate, d.Opening, int64(d.Due), int64(d.At), d.Reason, w.json(p.Command), p.Account)
	case d.Kind == engine.End:
		u := r.Event.Usage
		if u == nil {
			u = &engine.Usage{}
		}
		w.exec(`UPDATE runs SET ended = ?, result = ?, exit = ?, signal = ?, outcome = ?,
			user_ms = ?, system_ms = ?, max_rss = ?, output = ?, dropped = ?, after = ? WHERE run = ?`,
			int64(d.At), string(d.Result), r.Event.Exit, r.Event.Signal, d.Reason,
			u.UserMS, u.SystemMS, u.MaxRSS, u.Output, u.Dropped, w.readings(r.Event.Readings), d.Run)
	}
}
