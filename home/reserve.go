package home

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// reserveSize is the room on the disk that is kept for the journal, in bytes:
// enough for some thousand events.
const reserveSize = 4 << 20

func (h Home) reserve() string { return filepath.Join(h.State, "reserve") }

// KeepReserve takes up room on the disk that can be given up when there is no
// other.
func (h Home) KeepReserve() error {
	if info, err := os.Lstat(h.reserve()); err == nil && info.Size() == reserveSize {
		return nil
	}
	f, err := os.OpenFile(h.reserve(), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := allocate(f, reserveSize); err != nil {
		os.Remove(h.reserve())
		return err
	}
	return nil
}

// GiveReserve gives that room up. It reports whether there was any.
func (h Home) GiveReserve() bool {
	err := os.Remove(h.reserve())
	return err == nil || !errors.Is(err, fs.ErrNotExist)
}
