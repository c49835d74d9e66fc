package gate

import (
	"encoding/json"
	"strings"
)

// Schema returns a JSON Schema (draft 2020-12) of gate files, by which editors
// complete and check them. It is made from the table of keys; what belongs
// together, and what a phrase may be, it cannot say.
func Schema() []byte {
	type object = map[string]any
	root := object{}
	tables := map[string]object{}
	for i := range Keys {
		k := &Keys[i]
		at, name := root, k.Name
		if table, key, nested := strings.Cut(k.Name, "."); nested {
			if tables[table] == nil {
				tables[table] = object{}
				root[table] = object{"type": "object", "additionalProperties": false, "properties": tables[table]}
			}
			at, name = tables[table], key
		}
		at[name] = k.schema()
	}
	b, err := json.MarshalIndent(object{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "A gate of Time Gate",
		"type": "object", "required": []string{"run"}, "additionalProperties": false, "properties": root}, "", "  ")
	if err != nil {
		panic(err) // maps, lists and texts can all be written
	}
	return append(b, '\n')
}

func (k *Key) schema() map[string]any {
	text := map[string]any{"type": "string"}
	s := map[string]any{"type": "string"}
	switch k.Type {
	case TypeTruth:
		s["type"] = "boolean"
	case TypeNumber:
		s["type"], s["minimum"] = "integer", 0
	case TypeSpan:
		s["pattern"] = "^([0-9]+(w|d|h|m|s|ms))+$"
	case TypeSize:
		s["pattern"] = "^[0-9]+([KMGT]i?)?B$"
	case TypeTexts:
		s["type"], s["items"] = "array", text
	case TypeNumbers:
		s["type"], s["items"] = "array", map[string]any{"type": "integer", "minimum": 0, "maximum": 255}
	case TypeTable:
		s["type"], s["additionalProperties"] = "object", text
	case TypeOpenings:
		entry := map[string]any{"type": "object", "required": []string{"when"}, "additionalProperties": false,
			"properties": map[string]any{"name": text, "about": text, "when": text, "enabled": map[string]any{"type": "boolean"}}}
		s["type"], s["items"] = "array", map[string]any{"anyOf": []any{text, entry}}
	}
	if len(k.Choices) > 0 {
		s["enum"] = k.Choices
	}
	s["description"] = k.About
	return s
}
