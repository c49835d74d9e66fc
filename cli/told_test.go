//go:build linux

package cli_test

import (
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"timegate/workstation/wstest"
)

// TestToldByCommand: the system's keeper starts a program of the settings as root, for all
// that is told, and a gate's own as the gate's account, for its notices alone. One that
// others can change is not started.
func TestToldByCommand(t *testing.T) {
	if !onMnt(t) {
		return
	}
	wstest.Do(t, "mkdir", "-m", "1777", "/mnt/out")
	wstest.Do(t, "mkdir", "-m", "777", "/mnt/open")
	const told = "#!/bin/sh\nwhoami=$(id -un)\nif [ $whoami = root ]; then cd /mnt/root; else cd /mnt/out; fi\nprintf '%s: %s\\n%s\\n' \"$whoami\" \"$TIMEGATE_TOLD\" \"$TIMEGATE_TOLD_JSON\" >part && mv part told\n"
	for name, text := range map[string]string{
		"told":                told,
		"open/told":           told,
		"fail":                "#!/bin/sh\nexit 3\n",
		"tg/settings.toml":    "scope = \"system\"\n[tell]\ndesktop = false\ncommand = [\"/mnt/told\"]\n",
		"tg/gates/hers.toml":  "run = [\"/mnt/fail\"]\nopens = [\"signal x\"]\n[as]\nuser = \"nobody\"\n[tell]\ncommand = [\"/mnt/told\"]\n",
		"tg/gates/roots.toml": "run = [\"/mnt/fail\"]\nopens = [\"signal x\"]\n[as]\nelevated = true\n[tell]\ncommand = [\"/mnt/open/told\"]\n",
	} {
		mode := os.FileMode(0o755)
		if strings.HasSuffix(name, ".toml") {
			mode = 0o644
		}
		if err := os.WriteFile("/mnt/"+name, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
	}
	wstest.Do(t, "mkdir", "-m", "700", "/mnt/root")
	keeper := exec.Command("/mnt/timegate", "--home", "/mnt/tg", "--scope", "system", "keeper", "run")
	log := &strings.Builder{}
	keeper.Stderr = log
	if err := keeper.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- keeper.Wait() }()
	t.Cleanup(func() { keeper.Process.Kill() })
	send := func() bool {
		return exec.Command("/mnt/timegate", "--home", "/mnt/tg", "--scope", "system", "send", "x").Run() == nil
	}
	wstest.Await(t, "the keeper", send)
	text := func(path string) string {
		data, err := os.ReadFile(path)
		if err != nil {
			return ""
		}
		return string(data)
	}
	wstest.Await(t, "what root is told", func() bool { return text("/mnt/root/told") != "" })
	wstest.Await(t, "what nobody is told", func() bool { return text("/mnt/out/told") != "" })
	if got := text("/mnt/root/told"); !strings.HasPrefix(got, "root: 2 notices of ") || !strings.Contains(got, `"gate":"hers"`) || !strings.Contains(got, `"gate":"roots"`) {
		t.Errorf("root is told %s", got)
	}
	if got := text("/mnt/out/told"); !strings.HasPrefix(got, "nobody: hers failed: exit status 3") || strings.Contains(got, "roots") {
		t.Errorf("nobody is told %s", got)
	}
	keeper.Process.Signal(syscall.SIGTERM)
	<-ended
	if !strings.Contains(log.String(), "/mnt/open/told") {
		t.Errorf("the command that everybody can change was started, or nothing is said of it:\n%s", log)
	}
}
