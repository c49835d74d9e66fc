// Package journal keeps every event, decision and run in a SQLite database.
// The keeper alone writes; commands read at the same time.
//
// What a keeper is about to start is committed, durably, before the program
// starts, and its process number after: whatever dies in between, a start
// happens at most once, and the next keeper knows of it.
package journal

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"strings"

	_ "modernc.org/sqlite" // the driver
)

// applicationID marks a database as a journal of ours ("TGJ1").
const applicationID = 0x54474a31

// Journal is an open journal. It is safe for concurrent use, but only one
// process may write.
type Journal struct {
	path string
	// durable commits reach the disk before they return; brisk ones survive
	// the death of the process, and may be lost with the power.
	durable *sql.DB
	brisk   *sql.DB
}

// ErrNone is returned where no journal exists yet.
var ErrNone = errors.New("nothing has been recorded yet")

// FileError reports a file that cannot serve as the journal.
type FileError struct {
	Path   string
	Reason string
	Remedy string
	Err    error
}

func (e *FileError) Error() string {
	s := fmt.Sprintf("journal %s: %s", e.Path, e.Reason)
	if e.Remedy != "" {
		s += "; " + e.Remedy
	}
	return s
}

func (e *FileError) Unwrap() error { return e.Err }

// Open opens a journal for writing, makes it where there is none and brings
// an older one up to date.
func Open(path string) (*Journal, error) {
	if err := looksRight(path); err != nil && !errors.Is(err, ErrNone) {
		return nil, err
	}
	// SQLite gives its helper files the mode of the database: who may read the
	// one may read the others.
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, &FileError{Path: path, Reason: "it cannot be written: " + cause(err), Remedy: "check the owner and the mode of the file and its folder", Err: err}
	}
	f.Close()
	j := &Journal{path: path}
	if j.durable, err = j.connect("mode=rwc&_txlock=immediate&_pragma=synchronous(FULL)"); err != nil {
		return nil, err
	}
	if err := j.migrate(); err != nil {
		j.Close()
		return nil, err
	}
	if j.brisk, err = j.connect("mode=rw&_txlock=immediate&_pragma=synchronous(NORMAL)"); err != nil {
		j.Close()
		return nil, err
	}
	return j, nil
}

// OpenReader opens a journal for reading. Its error is [ErrNone] where there
// is no journal.
func OpenReader(path string) (*Journal, error) { return openReader(path, "") }

func openReader(path, options string) (*Journal, error) {
	if err := looksRight(path); err != nil {
		return nil, err
	}
	j := &Journal{path: path}
	db, err := j.connect("mode=ro" + options)
	if err != nil {
		return nil, err
	}
	j.brisk = db
	if err := j.checkReadable(db); err != nil {
		j.Close()
		return nil, err
	}
	return j, nil
}

// Close closes the journal.
func (j *Journal) Close() error {
	var errs []error
	for _, db := range []*sql.DB{j.brisk, j.durable} {
		if db != nil {
			errs = append(errs, db.Close())
		}
	}
	return errors.Join(errs...)
}

func (j *Journal) connect(options string) (*sql.DB, error) {
	u := url.URL{Path: j.path}
	db, err := sql.Open("sqlite", "file:"+u.EscapedPath()+"?"+options+"&_pragma=busy_timeout(5000)&_pragma=foreign_keys(ON)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

const setAside = "move it aside, and the keeper begins a new one"

// looksRight refuses files that are no database of ours before anything is
// written to them.
func looksRight(path string) error {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return ErrNone
	case err != nil:
		return &FileError{Path: path, Reason: "cannot be read: " + cause(err), Err: err}
	case info.IsDir():
		return &FileError{Path: path, Reason: "it is a folder", Remedy: "move it aside"}
	case info.Size() == 0:
		return ErrNone
	}
	f, err := os.Open(path)
	if err != nil {
		return &FileError{Path: path, Reason: "cannot be read: " + cause(err), Err: err}
	}
	defer f.Close()
	var head [100]byte
	n, _ := f.Read(head[:])
	if n < len(head) || !strings.HasPrefix(string(head[:]), "SQLite format 3\x00") {
		return &FileError{Path: path, Reason: "it is not a journal but another file, or damaged", Remedy: setAside}
	}
	if id := uint32(head[68])<<24 | uint32(head[69])<<16 | uint32(head[70])<<8 | uint32(head[71]); id != applicationID && id != 0 {
		return &FileError{Path: path, Reason: "it is another program's database", Remedy: setAside}
	}
	return nil
}

// cause strips the operation and the path off a file error.
func cause(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// wrap says which file a database error is about.
func (j *Journal) wrap(err error) error {
	if err == nil || errors.Is(err, sql.ErrNoRows) {
		return err
	}
	text := err.Error()
	switch {
	case strings.Contains(text, "malformed"), strings.Contains(text, "not a database"), strings.Contains(text, "CORRUPT"):
		return &FileError{Path: j.path, Reason: "it is damaged", Remedy: setAside, Err: err}
	case strings.Contains(text, "readonly"), strings.Contains(text, "unable to open"):
		return &FileError{Path: j.path, Reason: "it cannot be written", Remedy: "check the owner and the mode of the file and its folder", Err: err}
	}
	return &FileError{Path: j.path, Reason: text, Err: err}
}
