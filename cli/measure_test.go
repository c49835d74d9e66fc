package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestMeasure takes readings, and says what cannot be read.
func TestMeasure(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, name := range []string{"a", "b/c", "b/d"} {
		path := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(path), 0o755)
		if err := os.WriteFile(path, nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, tt := range []struct {
		name string
		want string // of the reading, or of the error
	}{
		{"files:" + dir, "3"}, {"files:" + dir + "/nothing", "no such file"}, {"files:", "is no reading"},
		{"command:echo 5.27e+09 bytes", "5,270,000,000"}, {"command:echo .5", "0.5"}, {"command:echo there are -12.5 left", "-12.5"}, {"command:echo none", "no number"}, {"command:false", "exit status 1"}, {"command:\"", "is no command"},
		{"command:/nowhere/x", "no such file"}, {"weight", "is no reading"}, {"disk:relative", "no whole path"}, {"", "is no reading"},
	} {
		m, err := measure(t.Context(), tt.name)
		got := signed(m.of, m.value)
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, tt.want) {
			t.Errorf("%q is %q, want %q", tt.name, got, tt.want)
		}
	}
	for _, name := range []string{"memory", "memory:free", "memory:cached", "swap", "disk:/", "load"} {
		if m, err := measure(t.Context(), name); err != nil || m.value < 0 || m.of.Bytes() != (name != "load") {
			t.Errorf("%s is %+v, %v", name, m, err)
		}
	}
}
