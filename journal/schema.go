package journal

import (
	"database/sql"
	"fmt"
	"path/filepath"
)

// version is that of the tables below. A journal from oldVersion on is brought up to
// date; there was none before that anybody kept.
const (
	version    = 9
	oldVersion = 4
)

// passedGate holds all that is counted of the moments that passed without a run, so that
// they are counted without looking at them.
const passedGate = `CREATE INDEX passed_gate ON decisions (gate, at, body ->> '$.result', body ->> '$.count') WHERE kind = 'skip';`

// sessionEvents are those that [Journal.Sessions] tells of: few among many. An index
// is used by a query that says the same.
const sessionEvents = `kind = 'occurred' AND body ->> '$.event' IN ('logon', 'logoff', 'battery', 'mains')`

// fromSeven lets what is rare among the events be found without reading them all.
const fromSeven = `
	CREATE INDEX sessions ON events (at) WHERE ` + sessionEvents + `;
	CREATE INDEX versions ON events (id) WHERE kind IN ('begin', 'gates');`

// fromEight lets a gate have another name than what is recorded of it.
const fromEight = `
	CREATE TABLE names (
		key  TEXT PRIMARY KEY,  -- the gate of decisions and runs
		name TEXT NOT NULL      -- what it is called now, where that is not the key
	) STRICT;
	CREATE INDEX names_name ON names (name);`

// fromSix brings a journal of version 6 up to date.
const fromSix = `DROP INDEX IF EXISTS passed_gate; ` + passedGate

// tables are a journal. What the engine's state is now lies in the tables
// that begin with state; all else is history, and nothing is decided by it.
const tables = `
	CREATE TABLE events (
		id   INTEGER PRIMARY KEY AUTOINCREMENT,  -- the number by which readers follow
		at   INTEGER NOT NULL,                   -- ms since 1970
		kind TEXT    NOT NULL,
		body TEXT    NOT NULL                    -- JSON
	) STRICT;
	CREATE TABLE decisions (
		id      INTEGER PRIMARY KEY,
		event   INTEGER NOT NULL,
		at      INTEGER NOT NULL,
		kind    TEXT    NOT NULL,
		gate    TEXT    NOT NULL,
		opening TEXT    NOT NULL,
		due     INTEGER NOT NULL,
		run     INTEGER NOT NULL,
		account TEXT    NOT NULL,
		body    TEXT    NOT NULL  -- JSON
	) STRICT;
	CREATE INDEX settled ON events (id) WHERE kind = 'settled';
	CREATE INDEX decisions_event  ON decisions (event);
	CREATE INDEX decisions_gate   ON decisions (gate, id);
	CREATE INDEX decisions_due    ON decisions (gate, opening, due);
	CREATE INDEX passed_time      ON decisions (at)          WHERE kind = 'skip';
	` + passedGate + `
	CREATE INDEX passed_account   ON decisions (account, at) WHERE kind = 'skip';
	` + fromSeven + fromEight + `
	CREATE TABLE runs (
		run       INTEGER PRIMARY KEY,
		gate      TEXT    NOT NULL,
		opening   TEXT    NOT NULL,
		due       INTEGER NOT NULL,
		decided   INTEGER NOT NULL,
		reason    TEXT    NOT NULL,             -- why it was started, JSON
		command   TEXT    NOT NULL,             -- JSON list
		account   TEXT    NOT NULL,             -- whom it runs as
		started   INTEGER NOT NULL DEFAULT 0,
		pid       INTEGER NOT NULL DEFAULT 0,
		note      TEXT    NOT NULL DEFAULT '',  -- what could not be as it was wished
		ended     INTEGER NOT NULL DEFAULT 0,
		took      INTEGER NOT NULL DEFAULT 0,   -- ms
		result    TEXT    NOT NULL DEFAULT 'running',
		exit      INTEGER NOT NULL DEFAULT 0,
		signal    TEXT    NOT NULL DEFAULT '',
		outcome   TEXT    NOT NULL DEFAULT '',  -- why it ended so, JSON
		user_ms   INTEGER NOT NULL DEFAULT 0,
		system_ms INTEGER NOT NULL DEFAULT 0,
		max_rss   INTEGER NOT NULL DEFAULT 0,
		output    INTEGER NOT NULL DEFAULT 0,
		dropped   INTEGER NOT NULL DEFAULT 0,
		before    TEXT    NOT NULL DEFAULT '',  -- readings, JSON
		after     TEXT    NOT NULL DEFAULT '',
		read      INTEGER NOT NULL DEFAULT 0,   -- bytes from disks
		written   INTEGER NOT NULL DEFAULT 0    -- bytes to disks
	) STRICT;
	CREATE INDEX runs_gate         ON runs (gate, run);
	CREATE INDEX runs_time         ON runs (decided);
	CREATE INDEX runs_good         ON runs (gate, ended) WHERE result = 'ok';
	CREATE INDEX runs_longest      ON runs (gate, took)  WHERE took > 0;
	CREATE INDEX runs_alive        ON runs (run)         WHERE ended = 0;
	CREATE INDEX runs_account      ON runs (account, run);
	CREATE INDEX runs_account_gate ON runs (account, gate, run);
	CREATE TABLE presence (  -- when a keeper and its machine were there
		event INTEGER PRIMARY KEY,
		at    INTEGER NOT NULL,
		kind  TEXT    NOT NULL,  -- begin, boot (with a begin, where the machine has booted since), slept, end
		span  INTEGER NOT NULL   -- slept: how long, ms
	) STRICT;
	CREATE INDEX presence_time ON presence (at);
	CREATE TABLE texts (  -- of gates and of files of days
		version TEXT    PRIMARY KEY,
		text    TEXT    NOT NULL,
		event   INTEGER NOT NULL  -- the last that brought it
	) STRICT, WITHOUT ROWID;
	CREATE TABLE checkpoints (  -- the whole state after an event, for replays
		event INTEGER PRIMARY KEY,
		at    INTEGER NOT NULL,
		body  TEXT    NOT NULL  -- JSON
	) STRICT;
	CREATE TABLE state_machine (
		one     INTEGER PRIMARY KEY CHECK (one = 1),
		version INTEGER NOT NULL,
		body    TEXT    NOT NULL  -- JSON
	) STRICT;
	CREATE TABLE state_gates (
		gate TEXT PRIMARY KEY,
		body TEXT NOT NULL  -- JSON
	) STRICT, WITHOUT ROWID;
	CREATE TABLE state_files (  -- that changed, and that no run was told of yet
		id      INTEGER PRIMARY KEY,
		gate    TEXT    NOT NULL,
		opening TEXT    NOT NULL,
		settled INTEGER NOT NULL,
		paths   BLOB    NOT NULL  -- each with a zero byte after it
	) STRICT;
	CREATE INDEX state_files_opening ON state_files (gate, opening, settled);`

