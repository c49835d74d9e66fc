package gate

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"timegate/core/phrase"
)

// An Edit changes values of a gate file and leaves every other byte as it is.
// The caller reads the result with [Read] before it replaces the file.
type Edit struct {
	data []byte
	err  error
}

// NewEdit begins an edit of a file's content.
func NewEdit(data []byte) *Edit { return &Edit{data: slices.Clone(data)} }

// Bytes returns the changed content.
func (e *Edit) Bytes() ([]byte, error) { return e.data, e.err }

func (e *Edit) document() *document {
	if e.err != nil {
		return nil
	}
	doc, fault := parseDocument(e.data)
	if fault != nil {
		e.err = fmt.Errorf("the file cannot be changed while it is wrong: %w", fault)
		return nil
	}
	return doc
}

func (e *Edit) splice(start, end int, text string) {
	e.data = slices.Concat(e.data[:start], []byte(text), e.data[end:])
}

// SetText sets a key to text.
func (e *Edit) SetText(key, text string) { e.set(key, quoteText(text)) }

// SetBool sets a key to true or false.
func (e *Edit) SetBool(key string, b bool) { e.set(key, strconv.FormatBool(b)) }

// SetTexts sets a key to a list of texts.
func (e *Edit) SetTexts(key string, list []string) { e.set(key, listText(list)) }

