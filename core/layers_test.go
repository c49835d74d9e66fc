package core

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
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

// arrows lists, for each package of ours, the packages of ours that it may
// import. An arrow that is not here is not drawn.
var arrows = map[string]string{
	"":                         "cli",
	"core":                     "",
	"core/calendar":            "",
	"core/coretest":            "", // for tests alone
	"core/phrase":              "core/calendar core/phrase/spoken",
	"core/phrase/spoken":       "core/calendar",
	"core/gate":                "core/phrase",
	"core/engine":              "core/calendar core/gate core/phrase",
	"core/words":               "core/engine core/phrase",
	"core/forecast":            "core/calendar core/gate core/phrase",
	"core/replay":              "core/engine core/gate core/phrase",
	"core/tell":                "core/calendar core/engine core/gate core/words",
	"core/estate":              "core/gate core/phrase",
	"core/rehearsal":           "core/calendar core/engine core/event core/gate core/phrase core/words",
	"core/event":               "core/phrase",
	"journal":                  "core/calendar core/engine core/phrase",
	"workstation":              "core/calendar core/engine core/phrase",
	"workstation/peer":         "",
	"workstation/cgroup":       "core/phrase",
	"workstation/rights":       "workstation workstation/cgroup",
	"workstation/accounts":     "workstation/rights",
	"workstation/zones":        "core/calendar core/phrase",
	"workstation/window":       "workstation workstation/peer workstation/rights",
	"workstation/linux":        "core/calendar core/engine core/phrase workstation workstation/accounts workstation/cgroup workstation/rights workstation/window workstation/zones",
	"workstation/here":         "workstation workstation/linux workstation/window",
	"workstation/staged":       "core/calendar core/engine core/event core/phrase home workstation workstation/accounts workstation/here",
	"workstation/wstest":       "core/calendar core/coretest core/engine core/gate core/phrase workstation workstation/cgroup",
	"workstation/wstest/cutfs": "workstation/wstest",
	"desktop":                  "core/phrase",
	"inspect":                  "core/calendar core/engine core/gate core/phrase core/rehearsal core/words workstation workstation/accounts workstation/rights",
	"home":                     "core/engine core/gate core/phrase core/tell workstation/accounts",
	"ical":                     "core/calendar core/phrase",
	"gates":                    "core/calendar core/engine core/gate core/phrase home ical inspect workstation/zones",
	"startup":                  "core/gate core/phrase desktop gates home inspect",
	"launch":                   "core/calendar core/engine core/gate core/phrase core/words desktop home inspect workstation workstation/accounts workstation/here workstation/rights",
	"control":                  "core/calendar core/engine core/gate core/phrase core/words gates home journal launch workstation/accounts workstation/peer",
	"agent":                    "core/calendar core/engine core/gate core/phrase core/words home launch workstation workstation/here workstation/peer",
	"install":                  "core/gate desktop home inspect",
	"keeper":                   "agent control core/calendar core/engine core/gate core/phrase core/replay core/tell core/words gates home journal launch startup tell workstation",
	"chart":                    "core/calendar core/forecast core/words",
	"figures":                  "",
	"report":                   "chart core/forecast",
	"estate":                   "core/estate gates home",
	"estate/hub":               "core/estate estate home",
	"tell":                     "core/tell core/words home workstation workstation/accounts workstation/rights",
	"watch":                    "control core/calendar core/engine core/words journal",
	"demo":                     "core/calendar workstation/zones",
	"cli": "agent chart control core/calendar core/engine core/event core/estate core/forecast core/gate core/phrase core/phrase/spoken core/rehearsal core/replay core/tell core/words demo desktop estate estate/hub figures gates home ical inspect install journal keeper launch report startup " +
		"tell watch workstation workstation/accounts workstation/here workstation/rights workstation/staged workstation/zones",
}

func goList(t *testing.T, args ...string) []string {
	t.Helper()
	out, err := exec.Command("go", append([]string{"list"}, args...)...).Output()
	if err != nil {
		t.Fatalf("go list: %v", err)
	}
	return strings.Split(strings.TrimSpace(string(out)), "\n")
}

