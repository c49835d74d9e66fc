//go:build linux

package home

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// TestTree: what is written into a folder lands in it, and nowhere else, whatever links
// somebody has put there; root follows nobody's links on the way to it.
func TestTree(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	at := func(parts ...string) string { return filepath.Join(append([]string{dir}, parts...)...) }
	secret := at("secret")
	link := func(target, path string) {
		t.Helper()
		if err := os.Symlink(target, path); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(os.WriteFile(secret, []byte("closed"), 0o600), os.MkdirAll(at("hers", "gates"), 0o755), os.Mkdir(at("elsewhere"), 0o755)); err != nil {
		t.Fatal(err)
	}
	link(at("elsewhere"), at("hers", "scripts"))
	link(secret, at("hers", "vars.toml"))
	link(secret, at("hers", "gates", "a.toml"))
	link("gates", at("hers", "inside"))
	link("hers", at("mine"))
	link("loop", at("loop"))
	if err := syscall.Mkfifo(at("hers", "fifo"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, folder := range []string{"hers", "mine", "new/deep"} {
		tree, err := OpenTree(at(folder))
		if err != nil {
			t.Fatal(folder, err)
		}
		defer tree.Close()
		for name, escapes := range map[string]bool{"gates/a.toml": false, "gates/b.toml": false, "vars.toml": false, "scripts/x": folder != "new/deep", "inside/c.toml": false, "../out": true, "/out": true, "fifo": false} {
			err := tree.Replace(name, []byte("new"), 0o640)
			if (err != nil) != escapes {
				t.Errorf("%s in %s: %v", name, folder, err)
				continue
			}
			if escapes {
				continue
			}
			info, err := os.Lstat(at(folder, name))
			if text, readErr := tree.Read(name, 100); readErr != nil || string(text) != "new" || err != nil || info.Mode() != 0o640 {
				t.Errorf("%s in %s is then %q, %v, %v, %v", name, folder, text, readErr, info.Mode(), err)
			}
		}
		if _, err := tree.Read("none", 10); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("of what is not there: %v", err)
		}
	}
	if text, err := os.ReadFile(secret); string(text) != "closed" {
		t.Errorf("a link led out: %q, %v", text, err)
	}
	for _, path := range []string{at("elsewhere"), at("hers", "gates")} {
		entries, err := os.ReadDir(path)
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), ".timegate") || filepath.Base(path) == "elsewhere" {
				t.Errorf("left in %s: %s", path, e.Name())
			}
		}
		if err != nil {
			t.Error(err)
		}
	}
	for _, path := range []string{"loop", "secret", "secret/x"} {
		if _, err := OpenTree(at(path)); err == nil {
			t.Errorf("%s is taken for a folder", path)
		}
	}
	if err := WriteNamed(at("none", "x"), nil, 0o600); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("in a folder that is not there: %v", err)
	}
	for _, path := range []string{at("hers", "scripts"), "/dev/zero", at("pipe")} {
		if path == at("pipe") {
			syscall.Mkfifo(path, 0o600)
		}
		if text, err := ReadPlain(path, 1<<20); err == nil {
			t.Errorf("%s is read: %d bytes", path, len(bytes.TrimSpace(text)))
		}
	}
	if os.Getuid() != 0 {
		return
	}
	const maren = 61001
	for _, step := range []struct {
		path    string
		refused bool
	}{{"mine", true}, {"mine/gates", true}, {"hers", false}, {"hers/inside", false}, {"hers/scripts", false}} {
		if step.path == "mine" {
			if err := os.Lchown(at("mine"), maren, maren); err != nil {
				t.Fatal(err)
			}
		}
		_, err := OpenTree(at(step.path))
		if refused := err != nil && strings.Contains(err.Error(), "it is a link that account 61001 may have made"); refused != step.refused {
			t.Errorf("as root into %s: %v", step.path, err)
		}
	}
}
