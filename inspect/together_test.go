package inspect

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// TestTogether finds what only shows when gates are seen together.
func TestTogether(t *testing.T) {
	now := calendar.InstantOf(time.Date(2026, time.November, 26, 10, 0, 0, 0, time.UTC))
	read := func(name, text string) *gate.Gate {
		t.Helper()
		g, found := gate.Read(name, name+".toml", []byte(text), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: calendar.UTC}})
		if g == nil {
			t.Fatal(found)
		}
		return g
	}
	one := func(program, opens, rest string) string {
		return fmt.Sprintf("run = [%q]\nopens = [%q]\n%s", program, opens, rest)
	}
	var crowd []*gate.Gate
	for i := range 15 {
		crowd = append(crowd, read(fmt.Sprintf("g%02d", i), one(fmt.Sprintf("/bin/p%d", i), "at 08:00", "")))
	}
	for _, tt := range []struct {
		name  string
		gates []*gate.Gate
		takes time.Duration
		want  string
	}{
		{"nothing", []*gate.Gate{read("a", one("/bin/a", "every 20m", "")), read("b", one("/bin/b", "every 20m", ""))}, time.Minute, ""},
		{"the same command", []*gate.Gate{read("a", one("/bin/a", "at 08:00", "")), read("b", one("/bin/a", "at 09:00", ""))}, 0, "b same-command"},
		{"one of them off", []*gate.Gate{read("a", one("/bin/a", "at 08:00", "enabled = false\n")), read("b", one("/bin/a", "at 09:00", ""))}, 0, ""},
		{"too long", []*gate.Gate{read("a", one("/bin/a", "every 20m", ""))}, 25 * time.Minute, "a outlasts"},
		{"side by side", []*gate.Gate{read("a", one("/bin/a", "every 20m", "[rules]\nbusy = \"beside\"\n"))}, 25 * time.Minute, ""},
		{"a crowd", crowd, 0, "g00 pile"},
	} {
		var got []string
		for _, f := range Together(tt.gates, "studio", func(string) time.Duration { return tt.takes }, now) {
			if got = append(got, f.Gate+" "+f.Code); f.Remedy == "" || f.Message == "" {
				t.Errorf("%s: %+v says too little", tt.name, f)
			}
		}
		if strings.Join(got, ", ") != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, strings.Join(got, ", "), tt.want)
		}
	}
}