// carryOver takes the runs over from a journal of the old version. What was
// decided before cannot be replayed, and goes.
const carryOver = `
	INSERT INTO runs (run, gate, opening, due, decided, reason, command, account, started, pid, note, ended, took, result, exit, signal, outcome,
			user_ms, system_ms, max_rss, output, dropped, before, after)
		SELECT run, gate, opening, due, decided, json_object('code', 'earlier', 'args', json_object('detail', reason)), command, account, started, pid, note,
			iif(ended = 0, max(started, decided), ended), iif(ended > 0 AND started > 0, ended - started, 0), iif(ended = 0, 'lost', result), exit, signal,
			json_object('code', 'earlier', 'args', json_object('detail', iif(ended = 0, 'it belonged to an earlier Time Gate', outcome))),
			user_ms, system_ms, max_rss, output, dropped, before, after
		FROM old_runs ORDER BY run;
	INSERT INTO state_machine (one, version, body)
		SELECT 1, 1, json_object('zone', '', 'scope', '', 'host', '', 'now', coalesce((SELECT max(at) FROM old_events), 0),
			'next_run', coalesce((SELECT max(run) FROM old_runs), 0) + 1,
			'boot_id', coalesce((SELECT value FROM old_facts WHERE name = 'boot_id'), ''),
			'booted', coalesce((SELECT CAST(value AS INTEGER) FROM old_facts WHERE name = 'booted'), 0),
			'facts', json('{}'), 'pace', json('{}'));
	DROP TABLE old_decisions;
	DROP TABLE old_events;
	DROP TABLE old_runs;
	DROP TABLE old_texts;
	DROP TABLE old_facts;`

