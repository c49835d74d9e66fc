package keeper

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"
)

// TestLook: where the account has no watcher left, a change is seen within seconds, and one of
// another file, or none, wakes nobody.
func TestLook(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		write := func(name, text string) func() {
			return func() {
				if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
					t.Fatal(err)
				}
			}
		}
		write("vault-copy.toml", "run = []\n")()
		f := &folderWatch{changed: make(chan struct{}), folders: []string{dir}, counts: func(path string) bool { return strings.HasSuffix(path, ".toml") }, done: make(chan struct{})}
		ended := make(chan struct{})
		go func() { f.run(); close(ended) }()
		for _, tt := range []struct {
			name  string
			do    func()
			wants bool
		}{
			{"nothing", func() {}, false},
			{"another file", write("notes", "x"), false},
			{"a new gate", write("glue-warm.toml", "run = []\n"), true},
			{"nothing more", func() {}, false},
			{"a gate of another size", write("glue-warm.toml", "run = [\"/bin/true\"]\n"), true},
			{"a gate that is gone", func() { os.Remove(filepath.Join(dir, "glue-warm.toml")) }, true},
			{"a folder that is gone", func() { os.RemoveAll(dir) }, true},
			{"the same as before", func() {}, false},
		} {
			synctest.Wait()
			tt.do()
			seen := false
			select {
			case <-f.changes():
				seen = true
			case <-time.After(2 * lookAgain):
			}
			if seen != tt.wants {
				t.Errorf("%s: seen is %v", tt.name, seen)
			}
		}
		f.close()
		<-ended
	})
}
