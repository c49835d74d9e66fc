package cli

import (
	"slices"
	"testing"
	"time"

	"timegate/core/gate"
	"timegate/workstation/zones"
)

// TestFormChanges: what a form did not ask about stays: the names of openings, those
// that are off, further openings and further paths.
func TestFormChanges(t *testing.T) {
	t.Parallel()
	zone, err := zones.Find("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	s, _ := screenOf(0)
	a := &app{out: s, err: s, zone: zone, now: time.Now}
	text := "run = [\"/bin/true\"]\nopens = [{ name = \"early\", when = \"at 07:00\", enabled = false }, \"boot\", { name = \"late\", when = \"at 18:00\" }]\n[needs]\npaths = [\"/media/vault\", \"/srv\"]\n"
	read := func() *gate.Gate {
		g, found := gate.Read("stock-count", "stock-count.toml", []byte(text), gate.Options{Scope: gate.User, Env: a.env()})
		if g == nil {
			t.Fatal(found)
		}
		return g
	}
	for _, tt := range []struct {
		change       func(*answers)
		opens, paths []string
	}{
		{func(*answers) {}, []string{"early at 07:00 off", "2 boot", "late at 18:00"}, []string{"/media/vault", "/srv"}},
		{func(w *answers) { w.opens[0] = "at 06:30" }, []string{"early at 06:30 off", "2 boot", "late at 18:00"}, []string{"/media/vault", "/srv"}},
		{func(w *answers) { w.opens[1], w.path = "every friday at noon", "/media/disk" }, []string{"early at 07:00 off", "2 at 12:00 on fri", "late at 18:00"}, []string{"/media/disk", "/srv"}},
		{func(w *answers) { w.opens[0], w.path = "", "" }, []string{"1 boot", "late at 18:00"}, []string{"/srv"}},
	} {
		g := read()
		w := answersOf(g)
		tt.change(&w)
		if err := a.fromAnswers(g, &w); err != nil {
			t.Fatal(err)
		}
		var opens []string
		for _, o := range g.Opens {
			text := o.Name + " " + o.When
			if !o.Enabled {
				text += " off"
			}
			opens = append(opens, text)
		}
		if !slices.Equal(opens, tt.opens) || !slices.Equal(g.Needs.Paths, tt.paths) {
			t.Errorf("openings %q, want %q; paths %q, want %q", opens, tt.opens, g.Needs.Paths, tt.paths)
		}
	}
}
