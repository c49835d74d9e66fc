//go:build linux

package inspect

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"timegate/workstation/wstest"
)

// TestNoRemedyWidens: where a link of somebody else's is on the way, no remedy gives rights
// to what it leads to.
func TestNoRemedyWidens(t *testing.T) {
	wstest.Root(t)
	const stranger = 54321
	dir := t.TempDir()
	if err := errors.Join(os.Chmod(filepath.Dir(dir), 0o755), os.MkdirAll(filepath.Join(dir, "closed/in"), 0o755), os.WriteFile(filepath.Join(dir, "closed/in/job"), []byte("#!/bin/sh\n"), 0o755),
		os.WriteFile(filepath.Join(dir, "data"), nil, 0o600), os.Chmod(filepath.Join(dir, "closed"), 0o700), os.Mkdir(filepath.Join(dir, "hers"), 0o755)); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct{ link, to, program, folder, own, theirs string }{
		{"job", "closed/in/job", "job", ".", "setfacl -m", "is a link of"},
		{"through", "closed/in", "through/job", ".", "setfacl -m", "is a link of"},
		{"twice", "hers/../closed/in", "twice/job", ".", "setfacl -m", "is a link of"},
		{"room", "closed", "/bin/true", "room", "setfacl -m", "is a link of"},
		{"data", "data", "data", ".", "chmod +x", "is a link of"},
	} {
		link := filepath.Join(dir, "hers", tt.link)
		if err := os.Symlink(filepath.Join(dir, tt.to), link); err != nil {
			t.Fatal(err)
		}
		in := func(path string) string {
			if filepath.IsAbs(path) {
				return path
			}
			return filepath.Join(dir, "hers", path)
		}
		for owner, want := range map[int]string{0: tt.own, stranger: tt.theirs} {
			if err := os.Lchown(link, owner, owner); err != nil {
				t.Fatal(err)
			}
			found := Target(in(tt.program), in(tt.folder), Who{Name: "tobias", UID: stranger + 1})
			if len(found) == 0 || !strings.Contains(found[0].Remedy, want) || owner != 0 && strings.Contains(fmt.Sprint(found), "setfacl") {
				t.Errorf("%s, a link of account %d: %v, want a remedy with %q", tt.link, owner, found, want)
			}
		}
	}
}

// TestLinkBehindUp: ".." goes up from where a link has led, not from where the link lies.
func TestLinkBehindUp(t *testing.T) {
	wstest.Root(t)
	const stranger = 54321
	dir := t.TempDir()
	in := func(path string) string { return dir + "/" + path } // Join would take ".." away
	if err := errors.Join(os.MkdirAll(in("far/deep"), 0o755), os.Symlink(in("far/deep"), in("out")), os.WriteFile(in("job"), nil, 0o755),
		os.Symlink(in("job"), in("far/job")), os.Lchown(in("far/job"), stranger, stranger)); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"out/../job": in("far/job"), "far/deep/../job": in("far/job"), "far/../job": "", "job": ""} {
		if link, owner := linkOfOthers(in(path)); link != want || want != "" && owner != stranger {
			t.Errorf("%s: the link %q of account %d, want %q", path, link, owner, want)
		}
	}
}

// TestSticky: in a folder that everybody may write, but where nobody can take away what is
// another's, what is there and belongs to root or the account is safe; what is not there is
// not, nor is the folder itself.
func TestSticky(t *testing.T) {
	wstest.Root(t)
	const stranger = 54321
	dir := t.TempDir()
	shared := filepath.Join(dir, "shared")
	for _, at := range []struct {
		name  string
		owner int
	}{{"", 0}, {"ours", 0}, {"ours/job", 0}, {"hers", stranger}, {"hers/job", 0}, {"link", 0}, {"herlink", stranger}} {
		path, err := filepath.Join(shared, at.name), error(nil)
		if strings.HasSuffix(at.name, "link") {
			err = os.Symlink("ours/job", path)
		} else {
			err = os.Mkdir(path, 0o755)
		}
		if err = errors.Join(err, os.Lchown(path, at.owner, at.owner)); err != nil {
			t.Fatal(err)
		}
	}
	for _, tt := range []struct {
		path  string
		mode  os.FileMode
		owner int
		want  int // findings
	}{
		{"ours/job", 0o777 | os.ModeSticky, 0, 0}, {"ours", 0o777 | os.ModeSticky, 0, 0}, {"link", 0o777 | os.ModeSticky, 0, 0}, {"ours/../ours/job", 0o777 | os.ModeSticky, 0, 0}, {"../shared/ours/job", 0o777 | os.ModeSticky, 0, 0},
		{"", 0o777 | os.ModeSticky, 0, 1}, {"none", 0o777 | os.ModeSticky, 0, 1}, {"ours/none", 0o777 | os.ModeSticky, 0, 0}, {"hers/job", 0o777 | os.ModeSticky, 0, 1}, {"herlink", 0o777 | os.ModeSticky, 0, 1},
		{"ours/job", 0o777, 0, 1}, {"ours/job", 0o777 | os.ModeSticky, stranger, 1}, {"ours/job", 0o755, 0, 0},
	} {
		if err := errors.Join(os.Lchown(shared, tt.owner, 0), os.Chmod(shared, tt.mode)); err != nil {
			t.Fatal(err)
		}
		h := hazards{trusted: []int{0}}
		h.path(shared+"/"+tt.path, "the program")
		if (len(h.found) > 0) != (tt.want > 0) {
			t.Errorf("%q in %v of account %d: %v", tt.path, tt.mode, tt.owner, h.found)
		}
	}
}

// TestEveryProgram: each program of a plain Debian is in the table of runners, or in the
// list of those that run nothing that their arguments name. One that is in neither has to
// be looked at.
func TestEveryProgram(t *testing.T) {
	t.Parallel()
	release, _ := os.ReadFile("/etc/os-release")
	status, err := os.ReadFile("/var/lib/dpkg/status")
	if err != nil || !strings.Contains(string(release), "VERSION_CODENAME=bookworm") {
		wstest.Skip(t, "the list is of Debian 12")
	}
	list, err := os.ReadFile("testdata/quiet.txt")
	if err != nil {
		t.Fatal(err)
	}
	var quiet []string
	for line := range strings.Lines(string(list)) {
		if !strings.HasPrefix(line, "#") {
			quiet = append(quiet, strings.Fields(line)...)
		}
	}
	seen := map[string]bool{}
	for pkg := range strings.SplitSeq(string(status), "\n\n") {
		if !strings.Contains(pkg, "\nPriority: required") && !strings.Contains(pkg, "\nPriority: important") || !strings.Contains(pkg, " installed\n") {
			continue
		}
		name, _, _ := strings.Cut(strings.TrimPrefix(pkg, "Package: "), "\n")
		files, _ := filepath.Glob("/var/lib/dpkg/info/" + name + "*.list")
		for _, file := range files {
			if base := strings.TrimSuffix(filepath.Base(file), ".list"); base != name && !strings.HasPrefix(base, name+":") {
				continue
			}
			content, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			for path := range strings.FieldsSeq(string(content)) {
				if dir := strings.TrimPrefix(filepath.Dir(path), "/usr"); dir == "/bin" || dir == "/sbin" {
					seen[filepath.Base(path)] = true
				}
			}
		}
	}
	if len(seen) < 200 {
		t.Fatalf("only %d programs are known to the package system", len(seen))
	}
	for program := range seen {
		if runs, is := runnerOf(program) != "", slices.Contains(quiet, program); runs == is {
			t.Errorf("%s: in the table of runners: %v; in testdata/quiet.txt: %v", program, runs, is)
		}
	}
}
