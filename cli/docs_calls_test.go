package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"

	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/home"
	"timegate/workstation/zones"
)

// TestDocumentedCalls: every call that the documentation shows is of a command that there
// is, with options that it has, and every piece of TOML is a gate, settings or the values of
// a folder.
func TestDocumentedCalls(t *testing.T) {
	t.Parallel()
	zone, err := zones.Find("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	s, _ := screenOf(0)
	root := (&app{out: s, err: s, zone: zone}).root()
	pages, err := filepath.Glob("../docs/*.md")
	if err != nil || len(pages) < 7 {
		t.Fatal(pages, err)
	}
	call := regexp.MustCompile("(?:`|\\$ |^    |^)timegate ([^`\n]*)")
	piece := regexp.MustCompile("(?s)```toml\n(.*?)```")
	calls, pieces := 0, 0
	for _, page := range append(pages, "../README.md") {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(text)) {
			for _, m := range call.FindAllStringSubmatch(line, -1) {
				calls++
				at, options := root, true
				for _, word := range strings.Fields(m[1]) {
					word = strings.Trim(word, ",;…")
					switch {
					case word == "--":
						options = false
					case strings.HasPrefix(word, "--") && options:
						name, _, _ := strings.Cut(word, "=")
						if optionOf(at, name) == nil && name != "--help" && name != "--version" {
							t.Errorf("%s: %s: there is no option %s", filepath.Base(page), m[0], name)
						}
					case at.Command(word) != nil && options:
						at = at.Command(word)
					case at == root && !regexp.MustCompile(`^[A-Z/~@]|^system$|^$|^user$`).MatchString(word):
						t.Errorf("%s: %s: there is no command %s", filepath.Base(page), m[0], word)
						options = false
					}
				}
			}
		}
		for _, m := range piece.FindAllStringSubmatch(string(text), -1) {
			pieces++
			name := filepath.Join(t.TempDir(), "settings.toml")
			if err := os.WriteFile(name, []byte(m[1]), 0o600); err != nil {
				t.Fatal(err)
			}
			_, notSettings := home.ReadSettings(name)
			_, found := gate.Read("doc", "doc.toml", []byte(m[1]), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: zone}})
			if strings.HasPrefix(m[1], "# vars.toml") {
				notSettings = toml.Unmarshal([]byte(m[1]), &map[string]any{})
			}
			if notSettings != nil && len(found.Errors()) > 0 {
				t.Errorf("%s: neither settings (%v) nor a gate (%v):\n%s", filepath.Base(page), notSettings, found.Errors(), m[1])
			}
		}
	}
	if calls < 100 || pieces < 5 {
		t.Errorf("%d calls and %d pieces were found", calls, pieces)
	}
}
