package words

import (
	"encoding/json"
	"testing"
)

// TestPlain: nothing that a terminal acts on is left, and what is only text is
// not touched.
func TestPlain(t *testing.T) {
	for _, tt := range []struct{ in, line, lines string }{
		{"Buchbinderei Lärche – 折り本", "Buchbinderei Lärche – 折り本", "Buchbinderei Lärche – 折り本"},
		{"two\nlines\tand a tab", `two\nlines\tand a tab`, "two\nlines\tand a tab"},
		{"\x1b[2J\x1b]0;title\x07", `\x1b[2J\x1b]0;title\x07`, `\x1b[2J\x1b]0;title\x07`},
		{"over\rwritten\b\x7f", `over\x0dwritten\x08\x7f`, `over\x0dwritten\x08\x7f`},
		{"c1 \u009b2J", `c1 \x9b2J`, `c1 \x9b2J`},
		{"bidi \u202egpj.exe\u2066", `bidi \u202egpj.exe\u2066`, `bidi \u202egpj.exe\u2066`},
		{"bytes \xff\xc3", `bytes \xff\xc3`, `bytes \xff\xc3`},
		{"line\u2028separator\u200bnothing", `line\u2028separator\u200bnothing`, `line\u2028separator\u200bnothing`},
		{"tag \U000e0041", `tag \ue0041`, `tag \ue0041`},
	} {
		if got := Line(tt.in); got != tt.line {
			t.Errorf("Line(%q) = %q, want %q", tt.in, got, tt.line)
		}
		if got := Lines(tt.in); got != tt.lines {
			t.Errorf("Lines(%q) = %q, want %q", tt.in, got, tt.lines)
		}
		text, err := json.Marshal(tt.in)
		var back, plain string
		doc := JSON(string(text))
		if err == nil {
			err = json.Unmarshal([]byte(doc), &back)
		}
		if err == nil {
			err = json.Unmarshal(text, &plain)
		}
		if err != nil || back != plain || Line(doc) != doc {
			t.Errorf("JSON(%s) = %s, which is %q, %v", text, doc, back, err)
		}
	}
}
