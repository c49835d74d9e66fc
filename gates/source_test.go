package gates

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/home"
)

// shop writes a folder of gates.
func shop(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// TestSource brings a folder here, again, changed, pruned, and takes it back: always all
// of it, with the values of names and the scripts, and nothing that was not brought.
func TestSource(t *testing.T) {
	t.Parallel()
	env := Env(Here(gate.User, calendar.UTC, ""), calendar.UTC)
	h := home.At(filepath.Join(t.TempDir(), "h"), gate.User)
	dir := t.TempDir()
	put := func(name, text string) {
		t.Helper()
		p := NewPlan(h)
		p.Put(name, []byte(text))
		if err := p.Commit(env, time.Unix(0, 0)); err != nil {
			t.Fatal(err)
		}
	}
	const own = "run = [\"/bin/true\"]\nopens = [\"boot\"]\n"
	put("own", own)
	bring := func(prune bool) string {
		t.Helper()
		s, err := ReadSource(dir, false)
		if err != nil {
			return err.Error()
		}
		p, err := s.Plan(h, prune)
		if err == nil {
			err = p.Commit(env, time.Unix(0, 0))
		}
		if err != nil {
			return err.Error()
		}
		return fmt.Sprintf("%d gates, %d others", len(p.Changes()), len(p.Others()))
	}
	runs := func() string {
		files, err := ReadFolder(h, env)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, f := range files {
			if f.Gate == nil {
				out = append(out, f.Name+" wrong: "+f.Findings[0].Message)
				continue
			}
			out = append(out, f.Name+" "+strings.ReplaceAll(strings.Join(f.Gate.Run, " "), h.State, "H"))
		}
		return strings.Join(out, "; ")
	}
	undo := func() {
		t.Helper()
		p, err := Undo(h)
		if err == nil {
			err = p.Commit(env, time.Unix(0, 0))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	shop(t, dir, map[string]string{
		"gates/vault-copy.toml": "run = [\"{scripts}/vault-copy\", \"{vault}\"]\nopens = [\"at 03:20\"]\n", "gates/stock-count.toml": own, "gates/Notes.txt": "nothing",
		"vars.toml": "vault = \"/media/vault\"\n", "scripts/vault-copy": "#!/bin/sh\n",
	})
	for i, step := range []struct {
		do         func() string
		want, runs string
	}{
		{func() string { return bring(false) }, "2 gates, 3 others", "own /bin/true; stock-count /bin/true; vault-copy H/scripts/vault-copy /media/vault"},
		{func() string { return bring(true) }, "0 gates, 0 others", "own /bin/true; stock-count /bin/true; vault-copy H/scripts/vault-copy /media/vault"},
		{func() string { // another value alone changes what the gate is
			shop(t, dir, map[string]string{"vars.toml": "vault = \"/srv/vault\"\n"})
			return bring(false)
		}, "0 gates, 2 others", "own /bin/true; stock-count /bin/true; vault-copy H/scripts/vault-copy /srv/vault"},
		{func() string { // a name without a value: nothing changes
			shop(t, dir, map[string]string{"vars.toml": "", "gates/stock-count.toml": own + "about = \"new\"\n"})
			text := bring(false)
			return text[strings.LastIndex(text, "vault-copy.toml"):]
		}, `vault-copy.toml:1:32: nothing is called {vault} here; give it a value in vars.toml, or write {{vault}} for the braces themselves`, "own /bin/true; stock-count /bin/true; vault-copy H/scripts/vault-copy /srv/vault"},
		{func() string {
			os.Remove(filepath.Join(dir, "gates/stock-count.toml"))
			shop(t, dir, map[string]string{"vars.toml": "vault = \"/srv/vault\"\n"})
			return bring(false)
		}, "0 gates, 0 others", "own /bin/true; stock-count /bin/true; vault-copy H/scripts/vault-copy /srv/vault"},
		{func() string { return bring(true) }, "1 gates, 1 others", "own /bin/true; vault-copy H/scripts/vault-copy /srv/vault"},
		{func() string { undo(); return "" }, "", "own /bin/true; stock-count /bin/true; vault-copy H/scripts/vault-copy /srv/vault"},
		{func() string { return bring(true) }, "1 gates, 1 others", "own /bin/true; vault-copy H/scripts/vault-copy /srv/vault"},
	} {
		if got := step.do(); got != step.want {
			t.Errorf("step %d: %s\nwant %s", i, got, step.want)
		}
		if got := runs(); got != step.runs {
			t.Errorf("step %d: in force are %s\nwant %s", i, got, step.runs)
		}
	}
	if info, err := os.Stat(h.KeptScript("vault-copy")); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("the script is %v, %v", info, err)
	}
	// A plan that was not finished counts with its values too.
	k, _ := readPlan(h)
	k.Done, k.Number = false, k.Number+1
	k.Changes, k.Others = nil, []OtherChange{{Path: h.VarsFile(), After: &home.State{Text: []byte("vault = \"/new\"\n")}}}
	if err := k.write(h); err != nil {
		t.Fatal(err)
	}
	if got := runs(); !strings.Contains(got, "vault-copy /new") {
		t.Errorf("with values that are about to come: %s", got)
	}
}

// TestSign: a folder counts as signed only if it is what was signed, to the byte, and
// nothing else is in it.
func TestSign(t *testing.T) {
	t.Parallel()
	private, public, err := NewKey()
	if err != nil {
		t.Fatal(err)
	}
	priv, err1 := PrivateKey(private)
	pub, err2 := PublicKey(public)
	_, other, _ := ed25519.GenerateKey(nil)
	if err1 != nil || err2 != nil {
		t.Fatal(err1, err2)
	}
	for _, tt := range []struct {
		name  string
		after func(dir string) error
		want  string // part of the error
	}{
		{"as it was", func(string) error { return nil }, ""},
		{"something beside it", func(dir string) error { return os.WriteFile(filepath.Join(dir, "README"), nil, 0o644) }, ""},
		{"changed", func(dir string) error {
			return os.WriteFile(filepath.Join(dir, "vars.toml"), []byte("a = \"2\"\n"), 0o644)
		}, "vars.toml: it was changed"},
		{"added", func(dir string) error { return os.WriteFile(filepath.Join(dir, "scripts/more"), nil, 0o644) }, "scripts/more: it was not signed"},
		{"taken away", func(dir string) error { return os.Remove(filepath.Join(dir, "gates/own.toml")) }, "own.toml: it was signed, and is not there"},
		{"another list", func(dir string) error { return os.WriteFile(filepath.Join(dir, manifestName), []byte("{}"), 0o644) }, "no signature of the list by this key"},
		{"another's signature", func(dir string) error {
			s, err := ReadSource(dir, false)
			if err != nil {
				return err
			}
			return s.Sign(other)
		}, "no signature of the list by this key"},
		{"no signature", func(dir string) error { return os.Remove(filepath.Join(dir, signatureName)) }, "no signature"},
		{"no list", func(dir string) error { return os.Remove(filepath.Join(dir, manifestName)) }, "timegate sign"},
	} {
		dir := t.TempDir()
		shop(t, dir, map[string]string{"gates/own.toml": "run = [\"/bin/true\"]\n", "vars.toml": "a = \"1\"\n", "scripts/s": "#!/bin/sh\n"})
		s, err := ReadSource(dir, false)
		if err == nil {
			err = s.Sign(priv)
		}
		if err == nil {
			err = tt.after(dir)
		}
		if err != nil {
			t.Fatal(tt.name, err)
		}
		if s, err = ReadSource(dir, false); err != nil {
			t.Fatal(tt.name, err)
		}
		if err := s.Verify(pub); (err == nil) != (tt.want == "") || err != nil && !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want …%s…", tt.name, err, tt.want)
		}
	}
	if _, err := PublicKey(private); err == nil || !strings.Contains(err.Error(), "private key") {
		t.Errorf("a private key is taken for a public one: %v", err)
	}
	for _, text := range []string{"", "-----BEGIN PUBLIC KEY-----\nAAAA\n-----END PUBLIC KEY-----\n"} {
		if _, err := PublicKey([]byte(text)); err == nil {
			t.Errorf("%q is taken for a key", text)
		}
	}
}

// TestSourceRefused: a folder that is none, or that others can change where root alone
// may, is told with what to do.
func TestSourceRefused(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	shop(t, dir, map[string]string{"own.toml": "run = [\"/bin/true\"]\n", "vars.toml": "", "settings.toml": ""})
	s, err := ReadSource(dir, false)
	if err != nil || len(s.Gates()) != 1 { // gate files may lie in the folder itself
		t.Errorf("%v, %v", s, err)
	}
	if err := os.Chmod(filepath.Join(dir, "own.toml"), 0o666); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("circle", filepath.Join(dir, "circle.toml")); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"/nowhere": "no folder", filepath.Join(dir, "own.toml"): "no folder", dir: "it is a link"} {
		if _, err := ReadSource(path, false); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want …%s…", path, err, want)
		}
	}
	os.Remove(filepath.Join(dir, "circle.toml"))
	if _, err := ReadSource(dir, true); err == nil || !strings.Contains(err.Error(), "--signed") {
		t.Errorf("others can change it: %v", err)
	}
}

