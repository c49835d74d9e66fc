package journal

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// Record is what one event led to.
type Record struct {
	Event     engine.Event
	Texts     map[string]string // of gates and files of days that the event brings, by version
	Decisions []engine.Decision
	Delta     engine.Delta       // what has changed in the state
	Programs  map[string]Program // of the gates that something was decided about
}

// Program is what a gate starts.
type Program struct {
	Command []string
	Account string // whom it runs as
}

// Write commits records, all of them or none, and returns the number of the
// last event. Where something starts it is safe on the disk when it returns.
func (j *Journal) Write(records ...Record) (last int64, err error) {
	if len(records) == 0 {
		return 0, nil
	}
	db := j.quick
	for i := range records {
		for _, d := range records[i].Decisions {
			if d.Starts() {
				db = j.durable
			}
		}
	}
	j.writing.Lock()
	defer j.writing.Unlock()
	tx, err := db.Begin()
	if err != nil {
		return 0, j.wrap(err)
	}
	defer tx.Rollback()
	if j.names == nil {
		if j.names, err = readNames(tx); err != nil {
			return 0, j.wrap(err)
		}
	}
	w := writer{tx: tx, statements: map[string]*sql.Stmt{}, names: j.names}
	for i := range records {
		last = w.record(&records[i])
	}
	if w.err != nil {
		return 0, j.wrap(w.err)
	}
	if err := tx.Commit(); err != nil {
		return 0, j.wrap(err)
	}
	j.names = w.names
	return last, nil
}