// fromFive adds what runs read and wrote, and how the machine settled.
const fromFive = `
	ALTER TABLE runs ADD COLUMN read    INTEGER NOT NULL DEFAULT 0;
	ALTER TABLE runs ADD COLUMN written INTEGER NOT NULL DEFAULT 0;
	CREATE INDEX settled ON events (id) WHERE kind = 'settled';`

// oldIndices stand in the way of the new ones' names, or of nothing any more.
var oldIndices = []string{"decisions_by_opening", "decisions_moments", "decisions_by_event", "decisions_skips", "decisions_gate_skips", "decisions_waits",
	"skips_by_account", "runs_by_gate", "runs_good", "runs_alive", "runs_by_account"}

// migrate makes the tables or brings them up to date, all or nothing.
func (j *Journal) migrate() error {
	has, err := j.versionOf(j.durable)
	if err != nil {
		return err
	}
	var count int
	if err := j.durable.QueryRow("SELECT count(*) FROM sqlite_schema").Scan(&count); err != nil {
		return j.wrap(err)
	}
	// Nothing is written to a file before it is known to be ours.
	switch {
	case has == version:
		return nil
	case has == 0 && count > 0:
		return &FileError{Path: j.path, Reason: "it is another program's database", Remedy: setAside}
	case has != 0 && (has < oldVersion || has > version):
		return j.strange(has)
	}
	if has == 0 {
		// Room that is given back when history is aged away.
		if _, err := j.durable.Exec("PRAGMA auto_vacuum = INCREMENTAL"); err != nil {
			return j.wrap(err)
		}
	}
	if _, err := j.durable.Exec("PRAGMA journal_mode = WAL"); err != nil {
		return j.wrap(err)
	}
	tx, err := j.durable.Begin()
	if err != nil {
		return j.wrap(err)
	}
	defer tx.Rollback()
	for _, step := range migration(has) {
		if _, err := tx.Exec(step); err != nil {
			return j.wrap(err)
		}
	}
	return j.wrap(tx.Commit())
}

// migration returns the steps from a version to the present one.
func migration(from int) []string {
	var steps []string
	if from == oldVersion {
		for _, name := range oldIndices {
			steps = append(steps, "DROP INDEX IF EXISTS "+name)
		}
		for _, name := range []string{"events", "decisions", "runs", "texts", "facts"} {
			steps = append(steps, fmt.Sprintf("ALTER TABLE %s RENAME TO old_%s", name, name))
		}
	}
	switch from {
	case 5:
		steps = append(steps, fromFive, fromSix, fromSeven, fromEight)
	case 6:
		steps = append(steps, fromSix, fromSeven, fromEight)
	case 7:
		steps = append(steps, fromSeven, fromEight)
	case 8:
		steps = append(steps, fromEight)
	default:
		steps = append(steps, tables)
	}
	if from == oldVersion {
		steps = append(steps, carryOver)
	}
	return append(steps, fmt.Sprintf("PRAGMA user_version = %d; PRAGMA application_id = %d", version, applicationID))
}

// checkReadable refuses a journal that this Time Gate cannot read.
func (j *Journal) checkReadable(db *sql.DB) error {
	has, err := j.versionOf(db)
	if err == nil && has != version {
		err = j.strange(has)
	}
	return err
}

func (j *Journal) versionOf(db *sql.DB) (has int, err error) {
	err = db.QueryRow("PRAGMA user_version").Scan(&has)
	return has, j.wrap(err)
}

// strange refuses a journal of another version.
func (j *Journal) strange(has int) error {
	e := &FileError{Path: j.path, Reason: fmt.Sprintf("it was made by a later Time Gate (version %d, this one knows %d)", has, version),
		Remedy: "use that one, or move the journal aside"}
	switch {
	case has >= oldVersion && has < version:
		e.Reason = fmt.Sprintf("it was made by an earlier Time Gate (version %d, this one knows %d)", has, version)
		e.Remedy = "let this one's keeper begin, which brings it up to date"
	case has == 0:
		e.Reason, e.Remedy = "nothing is in it: the file "+filepath.Base(j.path)+"-wal that belonged to it is missing, or its keeper has only just made it", setAside
		e.Unusable = true
	case has < oldVersion:
		e.Reason, e.Remedy = fmt.Sprintf("it was made by an earlier Time Gate (version %d), which this one cannot read", has), setAside
	}
	return e
}
