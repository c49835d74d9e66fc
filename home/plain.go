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
	f, err := os.OpenFile(path, os.O_RDONLY|withoutWaiting, 0)
	if err != nil {
		return nil, unpathed(err)
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, unpathed(err)
	case info.IsDir():
		return nil, errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return nil, ErrNotPlain
	}
	var text bytes.Buffer
	text.Grow(int(min(info.Size(), most)) + bytes.MinRead)
	_, err = text.ReadFrom(io.LimitReader(f, most))
	return text.Bytes(), unpathed(err)
}

// unpathed returns an error without the path in front.
func unpathed(err error) error {
	if pe, ok := errors.AsType[*fs.PathError](err); ok {
		return pe.Err
	}
	return err
}
