package gate

import (
	"fmt"
	"strings"
	"testing"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

// TestNames puts values in the places of names, and reads what comes of it: a name
// without a value is an error, doubled braces stand for themselves, and what belongs to a
// shell or to another program is left alone.
func TestNames(t *testing.T) {
	vars := Vars{"vault": "/media/vault", "host": "front-desk", "odd": "a{b}c"}
	for _, tt := range []struct{ run, want string }{
		{`"/bin/x", "{vault}/{host}"`, `[/bin/x /media/vault/front-desk]`},
		{`"/bin/x", "{{vault}}", "${vault}", "{print $1}", "{}", "{a,b}", "{A}"`, `[/bin/x {vault} ${vault} {print $1} {} {a,b} {A}]`},
		{`"/bin/x", '{vault}', "{odd}"`, `[/bin/x /media/vault a{b}c]`},
		{`"/bin/x", "{{{vault}}}"`, `[/bin/x {{vault}}]`},
		{`"/bin/x", "{valut}"`, `gates/g.toml:1:18: nothing is called {valut} here`},
		{`"/bin/x", "{vault}", "{valut}"`, `gates/g.toml:1:29: nothing is called {valut} here`},
		{`"{vault}{host}/x"`, `[/media/vaultfront-desk/x]`},
		{`"/bin/x", "{hosts}"`, `did you mean {host}?`},
	} {
		text := []byte("run = [" + tt.run + "]\nopens = [\"boot\"]\n[as]\nenv = { A = \"{host}\" }\n[needs]\npaths = [\"{vault}/on\"]\n# {nothing}\n")
		x := vars.Expand(text)
		whole, used := x.Text, x.Used
		g, found := Read("g", "gates/g.toml", whole, Options{Scope: User, From: x, Env: phrase.Env{Zone: calendar.UTC}})
		got := fmt.Sprint(found.Errors())
		if g != nil {
			got = fmt.Sprint(g.Run)
			if g.As.Env["A"] != "front-desk" || g.Needs.Paths[0] != "/media/vault/on" || used["host"] != "front-desk" {
				t.Errorf("%s: %+v, used %v", tt.run, g, used)
			}
		}
		if g == nil && !strings.Contains(got, tt.want) || g != nil && got != tt.want {
			t.Errorf("%s\n got %s\nwant %s", tt.run, got, tt.want)
		}
		if again := vars.Expand(whole).Text; string(again) != string(whole) {
			t.Errorf("%s, once more: %s", whole, again)
		}
	}
	for text, want := range map[string]string{"[as]\nuser = \"maren\"\n": "maren", "as = { user = \"ines\" }": "ines", "as.elevated = true": "root", "run = [": "", "run = [\"user\"]": ""} {
		if got := AccountIn([]byte(text)); got != want {
			t.Errorf("%q runs as %q, want %q", text, got, want)
		}
	}
	text := []byte("run = [\"/bin/x\"]\n\nneeds.power = \"mains\"\n[rules]\n# a comment\nmissed = \"once\"\n")
	for key, want := range map[string]int{"run": 1, "needs.power": 3, "rules.missed": 6, "rules.busy": 0, "nothing": 0} {
		if got := LineOf(text, key); got != want {
			t.Errorf("%s stands on line %d, want %d", key, got, want)
		}
	}
	if HasNames([]byte("opens = [{ name = \"a\" }]")) || !HasNames([]byte("run = [\"{home}\"]")) {
		t.Error("an inline table is taken for a name, or a name is not")
	}
}
