package home

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
)

// TestVars: the host's own value counts before those of patterns, and these before that
// for all; what is wrong is told with its place.
func TestVars(t *testing.T) {
	t.Parallel()
	const good = "vault = \"/media/vault\"\nroom = \"press\"\n[\"front-*\"]\nvault = \"/srv/front\"\nfloor = \"1\"\n[\"front-desk\"]\nvault = \"/srv/desk\"\n[\"*-desk\"]\nfloor = \"1\"\n"
	for _, tt := range []struct{ text, host, want string }{
		{good, "studio", "map[room:press vault:/media/vault]"},
		{good, "front-2", "map[floor:1 room:press vault:/srv/front]"},
		{good, "front-desk", "map[floor:1 room:press vault:/srv/desk]"},
		{"", "x", "map[]"},
		{"[\"a*\"]\nx = \"1\"\n[\"*b\"]\nx = \"2\"\n", "ab", "vars.toml:1:3: *b and a* both stand for this host, and give x another value each: give it one in [\"ab\"]"},
		{"[\"a*\"]\nx = \"1\"\n[\"*b\"]\nx = \"2\"\n[ab]\nx = \"3\"\n", "ab", "map[x:3]"},
		{"host = \"x\"\n", "x", "vars.toml:1:1: {host} has a value of its own"},
		{"Vault = \"x\"\n", "x", "\"Vault\" is no name"},
		{"a = 1\n", "x", "vars.toml:1:1: a is a text in quotes"},
		{"[x]\na = 1\n", "y", "a of x is a text in quotes"},
		{"a = 'b\"c'\n", "x", "has a quote"},
		{"a = \n", "x", "vars.toml:1:"},
		{"[\"[\"]\n", "x", "no pattern of hosts"},
	} {
		vars, err := ParseVars("vars.toml", []byte(tt.text), tt.host)
		got := fmt.Sprint(map[string]string(vars))
		if err != nil {
			got = err.Error()
		}
		if err == nil && got != tt.want || err != nil && !strings.Contains(got, tt.want) {
			t.Errorf("%q on %s\n got %s\nwant %s", tt.text, tt.host, got, tt.want)
		}
	}
	if vars, err := ReadVars(filepath.Join(t.TempDir(), "vars.toml"), "x"); err != nil || len(vars) != 0 {
		t.Errorf("without a file: %v, %v", vars, err)
	}
}
