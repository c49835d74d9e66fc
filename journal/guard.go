package journal

import (
	"errors"
	"os"
)

// files are those that a journal consists of while it is open.
type files struct{ main, wal os.FileInfo }

// ErrReplaced is the cause where somebody has taken the journal's file away, or
// put another in its place.
var ErrReplaced = errors.New("its file was taken away or replaced")

// noteFiles remembers which files are open.
func (j *Journal) noteFiles() {
	j.files.main, _ = os.Lstat(j.path)
	j.files.wal, _ = os.Lstat(j.path + "-wal")
}

// Check finds out whether the files that are open are still those that have
// their names. What is only in a file that lost its name is brought to safety
// where that can be done; the error says that it cannot. Like Write, it is for
// the journal's owner.
func (j *Journal) Check() error {
	if j.files.main == nil {
		j.noteFiles()
		return nil
	}
	main, err := os.Lstat(j.path)
	if err != nil || !os.SameFile(main, j.files.main) {
		return &FileError{Path: j.path, Reason: ErrReplaced.Error(), Remedy: "put it back; or end the keeper, and the next one begins a new journal", Err: ErrReplaced}
	}
	if wal, err := os.Lstat(j.path + "-wal"); j.files.wal == nil || err == nil && os.SameFile(wal, j.files.wal) {
		j.noteFiles()
		return nil
	}
	// What was committed is in a file without a name: take it over into the
	// main one, and begin another.
	if _, err := j.durable.Exec("PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
		return j.wrap(err)
	}
	return j.reopen()
}

// reopen opens the connections anew.
func (j *Journal) reopen() error {
	if err := j.Close(); err != nil {
		return j.wrap(err)
	}
	fresh, err := Open(j.path)
	if err != nil {
		return err
	}
	j.durable, j.quick, j.files, j.names = fresh.durable, fresh.quick, fresh.files, nil
	return nil
}

// IsFull reports whether an error of a journal is that the disk is full.
func IsFull(err error) bool {
	e, ok := errors.AsType[*FileError](err)
	return ok && e.Full
}
