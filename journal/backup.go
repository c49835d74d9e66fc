package journal

import (
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"timegate/core/calendar"
)

// Backup writes a consistent copy of a journal to a file that is not there yet, while a
// keeper may be writing it.
func Backup(path, to string) error {
	j, err := OpenReader(path)
	if err != nil {
		return err
	}
	defer j.Close()
	// In a folder of its own nobody else can put something in its place.
	dir, err := os.MkdirTemp(filepath.Dir(to), ".timegate-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	copied := filepath.Join(dir, "journal.db")
	if _, err := j.quick.Exec("VACUUM INTO ?", copied); err != nil {
		return j.wrap(err)
	}
	if err := settle(copied); err != nil {
		return err
	}
	return place(copied, to)
}

// place gives a file a name that is free. A link would do, but for disks that know none,
// such as those that are carried about.
func place(from, to string) error {
	f, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Close(), os.Rename(from, to)); err != nil {
		return errors.Join(err, os.Remove(to))
	}
	return nil
}

// settle gives a new file to its owner alone, where its disk knows owners, and to the disk.
func settle(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	mode := f.Chmod(0o600)
	if errors.Is(mode, fs.ErrPermission) {
		mode = nil
	}
	return errors.Join(mode, f.Sync(), f.Close())
}

// Faults returns what is wrong with a journal's file, at most a few lines of it.
func (j *Journal) Faults() ([]string, error) {
	list, err := collect(j, "PRAGMA quick_check(5)", func(rows *sql.Rows) (string, error) {
		var line string
		err := rows.Scan(&line)
		return line, err
	})
	if len(list) == 1 && list[0] == "ok" {
		return nil, err
	}
	return list, err
}

// smallSize is how large a journal may be, in bytes, that is looked through whole when its
// last keeper has not ended in good order: that takes some tenths of a second.
const smallSize = 64 << 20

// Damage looks for damage where there is reason to: whole says that it is looked for in all
// of the journal. Otherwise nothing is looked at where the last keeper has ended in good
// order; else all of a small journal, and of a large one the state. Its error is a
// [*FileError] that says that the file is unusable, or why it cannot be read.
func (j *Journal) Damage(whole bool) error {
	tables := []string{""} // all
	if !whole {
		var last string
		if err := j.quick.QueryRow("SELECT kind FROM presence ORDER BY event DESC LIMIT 1").Scan(&last); errors.Is(err, sql.ErrNoRows) || last == presenceEnd {
			return nil
		} else if err != nil {
			return j.wrap(err)
		}
		size, err := j.Size()
		if err != nil {
			return err
		}
		if size > smallSize {
			tables = stateTables
		}
	}
	for _, table := range tables {
		var found string
		check := "PRAGMA quick_check"
		if table != "" {
			check += "(" + table + ")"
		}
		if err := j.quick.QueryRow(check).Scan(&found); err != nil {
			return j.wrap(err)
		}
		if found != "ok" {
			return &FileError{Path: j.path, Reason: "it is damaged", Remedy: setAside, Unusable: true}
		}
	}
	return nil
}

// Restored tells what a restored journal holds.
type Restored struct {
	Runs  int64
	Until calendar.Instant // when it was written last
}

// Restore puts a copy in the place of a journal that is not there. Its runs that are said to
// go on are left to the next keeper to find; new ones are numbered from firstRun on, so that
// no number is given twice. The copy stays as it is.
func Restore(from, path string, firstRun int64) (r Restored, err error) {
	if _, err := os.Lstat(path); err == nil {
		return r, fmt.Errorf("%s is there: %w", path, os.ErrExist)
	}
	if err := looksRight(from); err != nil {
		return r, err
	}
	dir, err := os.MkdirTemp(filepath.Dir(path), ".timegate-")
	if err != nil {
		return r, err
	}
	defer os.RemoveAll(dir)
	copied := filepath.Join(dir, "journal.db")
	if err := copyFile(from, copied); err != nil {
		return r, err
	}
	j, err := Open(copied) // which brings an older one up to date
	if err != nil {
		return r, err
	}
	if r, err = j.restored(firstRun); err != nil {
		j.Close()
		return r, err
	}
	if err := j.Close(); err != nil {
		return r, err
	}
	if err := settle(copied); err != nil {
		return r, err
	}
	return r, place(copied, path)
}

// restored checks a copy, and lets its numbers go on where they may.
func (j *Journal) restored(firstRun int64) (r Restored, err error) {
	faults, err := j.Faults()
	if err != nil {
		return r, err
	}
	if len(faults) > 0 {
		return r, &FileError{Path: j.path, Reason: "it is damaged: " + faults[0], Remedy: "take another copy"}
	}
	if _, err := j.durable.Exec("UPDATE state_machine SET body = json_set(body, '$.next_run', max(coalesce(json_extract(body, '$.next_run'), 1), ?))", firstRun); err != nil {
		return r, j.wrap(err)
	}
	err = j.quick.QueryRow("SELECT (SELECT count(*) FROM runs), coalesce((SELECT max(at) FROM events), 0)").Scan(&r.Runs, &r.Until)
	return r, j.wrap(err)
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}