// TestSourceOfLinks: nothing that a link leads to is packed, signed or brought elsewhere, and
// nothing that is no plain file is waited for.
func TestSourceOfLinks(t *testing.T) {
	t.Parallel()
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte("nobody's business\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, spoil := range map[string]func(dir string) error{
		"a script":               func(dir string) error { return os.Symlink(secret, filepath.Join(dir, "scripts", "key")) },
		"a script of the folder": func(dir string) error { return os.Symlink("count", filepath.Join(dir, "scripts", "again")) },
		"a gate":                 func(dir string) error { return os.Symlink(secret, filepath.Join(dir, "gates", "other.toml")) },
		"values":                 func(dir string) error { return os.Symlink(secret, filepath.Join(dir, "vars.toml")) },
		"the folder of scripts": func(dir string) error {
			return errors.Join(os.RemoveAll(filepath.Join(dir, "scripts")), os.Symlink(filepath.Dir(secret), filepath.Join(dir, "scripts")))
		},
		"the folder of gates": func(dir string) error {
			return errors.Join(os.RemoveAll(filepath.Join(dir, "gates")), os.Symlink(filepath.Dir(secret), filepath.Join(dir, "gates")))
		},
	} {
		dir := t.TempDir()
		shop(t, dir, map[string]string{"gates/own.toml": "run = [\"/bin/true\"]\n", "scripts/count": "#!/bin/sh\n"})
		if _, err := ReadSource(dir, false); err != nil {
			t.Fatal(err)
		}
		if err := spoil(dir); err != nil {
			t.Fatal(err)
		}
		if s, err := ReadSource(dir, false); err == nil || !strings.Contains(err.Error(), "it is a link") {
			t.Errorf("%s: %v, %v", name, s, err)
		}
	}
}

