package gates

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/home"
)

var planTime = time.Date(2026, 11, 30, 6, 0, 0, 0, time.UTC)

func planHome(t *testing.T, files ...string) home.Home {
	t.Helper()
	h := home.At(t.TempDir(), gate.User)
	if err := h.Prepare(); err != nil {
		t.Fatal(err)
	}
	for _, name := range files {
		if err := os.WriteFile(h.GateFile(name), []byte(planText("old")), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return h
}

func planText(about string) string {
	return fmt.Sprintf("about = %q\nrun = [\"/bin/true\"]\nopens = [\"boot\"]\n", about)
}

// tell lists a folder's gates with what they are about.
func tell(t *testing.T, h home.Home) string {
	t.Helper()
	files, err := ReadFolder(h, Env(Here(gate.User, calendar.UTC, ""), calendar.UTC))
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, f := range files {
		about := "broken"
		if f.Gate != nil {
			about = f.Gate.About
		}
		out = append(out, f.Name+"="+about)
	}
	return strings.Join(out, " ")
}

// TestPlan: several changes come into force together, are undone together, and
// are refused together where one of them is wrong.
func TestPlan(t *testing.T) {
	t.Parallel()
	env := Env(Here(gate.User, calendar.UTC, ""), calendar.UTC)
	h := planHome(t, "a", "b")
	p := NewPlan(h)
	p.Put("a", []byte(planText("new")))
	p.Put("c", []byte(planText("new")))
	p.Remove("b")
	if err := p.Commit(env, planTime); err != nil {
		t.Fatal(err)
	}
	if got := tell(t, h); got != "a=new c=new" {
		t.Errorf("after the plan: %s", got)
	}
	if text, err := os.ReadFile(RemovedFile(h, "b", planTime)); err != nil || string(text) != planText("old") {
		t.Errorf("what was removed is kept as %q, %v", text, err)
	}
	undo, err := Undo(h)
	if err == nil {
		err = undo.Commit(env, planTime)
	}
	if got := tell(t, h); err != nil || got != "a=old b=old" {
		t.Errorf("undone: %s, %v", got, err)
	}
	if undo, err = Undo(h); err == nil { // what was undone comes back
		err = undo.Commit(env, planTime)
	}
	if got := tell(t, h); err != nil || got != "a=new c=new" {
		t.Errorf("undone twice: %s, %v", got, err)
	}
	if err := os.WriteFile(h.GateFile("c"), []byte(planText("by hand")), 0o600); err != nil {
		t.Fatal(err)
	}
	var changed *ChangedError
	if _, err := Undo(h); !errors.As(err, &changed) || len(changed.Names) != 1 || changed.Names[0] != "c" {
		t.Errorf("undone over a change by hand: %v", err)
	}
	for name, wrong := range map[string]func(p *Plan){
		"a gate that is wrong":   func(p *Plan) { p.Put("d", []byte("run = 1\n")) },
		"a circle of gates":      func(p *Plan) { p.Put("d", []byte("run = [\"/bin/true\"]\nopens = [\"end of d\"]\n")) },
		"what must come first":   func(p *Plan) { p.First(func() error { return errors.New("no room") }) },
		"a name that is no name": func(p *Plan) { p.Put("../d", []byte(planText("x"))) },
	} {
		p := NewPlan(h)
		p.Put("a", []byte(planText("newer")))
		wrong(p)
		if err := p.Commit(env, planTime); err == nil || tell(t, h) != "a=new c=by hand" {
			t.Errorf("with %s: %v, and there is %s", name, err, tell(t, h))
		}
	}
	if _, err := Undo(planHome(t)); !errors.Is(err, ErrNothingToUndo) {
		t.Errorf("undone without a plan: %v", err)
	}
}

// TestPlanIsWhole: whoever reads the folder while plans are committed sees all
// of one or nothing of it; one whose maker died in the middle is in force, and
// is finished by the next.
func TestPlanIsWhole(t *testing.T) {
	t.Parallel()
	env := Env(Here(gate.User, calendar.UTC, ""), calendar.UTC)
	var names []string
	for i := range 12 {
		names = append(names, fmt.Sprintf("gate-%02d", i))
	}
	h := planHome(t, names...)
	commit := func(about string) error {
		p := NewPlan(h)
		for _, name := range names {
			p.Put(name, []byte(planText(about)))
		}
		return p.Commit(env, planTime)
	}
	done := make(chan struct{})
	var readers sync.WaitGroup
	for range 3 {
		readers.Go(func() {
			for {
				select {
				case <-done:
					return
				default:
				}
				files, err := ReadFolder(h, env)
				if err != nil || len(files) != len(names) {
					t.Errorf("read %d files, %v", len(files), err)
					return
				}
				for _, f := range files {
					if f.Gate == nil || f.Gate.About != files[0].Gate.About {
						t.Errorf("half of a plan: %s beside %s", f.Text, files[0].Text)
						return
					}
				}
			}
		})
	}
	for i := range 25 {
		if err := commit(fmt.Sprint("plan ", i)); err != nil {
			t.Fatal(err)
		}
	}
	close(done)
	readers.Wait()

	// What could not be read again is refused before anything is done, whatever was there before.
	first := false
	p := NewPlan(h)
	p.First(func() error { first = true; return nil })
	p.Put(names[0], []byte(planText("too large")))
	for i := range 50 {
		p.PutOther(OtherChange{Path: filepath.Join(h.State, fmt.Sprint("big", i)), After: &home.State{Text: bytes.Repeat([]byte("glue\n"), longestOther/5), Mode: 0o600}})
	}
	before := tell(t, h)
	if err, is := errors.AsType[*TooLargeError](p.Commit(env, planTime)); !is || err.Bytes < longestPlan || first || tell(t, h) != before {
		t.Errorf("a plan that is too large: %v, begun %v: %s", err, first, tell(t, h))
	}
	// One that cannot be read is set aside, whatever it is.
	for _, spoil := range []func(path string) error{func(path string) error { return os.WriteFile(path, []byte("glue"), 0o600) }, func(path string) error { return os.Mkdir(path, 0o700) },
		func(path string) error {
			return errors.Join(os.WriteFile(path, nil, 0o600), os.Truncate(path, longestPlan+1))
		}} {
		saved, err := os.ReadFile(planFile(h))
		if err := errors.Join(err, os.Remove(planFile(h)), spoil(planFile(h))); err != nil {
			t.Fatal(err)
		}
		if _, err := ReadFolder(h, env); err == nil {
			t.Error("a plan that cannot be read is passed over in silence")
		}
		aside, err := RescuePlan(h, planTime)
		if files, readErr := ReadFolder(h, env); err != nil || readErr != nil || len(files) != len(names) {
			t.Errorf("set aside as %s: %v, then %d files, %v", aside, err, len(files), readErr)
		}
		if err := os.RemoveAll(aside); err != nil || aside == "" {
			t.Errorf("%q: %v", aside, err)
		}
		if err := os.WriteFile(planFile(h), saved, 0o600); err != nil {
			t.Fatal(err)
		}
	}

	// A maker that dies once its plan is written.
	text := planText("died")
	k := kept{Number: 1000, At: planTime}
	for _, name := range names {
		k.Changes = append(k.Changes, Change{Name: name, After: &text})
	}
	if err := k.write(h); err != nil {
		t.Fatal(err)
	}
	if got := tell(t, h); strings.Count(got, "=died") != len(names) {
		t.Errorf("a plan whose maker died: %s", got)
	}
	if f := ReadFile(h, names[3], env); f.Gate == nil || f.Gate.About != "died" {
		t.Errorf("one of its files: %+v", f)
	}
	p = NewPlan(h)
	p.Remove(names[0])
	if err := p.Commit(env, planTime); err != nil {
		t.Fatal(err)
	}
	if on, err := os.ReadFile(h.GateFile(names[5])); err != nil || string(on) != text {
		t.Errorf("the next plan has not finished it: %s, %v", on, err)
	}
	if err := os.WriteFile(filepath.Join(h.Gates, ".plan.json"), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := ReadFolder(h, env); err == nil {
		t.Error("a plan that cannot be read was passed over")
	}
}
