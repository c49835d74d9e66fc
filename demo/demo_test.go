package demo

import (
	"os"
	"path/filepath"
	"testing"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/inspect"
)

// TestBindery: every gate of the demo is right, names a program that the demo
// brings, and has something to do on the staged day.
func TestBindery(t *testing.T) {
	gates, bin := t.TempDir(), t.TempDir()
	if err := Unpack(Folders{gates, bin, "/srv/proofs"}); err != nil {
		t.Fatal(err)
	}
	zone, err := Zone()
	if err != nil {
		t.Fatal(err)
	}
	from, to, scenes := Day(zone)
	for i, s := range scenes {
		if s.At.Before(from) || s.At.After(to) || i > 0 && s.At.Before(scenes[i-1].At) {
			t.Errorf("the scene at %v is out of order", s.At)
		}
	}
	files, err := os.ReadDir(gates)
	if err != nil || len(files) != 8 {
		t.Fatalf("%d gates, %v", len(files), err)
	}
	programs, _ := os.ReadDir(bin)
	used := map[string]bool{}
	for _, f := range files {
		data, err := os.ReadFile(filepath.Join(gates, f.Name()))
		if err != nil {
			t.Fatal(err)
		}
		name := f.Name()[:len(f.Name())-len(".toml")]
		g, found := gate.Read(name, f.Name(), data, gate.Options{Scope: gate.User, Env: phrase.Env{Zone: zone}})
		if g == nil || len(found) > 0 {
			t.Errorf("%s: %v", f.Name(), found)
			continue
		}
		if faults := inspect.Target(g.Run[0], bin, inspect.Who{}); len(faults) > 0 {
			t.Errorf("%s: %v", f.Name(), faults)
		}
		used[filepath.Base(g.Run[0])] = true
		var n int64
		for _, o := range g.Opens {
			n += o.Plan.Count(calendar.InstantOf(from), calendar.InstantOf(to))
			if o.Plan.Rule == nil {
				n++
			}
		}
		if n == 0 {
			t.Errorf("%s has nothing to do on the staged day", name)
		}
	}
	if len(used) != len(programs) {
		t.Errorf("%d of %d programs are used", len(used), len(programs))
	}
}
