//go:build linux

package inspect

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestKindOf looks at programs and scripts, behind links, and says why one cannot run
// here.
func TestKindOf(t *testing.T) {
	dir := t.TempDir()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"script": "#!/bin/sh\necho\n", "closed": "#!/bin/sh\n", "lost": "#!/opt/larkspur/bin/none\n", "plain": "no first line\n", "damaged": "\x7fELF and no more"} {
		mode := os.FileMode(0o755)
		if name == "closed" {
			mode = 0o644
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), mode); err != nil {
			t.Fatal(err)
		}
	}
	for link, to := range map[string]string{"one": "two", "two": "script", "nowhere": "gone"} {
		if err := os.Symlink(to, filepath.Join(dir, link)); err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string]struct {
		real, script, problem string
		machine               bool
	}{
		"script":  {"script", "/bin/sh", "", false},
		"one":     {"script", "/bin/sh", "", false},
		"closed":  {"closed", "/bin/sh", "not marked as executable", false},
		"lost":    {"lost", "/opt/larkspur/bin/none", "does not exist", false},
		"plain":   {"plain", "", "", false},
		"damaged": {"damaged", "", "damaged program", false},
		self:      {self, "", "", true},
	} {
		path := name
		if !filepath.IsAbs(path) {
			path = filepath.Join(dir, name)
		}
		k, err := KindOf(path)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if filepath.Base(k.Real) != filepath.Base(want.real) || k.Script != want.script || (k.Problem == "") != (want.problem == "") || !strings.Contains(k.Problem, want.problem) || (k.Machine != "") != want.machine || k.Size == 0 {
			t.Errorf("%s is %+v, want %+v", name, k, want)
		}
	}
	for _, name := range []string{"nowhere", "not-there"} {
		if k, err := KindOf(filepath.Join(dir, name)); err == nil {
			t.Errorf("%s is %+v", name, k)
		}
	}
}
