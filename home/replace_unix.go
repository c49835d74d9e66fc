//go:build !windows

package home

import (
	"io/fs"

	"github.com/google/renameio/v2"
)

// Replace replaces a file whole, with a mode, whatever the one before had.
func Replace(path string, data []byte, mode fs.FileMode) error {
	f, err := renameio.NewPendingFile(path, renameio.WithStaticPermissions(mode))
	if err != nil {
		return err
	}
	defer f.Cleanup() // does nothing where it has been put in its place
	if _, err := f.Write(data); err != nil {
		return err
	}
	return f.CloseAtomicallyReplace()
}

// Rewrite replaces a file whole and lets it keep its mode; one that is not
// there yet gets this one.
func Rewrite(path string, data []byte, mode fs.FileMode) error {
	return renameio.WriteFile(path, data, mode, renameio.WithExistingPermissions())
}

// Relink replaces a link whole.
func Relink(target, path string) error { return renameio.Symlink(target, path) }
