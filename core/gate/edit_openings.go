package gate

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"timegate/core/phrase"
)

// EnableOpening switches one opening on or off.
func (e *Edit) EnableOpening(name string, on bool) {
	e.opening(name, func(item value) {
		switch {
		case item.kind == "table":
			e.setInline(item, "enabled", strconv.FormatBool(on))
		case !on:
			e.splice(item.start, item.end, fmt.Sprintf("{ when = %s, enabled = false }", e.data[item.start:item.end]))
		}
	})
}

// SetOpening gives one opening another phrase.
func (e *Edit) SetOpening(name, when string) {
	e.opening(name, func(item value) {
		if item.kind == "table" {
			e.setInline(item, "when", quoteText(when))
			return
		}
		e.splice(item.start, item.end, quoteText(when))
	})
}

// SetOpenings puts openings in the place of all.
func (e *Edit) SetOpenings(list []Opening) {
	for i := range list {
		if list[i].Name == "" {
			list[i].Name = strconv.Itoa(i + 1)
		}
	}
	e.set("opens", openingsText(list))
}

// NameOpening gives one opening a name.
func (e *Edit) NameOpening(name, to string) {
	e.opening(name, func(item value) {
		if item.kind == "table" {
			e.setInline(item, "name", quoteText(to))
			return
		}
		e.splice(item.start, item.end, fmt.Sprintf("{ name = %s, when = %s }", quoteText(to), e.data[item.start:item.end]))
	})
}

// DescribeOpening says what one opening is for.
func (e *Edit) DescribeOpening(name, about string) {
	e.opening(name, func(item value) {
		if item.kind == "table" {
			e.setInline(item, "about", quoteText(about))
			return
		}
		e.splice(item.start, item.end, fmt.Sprintf("{ about = %s, when = %s }", quoteText(about), e.data[item.start:item.end]))
	})
}

// HasOpening reports whether there is an opening of a name.
func (e *Edit) HasOpening(name string) bool {
	doc := e.document()
	if doc == nil {
		return false
	}
	_, _, names := openingIn(doc, name)
	return slices.Contains(names, name)
}

// AddOpening adds an opening behind the others.
func (e *Edit) AddOpening(o Opening) {
	doc := e.document()
	if doc == nil {
		return
	}
	text := openingText(&o)
	for _, f := range doc.fields {
		if f.key() != "opens" {
			continue
		}
		n := len(f.value.items)
		if n == 0 {
			e.splice(f.value.start, f.value.end, "[\n  "+text+",\n]")
			return
		}
		last := f.value.items[n-1]
		if begin := strings.LastIndexByte(string(e.data[:last.start]), '\n') + 1; strings.TrimSpace(string(e.data[begin:last.start])) == "" { // each has a line of its own
			at := lineEnd(e.data, last.end)
			comma := ""
			if !strings.HasPrefix(strings.TrimLeft(string(e.data[last.end:]), " \t"), ",") {
				comma = ","
			}
			e.splice(at, at, "\n"+string(e.data[begin:last.start])+text+",")
			e.splice(last.end, last.end, comma)
			return
		}
		e.splice(last.end, last.end, ", "+text)
		return
	}
	e.set("opens", "[\n  "+text+",\n]")
}

// RemoveOpening takes one opening away, with its line where it has one.
func (e *Edit) RemoveOpening(name string) {
	e.opening(name, func(item value) {
		start, end := item.start, item.end
		rest := string(e.data[end:])
		trimmed := strings.TrimLeft(rest, " \t")
		if strings.HasPrefix(trimmed, ",") {
			end += len(rest) - len(trimmed) + 1
		}
		begin := strings.LastIndexByte(string(e.data[:start]), '\n') + 1
		stop := lineEnd(e.data, end)
		switch {
		case strings.TrimSpace(string(e.data[begin:start])) == "" && strings.TrimSpace(string(e.data[end:stop])) == "" && stop < len(e.data):
			start, end = begin, stop+1
		case end > item.end:
			end += len(e.data[end:]) - len(strings.TrimLeft(string(e.data[end:]), " \t"))
		default: // the last of a line: the comma before it goes
			if before := strings.TrimRight(string(e.data[:start]), " \t\n"); strings.HasSuffix(before, ",") {
				start = len(before) - 1
			}
		}
		e.splice(start, end, "")
	})
}

// opening finds the opening of a name and changes it.
func (e *Edit) opening(name string, change func(item value)) {
	doc := e.document()
	if doc == nil {
		return
	}
	item, ok, names := openingIn(doc, name)
	if !ok {
		e.err = &NoOpeningError{Name: name, Names: names}
		return
	}
	change(item)
}

// openingIn returns the opening of a name, and the names of all.
func openingIn(doc *document, name string) (found value, ok bool, names []string) {
	for _, f := range doc.fields {
		if f.key() != "opens" {
			continue
		}
		for i, item := range f.value.items {
			own := strconv.Itoa(i + 1)
			for _, part := range item.fields {
				if part.key() == "name" {
					own = part.value.text
				}
			}
			if own == name && !ok {
				found, ok = item, true
			}
			names = append(names, own)
		}
	}
	return found, ok, names
}

// NoOpeningError reports that a gate has no opening of a name.
type NoOpeningError struct {
	Name  string
	Names []string // those it has
}

func (e *NoOpeningError) Error() string {
	s := fmt.Sprintf("there is no opening %q", e.Name)
	if near, ok := phrase.Nearest(e.Name, e.Names); ok {
		return s + fmt.Sprintf("; did you mean %q?", near)
	}
	return s + "; there are " + strings.Join(e.Names, ", ")
}
