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

// personTests are commands of a person at the keeper of the system scope, their
// status, and a part of what they print.
var personTests = []struct {
	command string
	status  int
	want    string
	not     string // is no part of it
}{
	{"list", 0, "hers ", "roots"},
	{"history", 0, "hers/1 ", "roots"},
	{"--json history", 0, `"as": "nobody"`, "root"},
	{"output 1", 0, "for hers", ""},
	{"output 2", 4, "there is no run 2", "for"},
	{"show hers", 0, "as      nobody", ""},
	{"show roots", 4, `there is no gate "roots"`, ""},
	{"why hers", 0, "Run 1 ended: ok", ""},
	{"why roots", 4, `there is no gate "roots"`, ""},
	{"preview", 0, "hers", "roots"},
	{"week", 0, "hers", "roots"},
	{"check", 0, "1 gate checked", "roots"},
	{"keeper status", 0, "1 in force", "roots"},
	{"open hers", 5, "only root may do that", ""},
	{"stop roots", 5, "only root may do that", ""},
	{"pause", 5, "only root may do that", ""},
	{"send x", 5, "only root may do that", ""},
	{"enable hers", 5, "only root may change", ""},
	{"remove roots --yes", 5, "only root may change", ""},
	{"add mine --open boot -- /bin/true", 5, "only root may change", ""},
}

// onMnt runs the test alone, with the program and a home of the system scope below /mnt, which
// root alone can change. It is false in the process that has waited for it.
func onMnt(t *testing.T) bool {
	t.Helper()
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return false
	}
	wstest.Do(t, "mount", "--make-rprivate", "/")
	wstest.Do(t, "mount", "-t", "tmpfs", "-o", "mode=755", "tmpfs", "/mnt")
	wstest.Do(t, "cp", program, "/mnt/timegate")
	if err := os.MkdirAll("/mnt/tg/gates", 0o755); err != nil {
		t.Fatal(err)
	}
	return true
}

// TestPerson: what a person gets to see and to do at the system's keeper.
func TestPerson(t *testing.T) {
	if !onMnt(t) {
		return
	}
	for name, text := range map[string]string{
		"tell":                "#!/bin/sh\necho \"for $TIMEGATE_GATE\"\n",
		"tg/gates/hers.toml":  "run = [\"/mnt/tell\"]\nopens = [\"signal x\", \"at 07:30\"]\n[as]\nuser = \"nobody\"\n",
		"tg/gates/roots.toml": "run = [\"/mnt/tell\"]\nopens = [\"signal x\", \"at 07:30\"]\n[as]\nelevated = true\n",
	} {
		if err := os.WriteFile("/mnt/"+name, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	call := func(uid uint32, args ...string) (string, int) {
		cmd := exec.Command("/mnt/timegate", append([]string{"--plain", "--home", "/mnt/tg", "--scope", "system"}, args...)...)
		cmd.Env = []string{"PATH=/usr/bin:/bin", "HOME=/", "TZ=Europe/London"}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	const nobody = 65534
	if out, status := call(nobody, "list"); status != 6 || !strings.Contains(out, "root starts the system's") {
		t.Errorf("without a keeper: status %d, %s", status, out)
	}
	keeper := exec.Command("/mnt/timegate", "--home", "/mnt/tg", "--scope", "system", "keeper", "run")
	if err := keeper.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { keeper.Process.Kill(); keeper.Wait() }()
	wstest.Await(t, "the keeper", func() bool { _, status := call(0, "keeper", "status"); return status == 0 })
	if out, status := call(0, "send", "x"); status != 0 {
		t.Fatal(out)
	}
	wstest.Await(t, "both runs", func() bool { out, _ := call(0, "history"); return strings.Count(out, " ok ") == 2 })
	for _, tt := range personTests {
		out, status := call(nobody, strings.Fields(tt.command)...)
		if status != tt.status || !strings.Contains(out, tt.want) || tt.not != "" && strings.Contains(out, tt.not) {
			t.Errorf("%s: status %d, want %d, with %q and without %q:\n%s", tt.command, status, tt.status, tt.want, tt.not, out)
		}
	}
}
