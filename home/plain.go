package home

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
)

// ErrNotPlain is the cause where something else than a plain file is to be read.
var ErrNotPlain = errors.New("it is not a plain file")

// ReadPlain reads a plain file, up to so many bytes. It waits for nothing that
// is no plain file, such as a pipe for its other end.
func ReadPlain(path string, most int64) ([]byte, error) {
	text, _, err := ReadWithMode(path, most)
	return text, err
}

// ReadWithMode is [ReadPlain], and tells the file's mode.
func ReadWithMode(path string, most int64) ([]byte, fs.FileMode, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|withoutWaiting, 0)
	if err != nil {
		return nil, 0, unpathed(err)
	}
	return readFrom(f, most)
}

// ErrLink says that a file is a link where only the file itself is taken.
var ErrLink = errors.New("it is a link, and what it leads to lies elsewhere")

// ReadIn reads a plain file below a folder, with its mode, and nothing that a link leads to:
// its error is then [ErrLink].
func ReadIn(root *os.Root, rel string, most int64) ([]byte, fs.FileMode, error) {
	before, err := root.Lstat(rel)
	switch {
	case err != nil:
		return nil, 0, unpathed(err)
	case before.Mode()&fs.ModeSymlink != 0:
		return nil, 0, ErrLink
	case !before.Mode().IsRegular():
		return nil, 0, ErrNotPlain
	}
	f, err := root.OpenFile(rel, os.O_RDONLY|withoutWaiting, 0)
	if err != nil {
		return nil, 0, unpathed(err)
	}
	if info, err := f.Stat(); err != nil || !os.SameFile(before, info) {
		f.Close()
		return nil, 0, errors.New("it was replaced while it was read")
	}
	return readFrom(f, most)
}

// readFrom reads a plain file that is open, and closes it.
func readFrom(f *os.File, most int64) ([]byte, fs.FileMode, error) {
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, 0, unpathed(err)
	case info.IsDir():
		return nil, 0, errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return nil, 0, ErrNotPlain
	}
	var text bytes.Buffer
	text.Grow(int(min(info.Size(), most)) + bytes.MinRead)
	_, err = text.ReadFrom(io.LimitReader(f, most))
	return text.Bytes(), info.Mode(), unpathed(err)
}

// unpathed returns an error without the path in front.
func unpathed(err error) error {
	if pe, ok := errors.AsType[*fs.PathError](err); ok {
		return pe.Err
	}
	return err
}
