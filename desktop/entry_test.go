package desktop

import (
	"os"
	"path/filepath"
	"testing"
)

// TestWantsTerminal: a desktop entry says which programs want a terminal.
func TestWantsTerminal(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"board":  "[Desktop Entry]\nExec=/opt/larkspur/bin/job-board %F\nTerminal=true\n",
		"glue":   "[Desktop Entry]\nExec=\"glue-warm\" --slow\nTerminal = true\n",
		"proofs": "[Desktop Entry]\nExec=proof-inbox\nTerminal=false\n[Desktop Action Log]\nExec=stock-count\nTerminal=true\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name+".desktop"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for program, want := range map[string]bool{
		"/opt/larkspur/bin/job-board": true, "/usr/bin/job-board": false, "/usr/bin/glue-warm": true, "/usr/bin/proof-inbox": false, "/usr/bin/stock-count": false,
	} {
		if got := WantsTerminal(program, []string{"/nowhere", dir}); got != want {
			t.Errorf("%s wants a terminal: %v, want %v", program, got, want)
		}
	}
}
