package home

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// Tree is a folder that a person has named to be written into. No link in it leads out
// of it; and where root names it, no link leads to it that somebody else could have made,
// so that nobody has root's files written elsewhere.
type Tree struct {
	root *os.Root
	dir  string
}

// OpenTree opens a folder; one that is not there is made, with those above it.
func OpenTree(dir string) (*Tree, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	root, err := openFolder(abs)
	if err != nil {
		return nil, err
	}
	return &Tree{root, dir}, nil
}

// Close lets the folder go.
func (t *Tree) Close() error { return t.root.Close() }

// Read reads a plain file below the folder, up to so many bytes.
func (t *Tree) Read(name string, most int64) ([]byte, error) {
	f, err := t.root.OpenFile(name, os.O_RDONLY|withoutWaiting, 0)
	if err != nil {
		return nil, unpathed(err)
	}
	text, _, err := readFrom(f, most)
	return text, err
}

// Replace writes a file below the folder whole, in the place of one that is there; the
// folders above it are made.
func (t *Tree) Replace(name string, data []byte, mode fs.FileMode) error {
	if dir := filepath.Dir(name); dir != "." {
		if err := t.root.MkdirAll(dir, 0o755); err != nil {
			return named(filepath.Join(t.dir, dir), err)
		}
	}
	draft := filepath.Join(filepath.Dir(name), ".timegate-"+rand.Text())
	f, err := t.root.OpenFile(draft, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return named(filepath.Join(t.dir, name), err)
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err == nil {
		err = t.root.Rename(draft, name)
	}
	if err != nil {
		t.root.Remove(draft)
		return named(filepath.Join(t.dir, name), err)
	}
	return nil
}

// WriteNamed writes a file that a person has named whole, as [Tree.Replace] does in its
// folder, which must be there.
func WriteNamed(path string, data []byte, mode fs.FileMode) error {
	if _, err := os.Stat(filepath.Dir(path)); err != nil {
		return named(path, err)
	}
	t, err := OpenTree(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer t.Close()
	return t.Replace(filepath.Base(path), data, mode)
}

// named says that a file or folder that a person has named cannot be written.
func named(path string, err error) error {
	err = unpathed(err)
	return &Error{Path: path, Reason: "it cannot be written: " + err.Error(), Remedy: "check the path, and who may write there", Err: err}
}

// linkError says that a link of somebody else's is in the way.
func linkError(link, owner string) error {
	return &Error{Path: link, Reason: fmt.Sprintf("it is a link that %s may have made, and root follows none of those", owner), Remedy: "name the folder that is meant by its own path"}
}
