//go:build !linux

package home

import "os"

// openFolder opens a folder by its whole path, and makes what is not there.
func openFolder(path string) (*os.Root, error) {
	if err := os.MkdirAll(path, 0o755); err != nil {
		return nil, named(path, err)
	}
	return os.OpenRoot(path)
}
