package home

import (
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"timegate/core/gate"
)

// TestRemember: a home in one folder knows its scope from the first command that says
// it, keeps its other settings, and is not made another one.
func TestRemember(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	h := At(dir, gate.System)
	path := h.Settings()
	if err := os.WriteFile(path, []byte("# ours\n[pace]\nat_once = 2\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for range 2 { // twice is once
		if err := h.Remember(); err != nil {
			t.Fatal(err)
		}
	}
	text, _ := os.ReadFile(path)
	if s, err := ReadSettings(path); err != nil || s.Scope != gate.System || s.Pace.AtOnce != 2 || strings.Count(string(text), "scope") != 1 || !strings.Contains(string(text), "# ours") {
		t.Errorf("the settings are %+v, %v:\n%s", s, err, text)
	}
	if err := At(dir, gate.User).Remember(); err == nil || !strings.Contains(err.Error(), "system scope") {
		t.Errorf("a home of the system scope becomes a person's: %v", err)
	}
	if err := os.WriteFile(path, []byte("scope = \"everyone\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := h.Remember(); err == nil || !strings.Contains(err.Error(), path+":1:1") {
		t.Errorf("a scope that is none: %v", err)
	}
	fresh := At(filepath.Join(dir, "not", "there"), gate.System)
	if err := fresh.Remember(); err != nil {
		t.Error(err)
	}
	if s, err := ReadSettings(fresh.Settings()); err != nil || s.Scope != gate.System {
		t.Errorf("a home that was not there has %+v, %v", s, err)
	}
}

// TestScripts: a script is kept with where it came from, and taken away with that when
// it is no longer in use; what else lies there stays.
func TestScripts(t *testing.T) {
	t.Parallel()
	h := At(t.TempDir(), gate.User)
	if err := h.TidyScripts(func(string) bool { return false }); err != nil {
		t.Errorf("where nothing was ever kept: %v", err)
	}
	for _, name := range []string{"stock-count", "vault-copy"} {
		if err := h.PutScript(name, []byte("#!/bin/sh\n"), 0o755, os.Getuid()); err != nil {
			t.Fatal(err)
		}
		if err := h.NoteScriptSource(name, "/home/maren/bin/"+name); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Mkdir(filepath.Join(h.State, "scripts", "folder"), 0o700); err != nil {
		t.Fatal(err)
	}
	if got := h.ScriptSource("vault-copy"); got != "/home/maren/bin/vault-copy" {
		t.Errorf("vault-copy came from %q", got)
	}
	if got := h.ScriptSource("job-board"); got != "" {
		t.Errorf("job-board, which is not kept, came from %q", got)
	}
	used := h.KeptScript("stock-count")
	if err := h.TidyScripts(func(path string) bool { return path == used }); err != nil {
		t.Fatal(err)
	}
	var left []string
	entries, _ := os.ReadDir(filepath.Join(h.State, "scripts"))
	for _, e := range entries {
		left = append(left, e.Name())
	}
	if want := []string{".stock-count", "folder", "stock-count"}; !slices.Equal(left, want) {
		t.Errorf("there are %q, want %q", left, want)
	}
}

// TestPageSettings: the settings and values that docs/operations.md shows are right.
func TestPageSettings(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/operations.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := strings.Split(string(text), "```toml\n")[1:]
	if len(blocks) < 2 {
		t.Fatalf("the page has %d blocks of settings", len(blocks))
	}
	for i, block := range blocks {
		block, _, _ = strings.Cut(block, "```")
		if strings.HasPrefix(block, "# vars.toml") {
			if vars, err := ParseVars("vars.toml", []byte(block), "front-desk"); err != nil || vars["vault"] != "/srv/front/vault" {
				t.Errorf("block %d: %v, %v", i+1, vars, err)
			}
			continue
		}
		path := filepath.Join(t.TempDir(), "settings.toml")
		if err := os.WriteFile(path, []byte(block), 0o600); err != nil {
			t.Fatal(err)
		}
		if s, err := ReadSettings(path); err != nil || reflect.DeepEqual(s, DefaultSettings) {
			t.Errorf("block %d: %+v, %v\n%s", i+1, s, err, block)
		}
	}
}