func TestArrows(t *testing.T) {
	readAll(t)
	for _, line := range goList(t, "-f", `{{.ImportPath}} {{join .Imports ","}}`, "timegate/...") {
		path, imports, _ := strings.Cut(line, " ")
		pkg := room(path)
		list, known := arrows[pkg]
		if !known {
			t.Errorf("the package %q is not in the table of arrows", pkg)
		}
		may := strings.Fields(list)
		for imp := range strings.SplitSeq(imports, ",") {
			if imp == "timegate/core/coretest" && pkg != "workstation/wstest" {
				t.Errorf("%s imports what is for tests", pkg)
			}
			if ours := strings.HasPrefix(imp, "timegate/"); ours && !slices.Contains(may, room(imp)) {
				t.Errorf("%s imports %s, an arrow that is not in the table", pkg, imp)
			}
			if strings.HasPrefix(pkg, "core/") && pkg != "core/coretest" && (slices.Contains(outside, imp) || strings.Contains(imp, ".") && !slices.Contains(allowed, imp)) {
				t.Errorf("%s imports %s: core touches nothing outside", pkg, imp)
			}
		}
		// What is allowed and not used would hide that an arrow comes back.
		for _, room := range may {
			if !slices.Contains(strings.Split(imports, ","), "timegate/"+room) {
				t.Errorf("%s does not import %s any more: take the arrow out of the table", pkg, room)
			}
		}
	}
}

// readAll opens every Go file of ours, so that a cached result of this test is
// not taken for one of other files.
func readAll(t *testing.T) {
	t.Helper()
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err == nil && filepath.Ext(path) == ".go" {
			_, err = os.ReadFile(path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// TestSkips: a test that is skipped for what the machine lacks says so by one function, which
// lets it fail where nothing may be lacking. What else is skipped is asked for.
func TestSkips(t *testing.T) {
	asked := map[string]string{"workstation/wstest/machine.go": "t.Skipf(format, args...)", "workstation/linux/files_test.go": "short run", "workstation/linux/clock_test.go": "TIMEGATE_TEST_SETCLOCK", "cli/estate_test.go": "it takes a minute",
		"workstation/wstest/cutfs/cutfs.go": "this kernel lets no program"}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".go" || d.Name() == "layers_test.go" {
			return err
		}
		text, err := os.ReadFile(path)
		for line := range strings.Lines(string(text)) {
			line = strings.TrimSpace(line)
			allowed, is := asked[strings.TrimPrefix(path, "../")]
			if (strings.HasPrefix(line, "t.Skip(") || strings.HasPrefix(line, "t.Skipf(")) && !(is && strings.Contains(line, allowed)) {
				t.Errorf("%s skips by itself: %s", path, line)
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// TestProcesses: processes are started in few places. Rights of another account are taken
// on in one way, and what a program prints is read in one, with its bounds.
func TestProcesses(t *testing.T) {
	allowed := map[string][]string{
		"Credential:":         {},
		".Credential =":       {"workstation/linux/start.go"}, // a gate's own program
		"CombinedOutput()":    {"workstation/rights/rights_other.go"},
		".Output()":           {"cli/demo_estate.go"},
		"exec.Command(":       {"workstation/window/terminal.go"},                                                                                // a terminal emulator, on the person's desktop
		"exec.CommandContext": {"workstation/rights/rights_linux.go", "workstation/rights/rights_other.go", "cli/edit.go", "cli/demo_estate.go"}, // the caller's editor; the demo's own keepers
		"os.StartProcess(":    {"workstation/linux/start.go", "workstation/linux/agent.go", "workstation/linux/limits.go", "workstation/window/start.go"},
	}
	used := map[string]bool{}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "wstest/") || strings.HasPrefix(path, "../.") {
			return err
		}
		text, err := os.ReadFile(path)
		name := strings.TrimPrefix(path, "../")
		for call, files := range allowed {
			if !strings.Contains(string(text), call) {
				continue
			}
			if !slices.Contains(files, name) {
				t.Errorf("%s has %q: processes are started in few places", name, call)
			}
			used[call+name] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for call, files := range allowed {
		for _, name := range files {
			if !used[call+name] {
				t.Errorf("%s has %q no more: take it out of the table", name, call)
			}
		}
	}
}

// room returns a package's folder in the repository.
func room(path string) string { return strings.TrimPrefix(strings.TrimPrefix(path, "timegate"), "/") }

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
