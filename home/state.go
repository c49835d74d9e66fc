package home

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// State is what a file is: its text, or what it leads to where it is a link.
type State struct {
	Text []byte `json:"text,omitempty"`
	Link string `json:"link,omitempty"`
	// Mode is that of a file with a mode of its own; 0 is for one that is there to keep
	// its mode, and for all to read else.
	Mode fs.FileMode `json:"mode,omitempty"`
}

// StateOf returns what a file is, nil where there is none. It does not follow a link,
// and refuses what is no plain file or has more than so many bytes.
func StateOf(path string, most int64) (*State, error) {
	info, err := os.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil
	case err != nil:
		return nil, err
	case info.Mode()&fs.ModeSymlink != 0:
		to, err := os.Readlink(path)
		return &State{Link: to}, err
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is not a plain file", path)
	case info.Size() > most:
		return nil, fmt.Errorf("%s is larger than %d KiB", path, most>>10)
	}
	data, err := os.ReadFile(path)
	return &State{Text: data, Mode: info.Mode().Perm()}, err
}

// Same reports whether two files are alike, or are both not there. A mode that was not
// said is any.
func (s *State) Same(o *State) bool {
	if s == nil || o == nil {
		return s == o
	}
	return s.Link == o.Link && bytes.Equal(s.Text, o.Text) && (s.Mode == o.Mode || s.Mode == 0 || o.Mode == 0)
}

// Put makes a file what it is to be, whole; nil takes it away. One that is there keeps
// its mode; another can be read by everybody, and so can folders made for it.
func (s *State) Put(path string) error {
	if s == nil {
		err := os.Remove(path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	if s.Link != "" {
		return Relink(s.Link, path)
	}
	if s.Mode != 0 {
		return Replace(path, s.Text, s.Mode)
	}
	return Rewrite(path, s.Text, 0o644)
}
