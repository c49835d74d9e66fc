package gate

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"timegate/core/phrase"
)

// Vars are the values of names on a host. A text of a gate file says {NAME} where a value
// is to stand, and {{NAME}} for the braces themselves. What stands behind a $ is left
// alone: it is a shell's.
type Vars map[string]string

var nameInBraces = regexp.MustCompile(`\{+[a-z][a-z0-9_-]*\}+`)

// validVar is the shape of a name.
var validVar = shape(`^[a-z][a-z0-9_-]{0,62}$`)

// ValidVar reports whether a text can be a name.
func ValidVar(name string) bool { return validVar(name) }

// HasNames reports whether a gate file says a name, so that values matter to it.
func HasNames(data []byte) bool {
	return bytes.IndexByte(data, '{') >= 0 && nameInBraces.Match(data)
}

// Expanded is a gate file with values in the places of names.
type Expanded struct {
	Text []byte
	Used Vars // the names that were found, with their values

	raw   []byte
	moves []move
}

// move is where a value stands, and where its name stood.
type move struct{ at, end, rawAt, rawEnd int }

// original returns where in the file itself something stands.
func (x *Expanded) original(at int) int {
	by := 0
	for _, m := range x.moves {
		switch {
		case at <= m.at:
			return at + by
		case at < m.end:
			return m.rawAt
		}
		by = m.rawEnd - m.end
	}
	return at + by
}

// Expand puts values in the places of names that are known, wherever a file has them. A
// value has no sign that means anything within quotes, so that it needs none of its own.
func (v Vars) Expand(data []byte) *Expanded {
	x := &Expanded{Used: Vars{}, raw: data}
	out := make([]byte, 0, len(data))
	last := 0
	for _, at := range nameInBraces.FindAllIndex(data, -1) {
		word := data[at[0]:at[1]]
		if at[0] > 0 && data[at[0]-1] == '$' || bytes.HasPrefix(word, []byte("{{")) {
			continue
		}
		name := string(bytes.Trim(word, "{}"))
		value, known := v[name]
		if !known {
			continue
		}
		out = append(out, data[last:at[0]]...)
		begin := len(out)
		out = append(out, strings.NewReplacer("{", "{{", "}", "}}").Replace(value)...)
		out = append(out, word[len(name)+2:]...) // braces that are too many
		x.moves = append(x.moves, move{begin, len(out), at[0], at[1]})
		last = at[1]
		x.Used[name] = value
	}
	x.Text = append(out, data[last:]...)
	return x
}

// Missing returns a name that is left without a value, or "".
func (x *Expanded) Missing() string {
	for _, at := range nameInBraces.FindAllIndex(x.Text, -1) {
		word := x.Text[at[0]:at[1]]
		if !bytes.HasPrefix(word, []byte("{{")) && (at[0] == 0 || x.Text[at[0]-1] != '$') {
			return string(bytes.Trim(word, "{}"))
		}
	}
	return ""
}

// eachField calls back for every key of a gate file with its value, those of tables too,
// whatever else is right or wrong about the file.
func eachField(data []byte, do func(f field)) {
	doc, fault := parseDocument(data)
	if fault != nil {
		return
	}
	var look func(f field)
	look = func(f field) {
		for _, inner := range f.value.fields {
			inner.path = append(slices.Clone(f.path), inner.path...)
			look(inner)
		}
		do(f)
	}
	for _, f := range doc.fields {
		look(f)
	}
}

// AccountIn names the account that a gate file says, as [Gate.Account] does.
func AccountIn(data []byte) string {
	account := ""
	eachField(data, func(f field) {
		switch f.key() {
		case "as.user":
			account = f.value.text
		case "as.elevated":
			if f.value.text == "true" {
				account = "root"
			}
		}
	})
	return account
}

// LineOf returns the line on which a gate file gives a key, 0 where it does not.
func LineOf(data []byte, key string) int {
	line := 0
	eachField(data, func(f field) {
		if f.key() == key {
			line = bytes.Count(data[:min(f.value.start, len(data))], []byte("\n")) + 1
		}
	})
	return line
}

// names checks that no name is left without a value, and takes the doubled braces out.
func (r *reader) names(v value) value {
	if len(v.items) > 0 {
		v.items = slices.Clone(v.items)
		for i := range v.items {
			v.items[i] = r.names(v.items[i])
		}
	}
	if len(v.fields) > 0 {
		v.fields = slices.Clone(v.fields)
		for i := range v.fields {
			v.fields[i].value = r.names(v.fields[i].value)
		}
	}
	if v.kind != "text" || !strings.Contains(v.text, "{") {
		return v
	}
	var b strings.Builder
	last := 0
	for _, at := range nameInBraces.FindAllStringIndex(v.text, -1) {
		word := v.text[at[0]:at[1]]
		doubled := strings.HasPrefix(word, "{{") && strings.HasSuffix(word, "}}")
		switch {
		case at[0] > 0 && v.text[at[0]-1] == '$':
			continue
		case doubled:
			b.WriteString(v.text[last:at[0]])
			b.WriteString(word[1 : len(word)-1])
			last = at[1]
		case !strings.HasPrefix(word, "{{"):
			name := strings.Trim(word, "{}")
			remedy := fmt.Sprintf("give it a value in vars.toml, or write {{%s}} for the braces themselves", name)
			if near, ok := phrase.Nearest(name, BuiltinVars); ok {
				remedy = fmt.Sprintf("did you mean {%s}? Else %s", near, remedy)
			}
			r.fail(v, "unknown-name", fmt.Sprintf("nothing is called {%s} here", name), remedy)
		}
	}
	b.WriteString(v.text[last:])
	v.text = b.String()
	v.plain = v.plain && last == 0
	return v
}

// BuiltinVars are the names that always have a value.
var BuiltinVars = []string{"home", "host", "scripts"}
