//go:build linux

package home_test

import (
	"os"
	"testing"

	"timegate/core/gate"
	"timegate/home"
	"timegate/workstation/wstest"
)

// TestFindFolder: without a home folder in the environment the list of accounts has it.
func TestFindFolder(t *testing.T) {
	if !wstest.Alone(t, 0) {
		return
	}
	for _, name := range []string{"XDG_CONFIG_HOME", "XDG_STATE_HOME"} {
		os.Unsetenv(name)
	}
	want := home.Folder() + "/.config/timegate/gates"
	for _, set := range []string{"", "relative"} {
		t.Setenv("HOME", set)
		if err := home.FindFolder(); err != nil || home.Of(gate.User).Gates != want {
			t.Errorf("HOME=%q: gates in %s, %v; want %s", set, home.Of(gate.User).Gates, err, want)
		}
	}
	t.Setenv("HOME", "/srv/larkspur")
	if err := home.FindFolder(); err != nil || os.Getenv("HOME") != "/srv/larkspur" {
		t.Errorf("HOME=%s, %v", os.Getenv("HOME"), err)
	}
}
