package gates

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/home"
)

// TestOthers: a plan changes other files with the gates, whatever dies in between; undo
// takes both back, and not where one of them has changed since.
func TestOthers(t *testing.T) {
	t.Parallel()
	env := Env(Here(gate.User, calendar.UTC, ""), calendar.UTC)
	h := planHome(t, "a")
	dir := t.TempDir()
	entry, fresh := filepath.Join(dir, "entry.desktop"), filepath.Join(dir, "board.service.d", "off.conf")
	if err := os.WriteFile(entry, []byte("[Desktop Entry]\n"), 0o640); err != nil {
		t.Fatal(err)
	}
	plan := func() *Plan {
		p := NewPlan(h)
		p.Put("a", []byte(planText("new")))
		p.PutOther(OtherChange{Path: entry, After: &home.State{Text: []byte("hidden\n")}})
		p.PutOther(OtherChange{Path: fresh, After: &home.State{Text: []byte("off\n")}, Tidy: true})
		return p
	}
	state := func() string {
		t.Helper()
		text, err := os.ReadFile(entry)
		if err != nil {
			t.Fatal(err)
		}
		_, err = os.Stat(fresh)
		there := "no"
		if err == nil {
			there = "yes"
		}
		return tell(t, h) + " " + strings.TrimSpace(string(text)) + " " + there
	}
	const before, after = "a=old [Desktop Entry] no", "a=new hidden yes"
	if err := plan().Commit(env, planTime); err != nil {
		t.Fatal(err)
	}
	if got := state(); got != after {
		t.Errorf("after the plan: %s", got)
	}
	if info, err := os.Stat(entry); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("the entry has the mode %v, %v", info.Mode(), err)
	}
	undo, err := Undo(h)
	if err == nil {
		err = undo.Commit(env, planTime)
	}
	if err != nil || state() != before {
		t.Errorf("undone: %s, %v", state(), err)
	}
	if _, err := os.Stat(filepath.Dir(fresh)); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the folder that was made is left: %v", err)
	}

	// It dies after it was written down, and before any file is in its place: whoever
	// comes next finishes it.
	p := plan()
	for i := range p.changes {
		text := planText("old")
		p.changes[i].Before = &text
	}
	k, err := readPlan(h)
	if err != nil {
		t.Fatal(err)
	}
	k = kept{Number: k.Number + 1, At: planTime, Changes: p.changes, Others: p.others}
	if err := k.write(h); err != nil {
		t.Fatal(err)
	}
	if got := tell(t, h); got != "a=new" { // it counts already
		t.Errorf("of a plan that was not finished is seen: %s", got)
	}
	next := NewPlan(h)
	next.Put("b", []byte(planText("next")))
	if err := next.Commit(env, planTime.Add(time.Second)); err != nil {
		t.Fatal(err)
	}
	if got := state(); got != "a=new b=next hidden yes" {
		t.Errorf("after the next plan: %s", got)
	}

	// What somebody has changed since is not lost.
	if err := plan().Commit(env, planTime); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(entry, []byte("by hand\n"), 0o640); err != nil {
		t.Fatal(err)
	}
	var changed *ChangedError
	if _, err := Undo(h); !errors.As(err, &changed) || len(changed.Names) != 1 || changed.Names[0] != entry {
		t.Errorf("Undo = %v", err)
	}
	// What cannot be read stops a plan before anything changes.
	if err := os.MkdirAll(filepath.Join(dir, "folder"), 0o755); err != nil {
		t.Fatal(err)
	}
	p = NewPlan(h)
	p.Put("a", []byte(planText("never")))
	p.PutOther(OtherChange{Path: filepath.Join(dir, "folder"), After: &home.State{Text: []byte("x")}})
	if err := p.Commit(env, planTime); err == nil || !strings.Contains(tell(t, h), "a=new") {
		t.Errorf("a folder is taken for a file: %v, %s", err, tell(t, h))
	}
}

// TestVarsReread: gates whose names have other values are other gates, and those that say
// no names are not.
func TestVarsReread(t *testing.T) {
	t.Parallel()
	env := Env(Here(gate.User, calendar.UTC, "front-desk"), calendar.UTC)
	h := planHome(t, "plain")
	if err := os.WriteFile(h.GateFile("named"), []byte("run = [\"/bin/echo\", \"{vault}\", \"{home}\"]\nopens = [\"boot\"]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	versions := func(vars string) map[string]File {
		t.Helper()
		if err := os.WriteFile(h.VarsFile(), []byte(vars), 0o600); err != nil {
			t.Fatal(err)
		}
		files, err := ReadFolder(h, env)
		if err != nil {
			t.Fatal(err)
		}
		out := map[string]File{}
		for _, f := range files {
			out[f.Name] = f
			if one := ReadFile(h, f.Name, env); one.Version != f.Version || (one.Gate == nil) != (f.Gate == nil) {
				t.Errorf("%s by itself is another: %+v", f.Name, one)
			}
		}
		return out
	}
	first, second := versions("vault = \"/a\"\n"), versions("vault = \"/a\"\n[\"front-*\"]\nvault = \"/b\"\n")
	if first["plain"].Version != second["plain"].Version || first["named"].Version == second["named"].Version {
		t.Errorf("versions %v and %v", first, second)
	}
	if got := second["named"]; got.Gate == nil || got.Gate.Run[1] != "/b" || got.Vars["vault"] != "/b" || got.Gate.Run[2] != home.FolderOf("") || !strings.Contains(got.Text, "{vault}") {
		t.Errorf("it is %+v", got)
	}
	broken := versions("vault = \n")
	if broken["plain"].Gate == nil || broken["named"].Gate != nil || broken["named"].Findings[0].Code != "vars" {
		t.Errorf("with values that cannot be read: %+v", broken["named"].Findings)
	}
	gone := versions("")
	if gone["named"].Gate != nil || gone["named"].Findings[0].Code != "unknown-name" || gone["named"].Findings[0].Column != 21 {
		t.Errorf("without the value: %+v", gone["named"].Findings)
	}
}
