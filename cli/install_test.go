//go:build linux

package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"timegate/workstation/wstest"
)

// TestInstalledFiles lets those programs judge the installed files that know
// their formats.
func TestInstalledFiles(t *testing.T) {
	t.Parallel()
	analyze, validate := wstest.Need(t, "systemd-analyze", "systemd"), wstest.Need(t, "desktop-file-validate", "desktop-file-utils")
	// A path that must be quoted.
	dir := filepath.Join(t.TempDir(), "time gate 100% $HOME")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	copied := filepath.Join(dir, "timegate")
	wstest.Do(t, "cp", program, copied) // a file that this process had open to write could not be run while another starts
	root := t.TempDir()
	run := func(argv ...string) {
		t.Helper()
		cmd := exec.Command(argv[0], argv[1:]...)
		cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME=/config", "TIMEGATE_HOME=")
		if out, err := cmd.CombinedOutput(); err != nil || strings.Contains(string(out), "timegate.service:") {
			t.Errorf("%s: %v\n%s", strings.Join(argv, " "), err, out)
		}
	}
	run(copied, "--scope", "system", "keeper", "install", "--root", root)
	run(copied, "--scope", "user", "keeper", "install", "--root", root)
	run(copied, "--scope", "system", "keeper", "install", "--packaged", "--root", filepath.Join(root, "package"))
	unit, err := os.ReadFile(filepath.Join(root, "package/usr/lib/systemd/system/timegate.service"))
	if !strings.Contains(string(unit), "\nExecStart=\"/usr/bin/timegate\" --scope system keeper run\n") {
		t.Errorf("the package's service is %q, %v", unit, err)
	}
	for _, file := range []string{"man/man1/timegate-add.1", "bash-completion/completions/timegate", "zsh/vendor-completions/_timegate", "fish/vendor_completions.d/timegate.fish"} {
		if _, err := os.Stat(filepath.Join(root, "package/usr/share", file)); err != nil {
			t.Error(err)
		}
	}
	run(analyze, "verify", "--man=no", "--recursive-errors=no", filepath.Join(root, "etc/systemd/system/timegate.service"))
	run(validate, filepath.Join(root, "config/autostart/timegate-keeper.desktop"))
}
