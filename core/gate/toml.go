package gate

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// This file alone knows the TOML package: it turns text into a tree of values
// with their places in it.

// document is a parsed file: all key-value pairs with their whole paths.
type document struct {
	data   []byte
	fields []field
	tables []table
}

type field struct {
	path       []string
	keyStart   int
	keyEnd     int
	start, end int // the whole pair, from the key to the value's end
	value      value
}

type table struct {
	path       []string
	start, end int // the header, from "[" to "]"
}

type value struct {
	kind       string // "text", "number", "true or false", "list", "table" or another word for messages
	text       string
	plain      bool // text whose characters are the file's own, without escapes
	start, end int
	items      []value // of a list
	fields     []field // of an inline table
}

func (f *field) key() string { return strings.Join(f.path, ".") }

// syntaxError is a fault that keeps a file from being read at all.
type syntaxError struct {
	start, end int
	message    string
}

func (e *syntaxError) Error() string { return e.message }

func parseDocument(data []byte) (*document, *syntaxError) {
	// The strict decoder finds what the tree parser lets pass: keys given
	// twice, tables made anew.
	var all map[string]any
	if err := toml.Unmarshal(data, &all); err != nil {
		return nil, syntaxFault(data, err)
	}
	doc := &document{data: data, fields: make([]field, 0, bytes.Count(data, []byte("=")))}
	var p unstable.Parser
	p.Reset(data)
	var prefix []string
	for p.NextExpression() {
		n := p.Expression()
		switch n.Kind {
		case unstable.Table, unstable.ArrayTable:
			t := headerOf(data, n)
			prefix = t.path
			doc.tables = append(doc.tables, t)
		case unstable.KeyValue:
			doc.fields = append(doc.fields, fieldOf(data, n, prefix))
		}
	}
	if err := p.Error(); err != nil {
		return nil, syntaxFault(data, err)
	}
	return doc, nil
}

func headerOf(data []byte, n *unstable.Node) table {
	path, start, end := keyOf(n.Key())
	for start > 0 && data[start-1] != '\n' {
		start--
	}
	for end < len(data) && data[end] != '\n' && data[end-1] != ']' {
		end++
	}
	return table{path: path, start: start, end: end}
}

func keyOf(it unstable.Iterator) (path []string, start, end int) {
	for it.Next() {
		k := it.Node()
		if path == nil {
			start = int(k.Raw.Offset)
		}
		end = int(k.Raw.Offset + k.Raw.Length)
		path = append(path, string(k.Data))
	}
	return path, start, end
}

func fieldOf(data []byte, n *unstable.Node, prefix []string) field {
	path, keyStart, keyEnd := keyOf(n.Key())
	f := field{
		path:     append(append([]string(nil), prefix...), path...),
		keyStart: keyStart, keyEnd: keyEnd,
		start: int(n.Raw.Offset), end: int(n.Raw.Offset + n.Raw.Length),
	}
	at := keyEnd + bytes.IndexByte(data[keyEnd:], '=') + 1
	for data[at] == ' ' || data[at] == '\t' {
		at++
	}
	f.value = valueOf(data, n.Value(), at, f.end)
	return f
}

var kindWords = map[unstable.Kind]string{
	unstable.String: "text", unstable.Bool: "true or false", unstable.Integer: "number", unstable.Float: "fraction",
	unstable.Array: "list", unstable.InlineTable: "table", unstable.LocalDate: "date", unstable.LocalTime: "time",
	unstable.LocalDateTime: "date", unstable.DateTime: "date",
}

// valueOf builds the tree of a value that stands at [start, end).
func valueOf(data []byte, n *unstable.Node, start, end int) value {
	v := value{kind: kindWords[n.Kind], text: string(n.Data), start: start, end: end}
	switch n.Kind {
	case unstable.Array:
		for it := n.Children(); it.Next(); {
			v.items = append(v.items, elementOf(data, it.Node(), v.inside()))
		}
	case unstable.InlineTable:
		for it := n.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				v.fields = append(v.fields, fieldOf(data, it.Node(), nil))
			}
		}
	case unstable.String:
		v.plain = bytes.Contains(data[start:end], n.Data)
	}
	return v
}

// inside is where the next element of a list is looked for.
func (v *value) inside() int {
	if n := len(v.items); n > 0 {
		return v.items[n-1].end
	}
	return v.start + 1
}

// elementOf builds a list's element. The parser gives no range for lists and
// only the beginning of tables; their ends are found by what they hold.
func elementOf(data []byte, n *unstable.Node, from int) value {
	start, end := int(n.Raw.Offset), int(n.Raw.Offset+n.Raw.Length)
	if n.Kind == unstable.Array {
		start = skipBlank(data, from, "[")
		end = start + 1
	}
	v := valueOf(data, n, start, end)
	switch n.Kind {
	case unstable.Array:
		v.end = skipBlank(data, v.inside(), "]") + 1
	case unstable.InlineTable:
		end = start + 1
		if len(v.fields) > 0 {
			end = v.fields[len(v.fields)-1].end
		}
		v.end = skipBlank(data, end, "}") + 1
	}
	return v
}

// skipBlank returns the place of a sign, passing comments over.
func skipBlank(data []byte, at int, sign string) int {
	for ; at < len(data) && data[at] != sign[0]; at++ {
		if data[at] == '#' {
			for at < len(data) && data[at] != '\n' {
				at++
			}
		}
	}
	return at
}

// duplicateKey are the words by which the package tells of a key given twice.
var duplicateKey = shape(`already|duplicate|redefin|twice`)

// syntaxFault words the TOML package's message for people who write gate files.
func syntaxFault(data []byte, err error) *syntaxError {
	var de *toml.DecodeError
	if !errors.As(err, &de) {
		return &syntaxError{message: "this is not TOML: " + strings.TrimPrefix(err.Error(), "toml: ")}
	}
	row, col := de.Position()
	start := 0
	for line := 1; line < row; line++ {
		start += strings.IndexByte(string(data[start:]), '\n') + 1
	}
	start = min(start+max(col-1, 0), len(data))
	message := strings.TrimPrefix(de.Error(), "toml: ")
	if duplicateKey(message) {
		message = "the same key or table is given twice"
	} else {
		message = fmt.Sprintf("this is not TOML: %s", message)
	}
	return &syntaxError{start: start, end: start + 1, message: message}
}

// quoteText writes text as a TOML string.
func quoteText(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < 0x20 || r == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
