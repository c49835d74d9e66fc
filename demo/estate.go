package demo

import (
	"embed"
	"io/fs"
	"os"
	"path/filepath"
)

//go:embed estate
var estate embed.FS

// Workstations are those of the bindery.
var Workstations = []string{"front-desk", "press-room", "studio-laptop"}

// Folder writes a folder of gates for all workstations of the bindery: the first one, or what
// comes next in it.
func Folder(dir string, next bool) error {
	name := "estate/first"
	if next {
		name = "estate/next"
	}
	return fs.WalkDir(estate, name, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(path[len(name):]))
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		data, err := estate.ReadFile(path)
		if err != nil {
			return err
		}
		if filepath.Ext(path) == ".toml" {
			return os.WriteFile(to, data, 0o644)
		}
		return os.WriteFile(to, data, 0o755)
	})
}