// writer keeps the first error, so that its steps read as a list.
type writer struct {
	tx         *sql.Tx
	statements map[string]*sql.Stmt
	names      *names
	ownNames   bool // it is not shared with the journal
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
func (w *writer) readings(values map[string]float64) string {
	if len(values) == 0 {
		return ""
	}
	return w.json(values)
}

func (w *writer) record(r *Record) int64 {
	ev := &r.Event
	id := w.exec("INSERT INTO events (at, kind, body) VALUES (?, ?, ?)", int64(ev.At), string(ev.Kind()), w.json(ev.Body))
	for version, text := range r.Texts {
		w.exec("INSERT INTO texts (version, text, event) VALUES (?, ?, ?) ON CONFLICT (version) DO UPDATE SET event = excluded.event", version, text, id)
	}
	switch b := ev.Body.(type) {
	case *engine.Begin:
		w.presence(id, ev.At, w.beginKind(b), 0)
		w.brings(id, append(b.Gates, b.Gone...))
	case *engine.GatesChanged:
		w.brings(id, b.Set)
	case *engine.Slept:
		w.presence(id, ev.At, presenceSlept, b.For)
	case *engine.Ended:
		w.presence(id, ev.At, presenceEnd, 0)
	case *engine.RunStarted:
		w.exec("UPDATE runs SET started = ?, pid = ?, before = ?, note = ? WHERE run = ?", int64(cmp.Or(b.StartedAt, ev.At)), b.PID, w.readings(b.Readings), b.Note, b.Run)
	}
	for i := range r.Decisions {
		w.decision(id, r, &r.Decisions[i])
	}
	w.state(&r.Delta)
	return id
}

// brings notes which event was the last to bring the texts of definitions.
func (w *writer) brings(event int64, defs []engine.Definition) {
	if len(defs) == 0 {
		return
	}
	versions := make([]string, 0, len(defs))
	for _, d := range defs {
		versions = append(versions, d.Version)
		for _, v := range d.Days {
			versions = append(versions, v)
		}
	}
	w.exec("UPDATE texts SET event = ? WHERE version IN (SELECT value FROM json_each(?))", event, w.json(versions))
}

// The kinds of presence.
const (
	presenceBegin = "begin"
	presenceBoot  = "boot"
	presenceSlept = "slept"
	presenceEnd   = "end"
)

func (w *writer) presence(event int64, at calendar.Instant, kind string, span calendar.Instant) {
	w.exec("INSERT INTO presence (event, at, kind, span) VALUES (?, ?, ?, ?)", event, int64(at), kind, int64(span))
}

// beginKind tells whether a keeper begins after a boot of the machine.
func (w *writer) beginKind(b *engine.Begin) string {
	if w.err != nil {
		return ""
	}
	var same bool
	err := w.tx.QueryRow("SELECT coalesce((SELECT json_extract(body, '$.boot_id') FROM state_machine), '') = ?", b.BootID).Scan(&same)
	if w.err = err; same {
		return presenceBegin
	}
	return presenceBoot
}

// state writes what has changed in the engine's state.
func (w *writer) state(d *engine.Delta) {
	if d.Machine != nil {
		w.exec("INSERT INTO state_machine (one, version, body) VALUES (1, ?, ?) ON CONFLICT (one) DO UPDATE SET version = excluded.version, body = excluded.body",
			engine.StateVersion, string(d.Machine))
	}
	for _, r := range d.Renamed { // what was decided stays as it was said; it is found under the new name
		w.rename(r.From, r.To)
	}
	for name, body := range d.Gates {
		if body == nil {
			w.exec("DELETE FROM state_gates WHERE gate = ?", name)
			continue
		}
		w.exec("INSERT INTO state_gates (gate, body) VALUES (?, ?) ON CONFLICT (gate) DO UPDATE SET body = excluded.body", name, string(body))
	}
	for _, c := range d.Files {
		if len(c.Added) > 0 {
			w.exec("INSERT INTO state_files (gate, opening, settled, paths) VALUES (?, ?, 0, ?)", c.Gate, c.Opening, joinPaths(c.Added))
		}
		if c.Settled {
			w.exec("UPDATE state_files SET settled = 1 WHERE gate = ? AND opening = ? AND settled = 0", c.Gate, c.Opening)
		}
		if c.Taken {
			w.exec("DELETE FROM state_files WHERE gate = ? AND opening = ? AND settled = 1", c.Gate, c.Opening)
		}
	}
}

// joinPaths writes paths as one value. Names of files are bytes, and need not
// be text.
func joinPaths(paths []string) []byte {
	return []byte(strings.Join(paths, "\x00") + "\x00")
}

func splitPaths(joined []byte) []string {
	return strings.Split(strings.TrimSuffix(string(joined), "\x00"), "\x00")
}

func (w *writer) decision(event int64, r *Record, d *engine.Decision) {
	p, key := r.Programs[d.Gate], w.key(event, d.Gate)
	// What is decided about a run concerns whom it runs as, whatever the gate
	// has become since.
	w.exec(`INSERT INTO decisions (event, at, kind, gate, opening, due, run, body, account)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, coalesce((SELECT account FROM runs WHERE run = ?), ?))`,
		event, int64(d.At), string(d.Kind), key, d.Opening, int64(d.Due), d.Run, w.json(d), d.Run, p.Account)
	switch {
	case d.Starts():
		w.exec("INSERT INTO runs (run, gate, opening, due, decided, reason, command, account) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
			d.Run, key, d.Opening, int64(d.Due), int64(d.At), w.json(d.Reason), w.json(p.Command), p.Account)
	case d.Kind == engine.End, d.Kind == engine.Refuse:
		w.ended(r.Event.Body, d)
	}
}

// ended completes a run.
func (w *writer) ended(body engine.Body, d *engine.Decision) {
	e := &engine.RunEnded{EndedAt: d.At}
	switch b := body.(type) {
	case *engine.RunEnded:
		e = b
	case *engine.RunLost:
		e.Usage = b.Used
	case *engine.Begin: // it ended while no keeper ran
		if i := slices.IndexFunc(b.Ended, func(o engine.RunEnded) bool { return o.Run == d.Run }); i >= 0 {
			e = &b.Ended[i]
		}
	}
	w.exec(`UPDATE runs SET ended = ?1, took = iif(started > 0, max(?1 - started, 1), 0), result = ?2, exit = ?3, signal = ?4, outcome = ?5,
		user_ms = ?6, system_ms = ?7, max_rss = ?8, output = ?9, dropped = ?10, after = ?11, read = ?12, written = ?13, note = iif(?15 = '', note, iif(note = '', ?15, note || '; ' || ?15)) WHERE run = ?14`,
		int64(e.EndedAt), string(d.Result), e.Exit, e.Signal, w.json(d.Reason),
		e.Usage.UserMS, e.Usage.SystemMS, e.Usage.MaxRSS, e.Usage.Output, e.Usage.Dropped, w.readings(e.Readings), e.Usage.Read, e.Usage.Written, d.Run, unfoundNote(e, d.Result))
}

// Unfound begins the note of a run that ended well although a command was not found.
const Unfound = "a command was not found, and the script went on: "

func unfoundNote(e *engine.RunEnded, result engine.Result) string {
	if e.Unfound == "" || result != engine.ResultOK {
		return ""
	}
	return Unfound + e.Unfound
}