// BenchmarkApply brings a folder of 1,000 gates onto a home, told against the floor of
// writing as many files.
func BenchmarkApply(b *testing.B) {
	env := Env(Here(gate.User, calendar.UTC, ""), calendar.UTC)
	dir, floorDir := b.TempDir(), b.TempDir()
	if err := os.Mkdir(filepath.Join(dir, "gates"), 0o755); err != nil {
		b.Fatal(err)
	}
	text := func(i, n int) []byte {
		return fmt.Appendf(nil, "about = \"Gate %d of {host}\"\nrun = [\"/bin/echo\", \"%d\"]\nopens = [\"at %02d:%02d on mon-fri\", \"boot + %ds\"]\n", i, n, i%24, i%60, i+1)
	}
	var floor time.Duration
	n := 0
	for b.Loop() {
		b.StopTimer()
		n++
		for i := range 1000 {
			if err := os.WriteFile(filepath.Join(dir, "gates", fmt.Sprintf("g%d.toml", i)), text(i, n), 0o644); err != nil {
				b.Fatal(err)
			}
		}
		began := time.Now()
		for i := range 1000 {
			if err := os.WriteFile(filepath.Join(floorDir, fmt.Sprint(i)), text(i, n), 0o644); err != nil {
				b.Fatal(err)
			}
		}
		floor += time.Since(began)
		h := home.At(filepath.Join(b.TempDir(), "h"), gate.User)
		b.StartTimer()
		s, err := ReadSource(dir, false)
		if err != nil {
			b.Fatal(err)
		}
		p, err := s.Plan(h, false)
		if err == nil {
			err = p.Commit(env, time.Unix(0, 0))
		}
		if err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed())/float64(floor), "×floor")
}

// TestOver: a gate that somebody has made is told where a source would take its place; it comes
// back, to the byte, when the source's goes, and one that a source has brought is nobody's own.
func TestOver(t *testing.T) {
	env := Env(Here(gate.User, calendar.UTC, ""), calendar.UTC)
	h := home.At(t.TempDir(), gate.User)
	if err := h.Prepare(); err != nil {
		t.Fatal(err)
	}
	const mine, theirs, later = "# mine\nrun = [\"/bin/true\"]\nopens = [\"boot\"]\n", "run = [\"/bin/true\"]\nopens = [\"logon\"]\n", "run = [\"/bin/true\"]\nopens = [\"lock\"]\n"
	if err := os.WriteFile(h.GateFile("paper-rota"), []byte(mine), 0o600); err != nil {
		t.Fatal(err)
	}
	bring := func(files map[string][]byte) (over int) {
		t.Helper()
		s := SourceOf("a source", files)
		own, err := s.Over(h)
		if err != nil {
			t.Fatal(err)
		}
		p, err := s.Plan(h, true)
		if err == nil {
			err = p.Commit(env, time.Unix(0, 0))
		}
		if err != nil {
			t.Fatal(err)
		}
		return len(own)
	}
	for i, step := range []struct {
		files map[string][]byte
		over  int
		want  string
	}{
		{map[string][]byte{"gates/humidity-log.toml": []byte(theirs)}, 0, mine},
		{map[string][]byte{"gates/humidity-log.toml": []byte(theirs), "gates/paper-rota.toml": []byte(theirs)}, 1, theirs},
		{map[string][]byte{"gates/humidity-log.toml": []byte(theirs), "gates/paper-rota.toml": []byte(later)}, 0, later},
		{map[string][]byte{"gates/humidity-log.toml": []byte(theirs)}, 0, mine},
		{map[string][]byte{"gates/humidity-log.toml": []byte(later)}, 0, mine},
		{map[string][]byte{"gates/paper-rota.toml": []byte(mine)}, 0, mine},
	} {
		if got := bring(step.files); got != step.over {
			t.Errorf("step %d: %d gates of one's own, want %d", i, got, step.over)
		}
		if text, err := os.ReadFile(h.GateFile("paper-rota")); err != nil || string(text) != step.want {
			t.Errorf("step %d: %q, %v", i, text, err)
		}
	}
}

