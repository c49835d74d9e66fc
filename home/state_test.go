package home

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"timegate/core/engine"
	"timegate/core/gate"
)

// TestState: a file is put back just as it was: its bytes, its mode, or what a link leads
// to; and nothing where there was nothing.
func TestState(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	if err := os.WriteFile(path("plain"), []byte("a\xff\x00b\r\n"), 0o640); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("../elsewhere", path("link")); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"plain", "link", "nothing"} {
		before, err := StateOf(path(name), 1<<10)
		if err != nil || (before == nil) != (name == "nothing") {
			t.Fatalf("%s is %+v, %v", name, before, err)
		}
		other := &State{Text: []byte("other"), Mode: 0o600}
		if err := other.Put(path(name)); err != nil {
			t.Fatal(err)
		}
		now, err := StateOf(path(name), 1<<10)
		if err != nil || !now.Same(other) || now.Same(before) {
			t.Errorf("%s is %+v now, %v", name, now, err)
		}
		if err := before.Put(path(name)); err != nil {
			t.Fatal(err)
		}
		if after, err := StateOf(path(name), 1<<10); err != nil || !after.Same(before) {
			t.Errorf("%s was %+v, and is %+v, %v", name, before, after, err)
		}
	}
	if info, err := os.Stat(path("plain")); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("the mode is %v, %v", info.Mode(), err)
	}
	deep := &State{Text: []byte("x")}
	if err := deep.Put(filepath.Join(dir, "a/b/c")); err != nil {
		t.Errorf("a folder that is not there: %v", err)
	}
	for name, want := range map[string]string{"a": "not a plain file", "plain": "larger than"} {
		if _, err := StateOf(path(name), 3); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want …%s…", name, err, want)
		}
	}
	for _, x := range []struct {
		a, b *State
		same bool
	}{{nil, nil, true}, {nil, &State{}, false}, {&State{Text: []byte("a")}, &State{Text: []byte("a"), Mode: 0o600}, true}, {&State{Mode: 0o600}, &State{Mode: 0o644}, false}, {&State{Link: "a"}, &State{Link: "b"}, false}} {
		if x.a.Same(x.b) != x.same {
			t.Errorf("%+v and %+v: the same is %v", x.a, x.b, !x.same)
		}
	}
}

// TestRenew: many files are replaced whole, and keep their modes.
func TestRenew(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for i := range 50 {
		path := filepath.Join(dir, fmt.Sprint(i))
		mode := fs.FileMode(0o600)
		if i%2 == 0 {
			mode = 0o644
			if err := os.WriteFile(path, []byte("old"), mode); err != nil {
				t.Fatal(err)
			}
		}
		if err := Renew(path, bytes.Repeat([]byte{'x'}, i), 0o600); err != nil {
			t.Fatal(err)
		}
		data, err := os.ReadFile(path)
		info, statErr := os.Stat(path)
		if err != nil || statErr != nil || len(data) != i || info.Mode().Perm() != mode {
			t.Errorf("%s has %d bytes and mode %v, %v", path, len(data), info.Mode(), err)
		}
	}
	if err := Settle(dir); err != nil {
		t.Error(err)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, ".timegate-*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	if err := Renew(filepath.Join(dir, "nowhere/x"), nil, 0o600); err == nil {
		t.Error("a folder that is not there is no error")
	}
}

// TestTried: the last good try of a gate is kept, of a bounded number of gates.
func TestTried(t *testing.T) {
	t.Parallel()
	h := At(t.TempDir(), gate.User)
	at := time.Date(2026, time.November, 26, 10, 0, 0, 0, time.UTC)
	for i := range 3 {
		if err := h.NoteTried("glue-warm", Tried{At: at, Took: time.Duration(i) * time.Second, Usage: engine.Usage{UserMS: int64(i)}}); err != nil {
			t.Fatal(err)
		}
	}
	all, err := h.Tries()
	if err != nil || len(all) != 1 || all["glue-warm"].Took != 2*time.Second || all["glue-warm"].Usage.UserMS != 2 {
		t.Errorf("%+v, %v", all, err)
	}
	many := "{"
	for i := range mostTried {
		many += fmt.Sprintf("\"g%d\": {\"at\": %q}, ", i, at.Add(time.Duration(i)*time.Minute).Format(time.RFC3339))
	}
	if err := os.WriteFile(h.triedFile(), []byte(strings.TrimSuffix(many, ", ")+"}"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := h.NoteTried("new", Tried{At: at.Add(time.Hour)}); err != nil {
		t.Fatal(err)
	}
	all, err = h.Tries()
	if _, oldest := all["g0"]; err != nil || len(all) != mostTried || oldest {
		t.Errorf("%d are kept, the oldest too: %v, %v", len(all), oldest, err)
	}
	if err := os.WriteFile(h.triedFile(), []byte("["), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := h.NoteTried("x", Tried{}); err == nil || !strings.Contains(err.Error(), "take it away") {
		t.Errorf("a damaged file: %v", err)
	}
}