// SetValue sets any key but the openings to a value as a person writes it: text
// without quotes, a list with commas, yes and no; or as it is in TOML. Its error
// says that there is no such key.
func (e *Edit) SetValue(key, value string) error {
	k, known := FindKey(key)
	variable := strings.HasPrefix(key, "as.env.") && strings.Count(key, ".") == 2
	if known && k.Type == TypeOpenings {
		return errors.New("openings are given one by one; use --open")
	}
	if !known && !variable {
		remedy := "timegate help gates lists all"
		if near, ok := nearestKey(key); ok {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
		return fmt.Errorf("there is no key %q; %s", key, remedy)
	}
	if known && value == "" && k.Type == TypeText {
		e.Unset(key)
		return nil
	}
	if variable {
		value = quoteText(value)
	} else {
		value = literalOf(k.Type, value)
	}
	e.set(key, value)
	return nil
}

// literalOf writes a value that a person has given as TOML has it.
func literalOf(t Type, value string) string {
	if _, fault := parseDocument([]byte("x = " + value + "\n")); fault == nil && value != "" && !strings.ContainsAny(value, "\n#") {
		text := strings.ContainsRune("\"'[{", rune(value[0]))
		switch {
		case t == TypeTexts || t == TypeNumbers:
			if value[0] == '[' {
				return value
			}
		case text || t == TypeTruth || t == TypeNumber:
			return value
		}
	}
	switch t {
	case TypeTruth:
		switch strings.ToLower(value) {
		case "yes", "on":
			return "true"
		case "no", "off":
			return "false"
		}
	case TypeTexts, TypeNumbers:
		var list []string
		for item := range strings.SplitSeq(value, ",") {
			if item = strings.TrimSpace(item); item != "" {
				list = append(list, item)
			}
		}
		if t == TypeNumbers {
			return "[" + strings.Join(list, ", ") + "]"
		}
		return listText(list)
	}
	return quoteText(value)
}

// meantKeys are what people call keys, and their whole names.
var meantKeys = map[string]string{"retry": "again.times", "retries": "again.times", "tries": "again.times", "timeout": "limits.longest", "account": "as.user", "hidden": "as.window", "directory": "folder",
	"command": "run", "program": "run", "description": "about", "host": "only.hosts", "battery": "needs.power", "mains": "needs.power", "network": "needs.online", "environment": "as.env", "nice": "as.priority", "overlap": "rules.busy"}

// nearestKey returns the whole name of the key that may be meant.
func nearestKey(key string) (string, bool) {
	if meant, ok := meantKeys[key]; ok {
		return meant, true
	}
	last := key[strings.LastIndexByte(key, '.')+1:]
	for _, name := range keyNames() {
		if strings.HasSuffix(name, "."+last) {
			return name, true
		}
	}
	return phrase.Nearest(key, keyNames())
}

// set puts a literal in the place of a key's value, or adds the key to its
// table, or both.
func (e *Edit) set(key, literal string) {
	doc := e.document()
	if doc == nil {
		return
	}
	table, last := "", key
	if i := strings.LastIndexByte(key, '.'); i >= 0 {
		table, last = key[:i], key[i+1:]
	}
	after := -1
	for _, f := range doc.fields {
		switch {
		case f.key() == key:
			e.splice(f.value.start, f.value.end, literal)
			return
		case f.key() == table && f.value.kind == "table":
			e.setInline(f.value, last, literal)
			return
		case strings.Join(f.path[:len(f.path)-1], ".") == table:
			after = max(after, f.end)
		}
	}
	line := last + " = " + literal
	for _, t := range doc.tables {
		if strings.Join(t.path, ".") == table {
			after = max(after, t.end)
		}
	}
	if after >= 0 {
		after = lineEnd(e.data, after)
		e.splice(after, after, "\n"+line)
		return
	}
	if table == "" {
		e.splice(0, 0, line+"\n")
		return
	}
	e.splice(len(e.data), len(e.data), e.newline()+"\n["+table+"]\n"+line+"\n")
}

// Unset takes a key away, with its line: it has its default then. A key in a table between
// braces is taken out of it, with its comma.
func (e *Edit) Unset(key string) {
	doc := e.document()
	if doc == nil {
		return
	}
	table, last, _ := strings.Cut(key, ".")
	for _, f := range doc.fields {
		switch {
		case f.key() == key:
			start := strings.LastIndexByte(string(e.data[:f.value.start]), '\n') + 1
			e.splice(start, min(lineEnd(e.data, f.end)+1, len(e.data)), "")
			return
		case f.key() == table && f.value.kind == "table":
			for i, in := range f.value.fields {
				if in.key() != last {
					continue
				}
				start, end := f.value.start+1, in.end
				if i > 0 {
					start = f.value.fields[i-1].end
				} else if i+1 < len(f.value.fields) {
					end = lastComma(e.data, in.end, f.value.fields[i+1].value.start)
				}
				e.splice(start, end, "")
				return
			}
		}
	}
}

// lastComma is the place behind the first comma from one place to another.
func lastComma(data []byte, from, to int) int {
	if i := strings.IndexByte(string(data[from:to]), ','); i >= 0 {
		return from + i + 1
	}
	return from
}

// newline ends the last line if it is not.
func (e *Edit) newline() string {
	if n := len(e.data); n > 0 && e.data[n-1] != '\n' {
		return "\n"
	}
	return ""
}

// lineEnd returns the end of the line, behind a comment there.
func lineEnd(data []byte, at int) int {
	if i := strings.IndexByte(string(data[at:]), '\n'); i >= 0 {
		return at + i
	}
	return len(data)
}

// setInline sets a key within { … }.
func (e *Edit) setInline(v value, key, literal string) {
	for _, f := range v.fields {
		if f.key() == key {
			e.splice(f.value.start, f.value.end, literal)
			return
		}
	}
	if n := len(v.fields); n > 0 {
		at := v.fields[n-1].end
		e.splice(at, at, ", "+key+" = "+literal)
		return
	}
	e.splice(v.start, v.end, "{ "+key+" = "+literal+" }")
}

func listText(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = quoteText(s)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

func numbersText(list []int) string {
	out := make([]string, len(list))
	for i, n := range list {
		out[i] = strconv.Itoa(n)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

func tableText(table map[string]string) string {
	if len(table) == 0 {
		return "{}"
	}
	var out []string
	for _, name := range slices.Sorted(maps.Keys(table)) {
		out = append(out, name+" = "+quoteText(table[name]))
	}
	return "{ " + strings.Join(out, ", ") + " }"
}

// openingText writes an opening as an entry of the list "opens".
func openingText(o *Opening) string {
	var parts []string
	if !Numbered(o.Name) {
		parts = append(parts, "name = "+quoteText(o.Name))
	}
	if o.About != "" {
		parts = append(parts, "about = "+quoteText(o.About))
	}
	parts = append(parts, "when = "+quoteText(o.When))
	if !o.Enabled {
		parts = append(parts, "enabled = false")
	}
	if len(parts) == 1 {
		return quoteText(o.When)
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

func openingsText(list []Opening) string {
	out := make([]string, len(list))
	for i := range list {
		out[i] = openingText(&list[i])
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// Format writes a new gate file: what differs from the default, and always
// about, run and opens.
func Format(g *Gate) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "about = %s\nrun   = %s\n", quoteText(g.About), listText(g.Run))
	if g.Folder != "" {
		fmt.Fprintf(&b, "folder = %s\n", quoteText(g.Folder))
	}
	b.WriteString("opens = [\n")
	for i := range g.Opens {
		fmt.Fprintf(&b, "  %s,\n", openingText(&g.Opens[i]))
	}
	b.WriteString("]\n")
	e := &Edit{data: []byte(b.String())}
	for _, k := range g.Differing() {
		switch k.Name {
		case "about", "run", "folder", "opens":
		default:
			e.set(k.Name, k.get(g))
		}
	}
	return e.data
}