// TestFaults: what is wrong with a folder wherever it comes to is found before it goes anywhere,
// and nothing else is called wrong.
func TestFaults(t *testing.T) {
	t.Parallel()
	const good = "run = [\"/srv/not/here\"]\nopens = [\"boot\"]\n"
	hosts := []string{"front-desk", "press-room"}
	tests := []struct {
		name  string
		files map[string]string
		hosts []string
		want  string // a part of what is found; "" for nothing
	}{
		{"good, with a program that is not here", map[string]string{"gates/a.toml": good}, hosts, ""},
		{"an account that is not here, which only the system's gates can have", map[string]string{"a.toml": good + "[as]\nuser = \"maren\"\n"}, hosts, ""},
		{"what only a user's gates can have is as good", map[string]string{"a.toml": "run = [\"/bin/true\"]\nopens = [\"logon\"]\n"}, hosts, ""},
		{"no TOML", map[string]string{"gates/a.toml": good, "gates/b.toml": "this is [not toml\n"}, hosts, "gates/b.toml:1"},
		{"a phrase", map[string]string{"a.toml": "run = [\"/bin/true\"]\nopens = [\"every fullmoon\"]\n"}, nil, "a.toml:2:"},
		{"a circle", map[string]string{"a.toml": "run = [\"/bin/true\"]\nopens = [\"end of b\"]\n", "b.toml": "run = [\"/bin/true\"]\nopens = [\"end of a\"]\n"}, hosts, "circle"},
		{"a gate that the workstation may have", map[string]string{"a.toml": "run = [\"/bin/true\"]\nopens = [\"end of vault-copy\"]\n"}, hosts, ""},
		{"values that cannot be read", map[string]string{"a.toml": good, "vars.toml": "press = 5\n"}, nil, "vars.toml:1"},
		{"a name without a value on one of two", map[string]string{"a.toml": "run = [\"{press}\"]\nopens = [\"boot\"]\n", "vars.toml": "[press-room]\npress = \"/srv/press\"\n"}, hosts, "on front-desk: "},
		{"the same, where it comes to the other alone", map[string]string{"a.toml": "run = [\"{press}\"]\nopens = [\"boot\"]\n", "vars.toml": "[press-room]\npress = \"/srv/press\"\n"}, hosts[1:], ""},
		{"a value that makes it wrong on one", map[string]string{"a.toml": "run = [\"/bin/true\"]\nopens = [\"at {hour}\"]\n", "vars.toml": "hour = \"9:00\"\n[press-room]\nhour = \"29:00\"\n"}, hosts, "on press-room: "},
		{"a value that makes it wrong on one, while no host is known", map[string]string{"a.toml": "run = [\"{press}\"]\nopens = [\"every fullmoon\"]\n", "vars.toml": "[press-room]\npress = \"/srv/press\"\n"}, nil, "on press-room: "},
		{"a name that the workstation may have a value for", map[string]string{"a.toml": "run = [\"{press}\"]\nopens = [\"boot\"]\n"}, hosts, ""},
		{"names that each has", map[string]string{"a.toml": "run = [\"{scripts}/a\", \"{host}\", \"{home}/b\"]\nopens = [\"boot\"]\n[as]\nuser = \"maren\"\n", "vars.toml": "x = \"y\"\n"}, hosts, ""},
		{"days of a file that is not here", map[string]string{"a.toml": "run = [\"/bin/true\"]\nopens = [\"at 09:00, except days in /srv/not/here.ics\"]\n"}, hosts, ""},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			shop(t, dir, test.files)
			s, err := ReadSource(dir, false)
			if err != nil {
				t.Fatal(err)
			}
			found, err := s.Faults(test.hosts, Env(Here(gate.User, calendar.UTC, ""), calendar.UTC))
			said := fmt.Sprint(err)
			if err == nil {
				said = ""
				for _, f := range found {
					said += fmt.Sprintf("%s: %s [%s]\n", f.Place(), f.Message, f.Code)
				}
			}
			if test.want == "" && said != "" || !strings.Contains(said, test.want) {
				t.Errorf("found %q, want %q", said, test.want)
			}
		})
	}
}
