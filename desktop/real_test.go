//go:build linux

package desktop

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"timegate/workstation/wstest"
)

// TestRealEntries reads the entries of the programs that are installed: they name
// programs that are there, and each is found by its name.
func TestRealEntries(t *testing.T) {
	entries := Applications(Look{Folders: Folders, All: true})
	var apps []Entry
	for _, e := range entries {
		if !strings.Contains(e.ID, ":") {
			apps = append(apps, e)
		}
	}
	if len(apps) < 3 {
		wstest.Skip(t, "%d applications are installed here; three are wanted, such as those of the packages xterm, xarchiver and galculator", len(apps))
	}
	there := 0
	for _, e := range apps {
		argv, err := e.Command()
		if err != nil || e.Name == "" {
			t.Errorf("%s: %q, %v", e.File, e.Name, err)
			continue
		}
		if _, err := exec.LookPath(argv[0]); err == nil {
			there++
		}
		for _, a := range argv {
			if len(a) == 2 && a[0] == '%' {
				t.Errorf("%s: the code %s is left in %q", e.File, a, argv)
			}
		}
		found, _ := Find(entries, strings.Fields(e.Name))
		if len(found) == 0 || !strings.EqualFold(found[0].Name, e.Name) {
			t.Errorf("%q is not found first by its name: %v", e.Name, found)
		}
	}
	if there < len(apps)/2 { // of one or the other the program may be gone
		t.Errorf("of %d entries, %d start a program that is there", len(apps), there)
	}
}

// TestWrittenEntries: what is written is right by the checker of the specification's
// authors, whatever stands in it.
func TestWrittenEntries(t *testing.T) {
	if _, err := exec.LookPath("desktop-file-validate"); err != nil {
		wstest.Skip(t, "install desktop-file-utils")
	}
	for i, e := range []Entry{
		{Name: "Job board", Comment: "Shows the day's jobs", Exec: Quote("/bin/sh") + " " + Quote(`a "b" $c \d %f`)},
		{Name: "Two\nlines\tand \\ more", Comment: "ü ☂", Exec: Quote("/opt/larkspur/my board")},
	} {
		path := filepath.Join(t.TempDir(), fmt.Sprintf("e%d.desktop", i))
		if err := os.WriteFile(path, []byte(e.Text("written by a test")), 0o600); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("desktop-file-validate", path).CombinedOutput(); err != nil {
			t.Errorf("%s\n%s", out, e.Text("x"))
		}
		got, err := Read(path)
		if err != nil || got.Name != e.Name || got.Comment != e.Comment || got.Exec != e.Exec {
			t.Errorf("it is read as %+v, %v", got, err)
		}
	}
}

// BenchmarkApplications reads 5,000 entries, told against the floor of reading the files
// alone.
func BenchmarkApplications(b *testing.B) {
	dir := b.TempDir()
	var paths []string
	for i := range 5000 {
		path := filepath.Join(dir, fmt.Sprintf("e%d.desktop", i))
		text := fmt.Sprintf("[Desktop Entry]\nType=Application\nName=Program %d\nName[de]=Programm %d\nComment=Does the work of number %d\nExec=/bin/echo %d %%U\nKeywords=a;b;c;\n", i, i, i, i)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			b.Fatal(err)
		}
		paths = append(paths, path)
	}
	began := time.Now()
	for _, p := range paths {
		if _, err := os.ReadFile(p); err != nil {
			b.Fatal(err)
		}
	}
	floor := time.Since(began)
	for b.Loop() {
		if got, _ := Find(Applications(Look{Folders: []string{dir}}), []string{"4711"}); len(got) != 1 {
			b.Fatal(len(got))
		}
	}
	b.ReportMetric(float64(b.Elapsed())/float64(b.N)/float64(floor), "×floor")
}
