// Package journal keeps the engine's state, and the history of every event,
// decision and run, in a SQLite database. The keeper alone writes; commands
// read at the same time.
//
// What an event has changed in the state is committed with the event, so that
// the next keeper begins with the state alone. History can be aged away
// ([Journal.Age]) without a change in what is decided.
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
	"path/filepath"
	"strings"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver
	sqlite3 "modernc.org/sqlite/lib"
)

// applicationID marks a database as a journal of ours ("TGJ1").
const applicationID = 0x54474a31

// Journal is an open journal. It is safe for concurrent use, but only one
// process may write.
type Journal struct {
	path string
	// What durable commits has reached the disk when it returns; what quick
	// commits survives the death of the process, and may be lost with the
	// power.
	durable *sql.DB
	quick   *sql.DB
	files   files
	views   bool // in the place of tables ([Journal.Viewer])

	writing sync.Mutex
	names   *names // as committed; nil while not read yet
}

// ErrNone is returned where no journal exists yet.
var ErrNone = errors.New("nothing has been recorded yet")

// FileError reports a file that cannot serve as the journal.
type FileError struct {
	Path   string
	Reason string
	Remedy string
	Full   bool // the disk is
	// Unusable says that the file will never serve as a journal: it is damaged,
	// or none of ours.
	Unusable bool
	Err      error
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
		e := &FileError{Path: path, Reason: "it cannot be written: " + cause(err), Remedy: "check the owner and the mode of the file and its folder", Err: err}
		if readOnlyDisk(path) {
			e.Remedy = "mount the disk so that it can be written"
		}
		return nil, e
	}
	f.Close()
	j := &Journal{path: path}
	if j.durable, err = j.connect("mode=rwc&_txlock=immediate&_pragma=synchronous(FULL)", writerPatience); err != nil {
		return nil, err
	}
	if err := j.migrate(); err != nil {
		j.Close()
		return nil, err
	}
	if j.quick, err = j.connect("mode=rw&_txlock=immediate&_pragma=synchronous(NORMAL)", writerPatience); err != nil {
		j.Close()
		return nil, err
	}
	if err := j.quick.Ping(); err != nil { // so that all files are there
		j.Close()
		return nil, j.wrap(err)
	}
	j.noteFiles()
	return j, nil
}

// OpenReader opens a journal for reading. Its error is [ErrNone] where there
// is no journal. A process that has the journal open asks [Journal.Reader].
func OpenReader(path string) (*Journal, error) {
	if err := looksRight(path); err != nil {
		return nil, err
	}
	return openReader(path, "")
}

// Reader opens the journal once more, for reading. It touches the file by
// SQLite alone: whoever else closes a file drops the locks that a process has
// on it (POSIX locks in fcntl(2)).
func (j *Journal) Reader() (*Journal, error) { return openReader(j.path, "") }

// Viewer opens the journal once more, for reading what concerns one account:
// nothing where that has no name.
func (j *Journal) Viewer(account string) (*Journal, error) {
	if account == "" {
		account = "\x00nobody"
	}
	return openReader(j.path, "&"+viewerOption+"="+url.QueryEscape(account))
}

func openReader(path, options string) (*Journal, error) {
	j := &Journal{path: path, views: options != ""}
	db, err := j.connect("mode=ro"+options, readerPatience)
	if err != nil {
		return nil, err
	}
	j.quick = db
	if err := j.checkReadable(db); err != nil {
		j.Close()
		return nil, err
	}
	return j, nil
}

// Close closes the journal.
func (j *Journal) Close() error {
	var errs []error
	for _, db := range []*sql.DB{j.quick, j.durable} {
		if db != nil {
			errs = append(errs, db.Close())
		}
	}
	return errors.Join(errs...)
}

// How long what somebody else has locked is waited for. Only other programs
// lock a journal; a keeper waits for nobody, and tries again later.
const (
	writerPatience = 100 * time.Millisecond
	readerPatience = 5 * time.Second
)

func (j *Journal) connect(options string, patience time.Duration) (*sql.DB, error) {
	path := filepath.ToSlash(j.path)
	if filepath.VolumeName(j.path) != "" {
		path = "/" + path // a drive letter is part of the path (RFC 8089, appendix E.2)
	}
	u := url.URL{Path: path}
	db, err := sql.Open("sqlite", fmt.Sprintf("file:%s?%s&_pragma=busy_timeout(%d)", u.EscapedPath(), options, patience.Milliseconds()))
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

const setAside = "move it aside, and the keeper begins a new one; keeper run --set-aside does both, and saves what can be read"

// looksRight refuses files that are no database of ours before anything is
// written to them.
func looksRight(path string) error {
	info, err := os.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return ErrNone
	case err != nil:
		return &FileError{Path: path, Reason: "cannot be read: " + cause(err), Err: err}
	case info.IsDir():
		return &FileError{Path: path, Reason: "it is a folder", Remedy: "move it aside"}
	case !info.Mode().IsRegular():
		return &FileError{Path: path, Reason: "it is a link, or no plain file", Remedy: "move it aside; a journal lies in its home itself"}
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
		return &FileError{Path: path, Reason: "it is not a journal but another file, or damaged", Remedy: setAside, Unusable: true}
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
	e := &FileError{Path: j.path, Reason: err.Error(), Err: err}
	var code interface{ Code() int }
	if errors.As(err, &code) {
		switch code.Code() & primaryCode {
		case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
			e.Reason, e.Remedy, e.Unusable = "it is damaged", setAside, true
		case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_PERM, sqlite3.SQLITE_CANTOPEN:
			e.Reason, e.Remedy = "it cannot be written", "check the owner and the mode of the file and its folder"
			if readOnlyDisk(j.path) {
				e.Reason, e.Remedy = "the disk it lies on is read-only", "mount it so that it can be written; a disk that has become so by itself may be failing"
			}
		case sqlite3.SQLITE_FULL:
			e.Full = true
			e.Reason, e.Remedy = "the disk is full", "make room on it"
		case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
			e.Reason, e.Remedy = "another program has locked it", "end that program"
		}
	}
	return e
}

// primaryCode masks what extended result codes add.
const primaryCode = 0xff
