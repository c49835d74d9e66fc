//go:build linux

package cli_test

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestDocuments: with --json each command prints one document and nothing else, a document
// of an error on standard error and nothing beside it where it fails, and asks nothing.
func TestDocuments(t *testing.T) {
	t.Parallel()
	work := t.TempDir()
	home := filepath.Join(work, "tg")
	day := filepath.Join(work, "day.toml")
	calendar := filepath.Join(work, "days.ics")
	for path, text := range map[string]string{
		day:      "from = \"2026-11-30\"\nevents = [\"07:00 boot\"]\nexpect = [\"stock-count opens 3 times\"]\n",
		calendar: "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART:20991201T080000Z\r\nSUMMARY:proofs\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
	} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, tt := range []struct {
		line   string // words; {} is the folder of the test
		status int
		in     string // what its document has; of an error its code
	}{
		{"add stock-count --open at|09:00 -- /bin/echo counted", 0, `"change": "added"`}, {"add stock-count --open at|09:00 -- /bin/true", 2, "wrong"}, {"add proofs --open at|9:00 -- /bin/true", 2, "phrase"},
		{"add proofs --open boot -- /no/such", 2, "wrong"}, {"add proofs --open at|10:00|on|2020-01-01 -- /bin/true", 2, "all-past"}, {"add glue-warm --open boot --line echo|warm", 0, "scripts/glue-warm"}, {"change stock-count --set rules.missed=once", 0, `"change": "changed"`},
		{"change stock-count", 2, "wrong"}, {"change none --set rules.missed=once", 4, "unknown"}, {"disable stock-count", 0, "is off"}, {"enable stock-count", 0, "is on"}, {"rename glue-warm glue", 0, `"change": "removed"`}, {"undo", 0, `"done": true`},
		{"preview stock-count", 0, ""}, {"check", 0, ""}, {"check stock-count", 0, ""}, {"week", 0, ""}, {"why stock-count", 0, ""}, {"rehearse {}/day.toml", 3, ""}, {"rehearse {}/none.toml", 2, "wrong"}, {"replay 1d", 1, "failed"},
		{"list", 0, ""}, {"show stock-count", 0, ""}, {"show none", 4, "unknown"}, {"history", 0, ""}, {"history --stats", 0, ""}, {"output none", 4, "unknown"}, {"figures", 0, "timegate_keeper_up"}, {"figures --write {}/f.txt", 0, `"done": true`}, {"report {}/r.html", 0, `"done": true`},
		{"find true", 0, ""}, {"try stock-count", 0, `"exit": 0`}, {"try -- /bin/false", 1, "failed"}, {"measure memory", 2, "wrong"}, {"startup", 0, ""}, {"open stock-count", 6, "no-keeper"}, {"stop stock-count", 6, "no-keeper"}, {"send go", 6, "no-keeper"}, {"pause", 6, "no-keeper"},
		{"resume", 6, "no-keeper"}, {"stage boot", 6, "no-keeper"}, {"keeper status", 6, "no-keeper"}, {"keeper stop", 6, "no-keeper"}, {"keeper restart", 6, "no-keeper"}, {"keeper doctor", 3, ""}, {"keeper backup {}/b.db", 1, "failed"}, {"keeper install --dry-run", 2, "wrong"},
		{"export {}/out", 0, `"done": true`}, {"export", 2, "wrong"}, {"apply {}/out --dry-run", 0, ""}, {"apply {}/out", 0, `"done": true`}, {"import {}/days.ics -- /bin/true", 0, `"change": "added"`}, {"import {}/none.ics", 2, "wrong"}, {"sign --new-key {}/k", 0, `"done": true`},
		{"schema", 0, ""}, {"version", 0, ""}, {"help", 0, "the commands of every day"}, {"help add", 0, "timegate add"}, {"help nothing", 2, "wrong"}, {"completion bash", 0, `"done": true`}, {"estate list", 2, "wrong"}, {"nothing", 2, "wrong"}, {"list --nothing", 2, "wrong"}, {"remove glue-warm", 0, `"change": "removed"`},
		{"edit stock-count", 0, `"nothing to change"`}, {"keeper uninstall --dry-run", 0, ""},
	} {
		args := strings.Fields(strings.ReplaceAll(tt.line, "{}", work))
		for i, arg := range args {
			args[i] = strings.ReplaceAll(arg, "|", " ")
		}
		cmd := exec.Command(program, append([]string{"--json", "--home", home}, args...)...)
		cmd.Env = append(os.Environ(), "EDITOR=true", "HOME="+work)
		var out, errs bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &errs
		cmd.Run()
		status, document := cmd.ProcessState.ExitCode(), out.Bytes()
		if status != tt.status {
			t.Errorf("%s: status %d, want %d\n%s%s", tt.line, status, tt.status, out.Bytes(), errs.Bytes())
			continue
		}
		in := tt.in
		if status != 0 && in != "" {
			if document = errs.Bytes(); out.Len() > 0 {
				t.Errorf("%s: it fails and prints\n%s", tt.line, out.Bytes())
			}
			in = `"code": "` + in + `"`
		}
		var any any
		if err := json.Unmarshal(document, &any); err != nil || !bytes.Contains(document, []byte(in)) {
			t.Errorf("%s: %v; want %s in one document:\n%s", tt.line, err, in, document)
		}
	}
}

// TestTopicsOfSettings: what the topics show of the settings is taken as it stands.
func TestTopicsOfSettings(t *testing.T) {
	t.Parallel()
	for _, topic := range []string{"settings", "telling"} {
		text, err := os.ReadFile("topics/" + topic + ".txt")
		if err != nil {
			t.Fatal(err)
		}
		var settings strings.Builder
		for line := range strings.Lines(string(text)) {
			if line = strings.TrimSpace(line); strings.HasPrefix(line, "[") || strings.Contains(line, " = ") && !strings.HasPrefix(line, "timegate") {
				settings.WriteString(line + "\n")
			}
		}
		for extra, wrong := range map[string]bool{"": false, "[nothing]\nx = 1\n": true} {
			home := homeWith(t)
			if err := os.WriteFile(filepath.Join(home, "settings.toml"), []byte(settings.String()+extra), 0o600); err != nil {
				t.Fatal(err)
			}
			out, _ := exec.Command(program, "--home", home, "keeper", "doctor").CombinedOutput()
			if !strings.Contains(string(out), "settings  ") || strings.Contains(string(out), "settings.toml:") != wrong {
				t.Errorf("the settings of %s:\n%s%s\n%s", topic, settings.String(), extra, out)
			}
		}
	}
}
