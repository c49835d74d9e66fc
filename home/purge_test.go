package home

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"timegate/core/gate"
)

// TestPurge: whatever the program puts into a home is known as its own, and a home with
// anything else in it stays whole.
func TestPurge(t *testing.T) {
	t.Parallel()
	names, entry := 0, regexp.MustCompile(`(?:\.State|filepath\.Dir\(h\.Gates\)), "([a-z.]+)"`)
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range entry.FindAllStringSubmatch(string(text), -1) {
			if names++; !own(m[1]) {
				t.Errorf("%s puts %s into a home, which is not known as its own", path, m[1])
			}
		}
		return err
	})
	if err != nil || names < 15 {
		t.Fatalf("%d names were found, %v", names, err)
	}
	for _, other := range []string{"photo.jpg", "gates/notes.txt", "journal.db", "gates/a.toml"} {
		h := At(filepath.Join(t.TempDir(), "tg"), gate.User)
		if err := h.Prepare(); err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(h.State, other)
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		err := h.Purge()
		_, there := os.Stat(path)
		if stays := !strings.HasSuffix(other, ".db") && !strings.HasSuffix(other, ".toml"); (err != nil) != stays || (there == nil) != stays {
			t.Errorf("with %s: %v; it is then there: %v", other, err, there == nil)
		}
	}
}
