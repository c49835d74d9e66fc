package gate

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
)

// TestKeys: each key can be given its example, is then what differs, and is
// written and read back the same; without it, its default holds.
func TestKeys(t *testing.T) {
	for i := range Keys {
		k := &Keys[i]
		e := NewEdit([]byte("run = [\"/bin/true\"]\n"))
		switch k.Name { // what it has a meaning with
		case "needs.wait", "needs.if_lost":
			e.set("needs.online", "true")
		case "as.window":
			e.set("as.desktop", "true")
		}
		e.set(k.Name, k.Example)
		data, err := e.Bytes()
		if err != nil {
			t.Fatal(err)
		}
		opt := testOptions
		if k.Name == "as.user" || k.Name == "as.elevated" {
			opt.Scope = System
		}
		g, found := Read("x", "x.toml", data, opt)
		if g == nil {
			t.Errorf("%s = %s: %v", k.Name, k.Example, found)
			continue
		}
		if k.get(g) == k.Default() && k.Example != k.Default() {
			t.Errorf("%s = %s is read as the default %s", k.Name, k.Example, k.Default())
		}
		if got := g.Setting(k.Name); got != k.Example && k.Type != TypeSize {
			t.Errorf("%s = %s is told as %s", k.Name, k.Example, got)
		}
		again, found := Read("x", "x.toml", Format(g), opt)
		if again == nil {
			t.Errorf("%s: what is written cannot be read: %v\n%s", k.Name, found, Format(g))
			continue
		}
		for j := range Keys {
			if Keys[j].get(again) != Keys[j].get(g) {
				t.Errorf("%s: %s is %s after writing and reading, was %s", k.Name, Keys[j].Name, Keys[j].get(again), Keys[j].get(g))
			}
		}
	}
}

// TestSchema: the schema is JSON and has each key.
func TestSchema(t *testing.T) {
	var s struct {
		Properties map[string]struct {
			Type       string
			Properties map[string]struct{ Type, Description string }
		}
	}
	if err := json.Unmarshal(Schema(), &s); err != nil {
		t.Fatal(err)
	}
	for i := range Keys {
		table, key, nested := strings.Cut(Keys[i].Name, ".")
		if top, ok := s.Properties[table]; !ok || nested && top.Properties[key].Type == "" {
			t.Errorf("the schema lacks %s", Keys[i].Name)
		}
	}
}

// TestDocumentation: the table in docs/gate-files.md is made from the table of
// keys. With TIMEGATE_UPDATE_DOCS set it is written anew.
func TestDocumentation(t *testing.T) {
	const path, begin, end = "../../docs/gate-files.md", "| key | default | meaning |\n|---|---|---|\n", "\nA gate that would run"
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	before, rest, _ := strings.Cut(string(text), begin)
	_, after, ok := strings.Cut(rest, end)
	if !ok {
		t.Fatal("docs/gate-files.md has no table of keys")
	}
	var b strings.Builder
	for i := range Keys {
		k := &Keys[i]
		name := k.Name
		if table, key, nested := strings.Cut(name, "."); nested {
			name = "[" + table + "] " + key
		}
		about := k.About
		if len(k.Choices) > 0 {
			about += " (" + quotedList(k.Choices) + ")"
		}
		fmt.Fprintf(&b, "| `%s` | `%s` | %s |\n", name, k.Default(), strings.ReplaceAll(about, "|", "\\|"))
	}
	want := before + begin + b.String() + end + after
	if string(text) == want {
		return
	}
	if os.Getenv("TIMEGATE_UPDATE_DOCS") == "" {
		t.Fatalf("docs/gate-files.md is not as the table of keys has it; TIMEGATE_UPDATE_DOCS=1 writes it anew")
	}
	if err := os.WriteFile(path, []byte(want), 0o644); err != nil {
		t.Fatal(err)
	}
}
