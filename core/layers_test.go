package core

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// outside are packages that touch what lies outside the program: nothing in
// core may import them itself. time is allowed for its types; that nobody
// asks it for the time is tested below.
var outside = []string{"os", "os/exec", "os/signal", "os/user", "net", "net/http", "syscall", "io/ioutil", "path/filepath", "database/sql",
	"log", "log/slog", "embed", "runtime", "golang.org/x/sys/unix"}

// allowed are the packages from elsewhere that core may use.
var allowed = []string{"github.com/pelletier/go-toml/v2", "github.com/pelletier/go-toml/v2/unstable"}

// layers lists, for each part, the parts that it may import.
var layers = map[string][]string{
	"core":        {"core"},
	"journal":     {"core"},
	"workstation": {"core", "workstation"},
	"inspect":     {"core"},
	"chart":       {"core"},
	"ical":        {"core"},
	"demo":        {"core", "workstation"},
	"keeper":      {"core", "journal", "workstation", "inspect", "ical", "keeper"},
	"cli":         {"core", "journal", "workstation", "inspect", "chart", "ical", "keeper", "demo"},
}

func goList(t *testing.T, args ...string) []string {
	t.Helper()
	out, err := exec.Command("go", append([]string{"list"}, args...)...).Output()
	if err != nil {
		t.Fatalf("go list: %v", err)
	}
	return strings.Split(strings.TrimSpace(string(out)), "\n")
}

func TestLayers(t *testing.T) {
	for _, line := range goList(t, "-f", `{{.ImportPath}} {{join .Imports ","}}`, "timegate/...") {
		pkg, imports, _ := strings.Cut(line, " ")
		part, ok := partOf(pkg)
		if !ok {
			continue
		}
		may, known := layers[part]
		if !known {
			t.Errorf("the part %s is not in the table of layers", part)
		}
		for _, imp := range strings.Split(imports, ",") {
			if other, ours := partOf(imp); ours && !slices.Contains(may, other) {
				t.Errorf("%s imports %s: arrows point one way", pkg, imp)
			}
			if part == "core" && (slices.Contains(outside, imp) || strings.Contains(imp, ".") && !slices.Contains(allowed, imp)) {
				t.Errorf("%s imports %s: core touches nothing outside", pkg, imp)
			}
		}
	}
}

// partOf returns the first folder of a package of ours.
func partOf(pkg string) (string, bool) {
	rest, ok := strings.CutPrefix(pkg, "timegate/")
	part, _, _ := strings.Cut(rest, "/")
	return part, ok
}

func TestCoreAsksNoClock(t *testing.T) {
	for _, line := range goList(t, "-f", `{{.Dir}} {{join .GoFiles ","}}`, "timegate/core/...") {
		dir, files, _ := strings.Cut(line, " ")
		for _, file := range strings.Split(files, ",") {
			if file == "" {
				continue
			}
			out, err := exec.Command("grep", "-nE", `time\.(Now|Since|Until|After|Sleep|Tick|NewTimer|LoadLocation|Local)\b`, dir+"/"+file).Output()
			if err == nil {
				t.Errorf("%s asks the clock:\n%s", file, out)
			}
		}
	}
}
