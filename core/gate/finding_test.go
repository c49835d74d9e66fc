package gate

import (
	"strings"
	"testing"
)

func TestFinding(t *testing.T) {
	for _, tt := range []struct {
		text       string
		start, end int
		place      string
		caret      string
	}{
		{"run = 5\n", 6, 7, "x.toml:1:7", "run = 5\n      ^"},
		{"a\n\tb = \"é\" # c\r\n", 8, 11, "x.toml:2:7", "\tb = \"é\" # c\n\t     ^^"},
		{"größe = \"x\"\n", 11, 14, "x.toml:1:10", "größe = \"x\"\n         ^^"},
		{"no end", 3, 99, "x.toml:1:4", "no end\n   ^^^"},
		{"\n\n", 2, 2, "x.toml:3:1", ""},
	} {
		f := Finding{File: "x.toml", Message: "m", Remedy: "r"}
		f.place([]byte(tt.text), tt.start, tt.end)
		if f.Place() != tt.place || f.Caret() != tt.caret && !strings.HasPrefix(f.Caret(), tt.caret) {
			t.Errorf("%q at %d: %s\n%s\nwant %s\n%s", tt.text, tt.start, f.Place(), f.Caret(), tt.place, tt.caret)
		}
		if f.Error() != tt.place+": m; r" {
			t.Errorf("Error() = %q", f.Error())
		}
	}
	whole := Finding{File: "x.toml", Message: "m"}
	if whole.Place() != "x.toml" || whole.Caret() != "" || whole.Error() != "x.toml: m" {
		t.Errorf("a finding about the whole file: %q, %q", whole.Error(), whole.Caret())
	}
	list := Findings{{Severity: Note, Message: "n"}, {Severity: SevereError, Message: "e"}, {Severity: Warning, Message: "w"}}
	if errs := list.Errors(); len(errs) != 1 || errs[0].Message != "e" {
		t.Errorf("Errors() = %v", errs)
	}
}

// TestEveryKey: each key of a gate file is read, and refused with a value of
// another type.
func TestEveryKey(t *testing.T) {
	for _, name := range keyNames() {
		if name == "opens" || name == "run" {
			continue
		}
		table, key := "", name
		if i := strings.LastIndexByte(name, '.'); i >= 0 {
			table, key = "["+name[:i]+"]\n", name[i+1:]
		}
		text := head + table + key + " = 1979-05-27\n"
		g, found := Read("x", "x.toml", []byte(text), testOptions)
		if g != nil || len(found) != 1 || found[0].Code != "wrong-type" {
			t.Errorf("%s with a date: %v, %v", name, g, found)
		}
	}
}
