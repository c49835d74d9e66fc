-- A journal as the version before kept it.
CREATE TABLE events (
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
	) STRICT, WITHOUT ROWID;
CREATE INDEX decisions_waits ON decisions (id) WHERE kind = 'wait';
ALTER TABLE runs ADD COLUMN before TEXT NOT NULL DEFAULT '';  -- readings, as JSON
	ALTER TABLE runs ADD COLUMN after  TEXT NOT NULL DEFAULT '';
ALTER TABLE runs      ADD COLUMN note    TEXT NOT NULL DEFAULT '';  -- what could not be as it was wished
	ALTER TABLE runs      ADD COLUMN account TEXT NOT NULL DEFAULT '';  -- whom it runs as
	ALTER TABLE decisions ADD COLUMN account TEXT NOT NULL DEFAULT '';
	CREATE INDEX runs_by_account  ON runs (account, run);
	CREATE INDEX skips_by_account ON decisions (account, id) WHERE kind = 'skip';
PRAGMA application_id = 1413958193;
PRAGMA user_version = 4;
INSERT INTO events (at, kind, body) VALUES (1000, 'begin', '{}'), (1000, 'boot', '{}'), (5000, 'tick', '{}');
INSERT INTO decisions (event, at, kind, gate, opening, due, run, result, moment, body) VALUES (3, 2000, 'start', 'job-board', '1', 1990, 7, '', 1, '{}');
INSERT INTO runs (run, gate, opening, due, decided, reason, command, started, pid, ended, result, outcome, account)
	VALUES (7, 'job-board', '1', 1990, 2000, 'due: every 10m', '["/opt/larkspur/bin/job-board"]', 2001, 4711, 3500, 'ok', 'exit status 0', 'maren'),
	(8, 'vault-copy', '', 4000, 4000, 'opened by hand', '["/opt/larkspur/bin/vault-copy"]', 4001, 4712, 0, 'running', '', 'maren');
INSERT INTO facts VALUES ('boot_id', 'boot-a'), ('booted', '1000');
