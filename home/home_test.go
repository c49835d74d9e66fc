package home

import (
	"testing"

	"github.com/adrg/xdg"

	"timegate/core/gate"
)

// TestHomeOf: the user scope lies in the XDG folders; without a runtime
// folder the socket lies with the state.
func TestHomeOf(t *testing.T) {
	dir := t.TempDir()
	defer xdg.Reload()
	for _, tt := range []struct{ runtime, socket string }{
		{dir, dir + "/timegate/keeper.sock"}, {dir + "/missing", dir + "/state/timegate/keeper.sock"},
	} {
		t.Setenv("XDG_RUNTIME_DIR", tt.runtime)
		t.Setenv("XDG_STATE_HOME", dir+"/state")
		t.Setenv("XDG_CONFIG_HOME", dir+"/config")
		xdg.Reload()
		h := Of(gate.User)
		if h.Socket != tt.socket || h.Gates != dir+"/config/timegate/gates" || h.Journal() != dir+"/state/timegate/journal.db" {
			t.Errorf("with %s: %+v", tt.runtime, h)
		}
	}
	if h := Of(gate.System); h.GateFile("x") != "/etc/timegate/gates/x.toml" || h.State != "/var/lib/timegate" || h.Socket != "/run/timegate/keeper.sock" {
		t.Errorf("the system scope: %+v", h)
	}
}
