package home

import (
	"io/fs"
	"os"
	"path/filepath"
)

// Replace replaces a file, with a mode. This system replaces it in one step
// too, but does not promise that after a power cut.
func Replace(path string, data []byte, mode fs.FileMode) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".timegate-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Chmod(f.Name(), mode)
	}
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

// Rewrite replaces a file.
func Rewrite(path string, data []byte, mode fs.FileMode) error { return Replace(path, data, mode) }

// Relink replaces a link.
func Relink(target, path string) error {
	if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
		return err
	}
	return os.Symlink(target, path)
}
