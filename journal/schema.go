package journal

import (
	"database/sql"
	"fmt"
)

// migrations bring a journal from one version to the next; the version is
// their number. What has been released is never changed, only added to.
var migrations = []string{
	`CREATE TABLE events (
		id   INTEGER PRIMARY KEY,
		at   INTEGER NOT NULL,  -- ms since 1970
		kind TEXT    NOT NULL,
		body TEXT    NOT NULL   -- JSON
	) STRICT;
	CREATE TABLE decisions (
		id      INTEGER PRIMARY KEY,
		event   INTEGER NOT NULL REFERENCES events (id),
		at      INTEGER NOT NULL,
		kind    TEXT    NOT NULL,
		gate    TEXT    NOT NULL,
		opening TEXT    NOT NULL,
		due     INTEGER NOT NULL,
		run     INTEGER NOT NULL,
		result  TEXT    NOT NULL,
		moment  INTEGER NOT NULL,
		body    TEXT    NOT NULL  -- JSON
	) STRICT;
	CREATE INDEX decisions_by_opening ON decisions (gate, opening, due);
	CREATE INDEX decisions_moments    ON decisions (gate, opening, due) WHERE moment = 1;
	CREATE INDEX decisions_by_event   ON decisions (event);
	CREATE INDEX decisions_skips      ON decisions (id) WHERE kind = 'skip';
	CREATE INDEX decisions_gate_skips ON decisions (gate, id) WHERE kind = 'skip';
	CREATE TABLE runs (
		run       INTEGER PRIMARY KEY,
		gate      TEXT    NOT NULL,
		opening   TEXT    NOT NULL,
		due       INTEGER NOT NULL,
		decided   INTEGER NOT NULL,
		reason    TEXT    NOT NULL,  -- why it was started
		command   TEXT    NOT NULL,  -- JSON list
		started   INTEGER NOT NULL DEFAULT 0,
		pid       INTEGER NOT NULL DEFAULT 0,
		ended     INTEGER NOT NULL DEFAULT 0,
		result    TEXT    NOT NULL DEFAULT 'running',
		exit      INTEGER NOT NULL DEFAULT 0,
		signal    TEXT    NOT NULL DEFAULT '',
		outcome   TEXT    NOT NULL DEFAULT '',  -- why it ended so
		user_ms   INTEGER NOT NULL DEFAULT 0,
		system_ms INTEGER NOT NULL DEFAULT 0,
		max_rss   INTEGER NOT NULL DEFAULT 0,
		output    INTEGER NOT NULL DEFAULT 0,
		dropped   INTEGER NOT NULL DEFAULT 0
	) STRICT;
	CREATE INDEX runs_by_gate ON runs (gate, run);
	CREATE INDEX runs_good    ON runs (gate, ended) WHERE result = 'ok';
	CREATE INDEX runs_alive   ON runs (run) WHERE ended = 0;
	CREATE TABLE texts (
		version TEXT PRIMARY KEY,
		text    TEXT NOT NULL
	) STRICT, WITHOUT ROWID;
	CREATE TABLE facts (
		name  TEXT PRIMARY KEY,
		value TEXT NOT NULL
	) STRICT, WITHOUT ROWID;`,

	`CREATE INDEX decisions_waits ON decisions (id) WHERE kind = 'wait';`,

	`ALTER TABLE runs ADD COLUMN before TEXT NOT NULL DEFAULT '';  -- readings, as JSON
	ALTER TABLE runs ADD COLUMN after  TEXT NOT NULL DEFAULT '';`,

	`ALTER TABLE runs      ADD COLUMN note    TEXT NOT NULL DEFAULT '';  -- what could not be as it was wished
	ALTER TABLE runs      ADD COLUMN account TEXT NOT NULL DEFAULT '';  -- whom it runs as
	ALTER TABLE decisions ADD COLUMN account TEXT NOT NULL DEFAULT '';
	CREATE INDEX runs_by_account  ON runs (account, run);
	CREATE INDEX skips_by_account ON decisions (account, id) WHERE kind = 'skip';`,
}

// migrate makes the tables or brings them up to date, all or nothing.
func (j *Journal) migrate() error {
	// Nothing is written to a file before it is known to be ours.
	if err := j.checkVersion(j.durable); err != nil {
		return err
	}
	var version, tables int
	if err := j.durable.QueryRow("SELECT count(*) FROM sqlite_schema").Scan(&tables); err != nil {
		return j.wrap(err)
	}
	if err := j.durable.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return j.wrap(err)
	}
	if version == 0 && tables > 0 {
		return &FileError{Path: j.path, Reason: "it is another program's database", Remedy: setAside}
	}
	if _, err := j.durable.Exec("PRAGMA journal_mode = WAL"); err != nil {
		return j.wrap(err)
	}
	tx, err := j.durable.Begin()
	if err != nil {
		return j.wrap(err)
	}
	defer tx.Rollback()
	for ; version < len(migrations); version++ {
		if _, err := tx.Exec(migrations[version]); err != nil {
			return j.wrap(err)
		}
	}
	if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d; PRAGMA application_id = %d", version, applicationID)); err != nil {
		return j.wrap(err)
	}
	return j.wrap(tx.Commit())
}

// checkReadable refuses a journal that this Time Gate cannot read.
func (j *Journal) checkReadable(db *sql.DB) error {
	var version int
	if err := db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return j.wrap(err)
	}
	if version < len(migrations) {
		return &FileError{Path: j.path, Reason: fmt.Sprintf("it was made by an earlier Time Gate (version %d, this one knows %d)", version, len(migrations)),
			Remedy: "let this one's keeper begin, which brings it up to date"}
	}
	return j.checkVersion(db)
}

// checkVersion refuses a journal that a later Time Gate has made.
func (j *Journal) checkVersion(db *sql.DB) error {
	var version int
	if err := db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return j.wrap(err)
	}
	if version > len(migrations) {
		return &FileError{Path: j.path, Reason: fmt.Sprintf("it was made by a later Time Gate (version %d, this one knows %d)", version, len(migrations)),
			Remedy: "use that one, or move the journal aside"}
	}
	return nil
}
