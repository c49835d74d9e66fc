package journal

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"
)

// Salvaged says what was saved of a damaged journal.
type Salvaged struct {
	Aside string // where the damaged one lies now
	Runs  int64
	Lines int64 // of history in all, the runs included
	State bool  // what goes on with the gates is known
}

// salvagedTables are those of the history, whose rows stand each for itself.
var salvagedTables = []string{"events", "decisions", "runs", "presence", "names"}

// stateTables are only of use as a whole.
var stateTables = []string{"state_machine", "state_gates", "state_files", "texts"}

// SetAside moves a journal aside that cannot be used, begins a new one, and takes
// over into it what can be read of the old one.
func SetAside(path string, now time.Time) (s Salvaged, err error) {
	s.Aside = path + ".aside-" + now.Format("20060102-150405")
	if _, err := os.Lstat(s.Aside); err == nil {
		return s, &FileError{Path: s.Aside, Reason: "it is there already", Remedy: "wait a second"}
	}
	for _, end := range []string{"", "-wal", "-shm"} {
		if err := os.Rename(path+end, s.Aside+end); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return s, &FileError{Path: path, Reason: "it cannot be moved aside: " + cause(err), Remedy: "check the owner and the mode of its folder", Err: err}
		}
	}
	j, err := Open(path)
	if err != nil {
		return s, err
	}
	defer j.Close()
	conn, err := j.durable.Conn(context.Background())
	if err != nil {
		return s, j.wrap(err)
	}
	defer conn.Close()
	if _, err := conn.ExecContext(context.Background(), "ATTACH DATABASE ? AS old", s.Aside); err != nil {
		return s, nil // there is nothing in it that can be read
	}
	for _, table := range salvagedTables {
		n := salvage(conn, table)
		if s.Lines += n; table == "runs" {
			s.Runs = n
		}
	}
	if s.State = salvageState(conn); !s.State { // nobody will tell how these have ended
		conn.ExecContext(context.Background(), "UPDATE main.runs SET result = 'lost', ended = max(started, decided) WHERE ended = 0")
	}
	if _, err := conn.ExecContext(context.Background(), "DETACH DATABASE old"); err != nil && s.Lines > 0 {
		return s, j.wrap(err)
	}
	return s, nil
}

// salvage takes over the rows of a table that can be read: many at a time where
// that works, else fewer.
func salvage(conn *sql.Conn, table string) (rows int64) {
	ctx := context.Background()
	var newest sql.NullInt64 // there may be no row
	last := int64(mostSalvaged)
	if conn.QueryRowContext(ctx, "SELECT max(rowid) FROM old."+table).Scan(&newest) == nil {
		last = newest.Int64
	} // else the end is damaged: go on for as long as there is something
	var columns sql.NullString // an older journal has fewer
	conn.QueryRowContext(ctx, "SELECT group_concat(name) FROM pragma_table_info(?, 'old')", table).Scan(&columns)
	if !columns.Valid {
		return 0
	}
	var take func(from, to int64) bool
	take = func(from, to int64) bool {
		res, err := conn.ExecContext(ctx, fmt.Sprintf("INSERT OR IGNORE INTO main.%[1]s (%[2]s) SELECT %[2]s FROM old.%[1]s WHERE rowid BETWEEN ? AND ?", table, columns.String), from, to)
		if err == nil {
			n, _ := res.RowsAffected()
			rows += n
			return true
		}
		if from == to || !readable(conn, table, from, to) {
			return false
		}
		middle := from + (to-from)/2
		first := take(from, middle)
		return take(middle+1, to) || first
	}
	const step, patience = 4096, 3
	for from, lost := int64(1), 0; from <= last && (last < mostSalvaged || lost < patience); from += step {
		if take(from, min(from+step-1, last)) {
			lost = 0
		} else {
			lost++
		}
	}
	return rows
}

// readable reports whether there is anything in a stretch of rows that can be read, by
// looks here and there: what is damaged is damaged by the page, which has many rows.
func readable(conn *sql.Conn, table string, from, to int64) bool {
	const looks, leafRows = 16, 16
	apart := max((to-from)/looks, leafRows)
	for at := from; ; at += apart {
		var id int64
		err := conn.QueryRowContext(context.Background(), fmt.Sprintf("SELECT rowid FROM old.%s WHERE rowid = ?", table), min(at, to)).Scan(&id)
		if err == nil {
			return true
		}
		if at >= to {
			return false
		}
	}
}

// mostSalvaged bounds how far is looked where the end of a table is damaged.
const mostSalvaged = 100_000_000

// salvageState takes over the state, if all of it can be read.
func salvageState(conn *sql.Conn) bool {
	ctx := context.Background()
	if _, err := conn.ExecContext(ctx, "SAVEPOINT state"); err != nil {
		return false
	}
	for _, table := range stateTables {
		if _, err := conn.ExecContext(ctx, fmt.Sprintf("INSERT INTO main.%[1]s SELECT * FROM old.%[1]s", table)); err != nil {
			conn.ExecContext(ctx, "ROLLBACK TO state; RELEASE state")
			return false
		}
	}
	var whole int
	err := conn.QueryRowContext(ctx, "SELECT count(*) FROM main.state_machine").Scan(&whole)
	if _, releaseErr := conn.ExecContext(ctx, "RELEASE state"); err != nil || releaseErr != nil {
		return false
	}
	return whole == 1
}
