package gate

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Severity orders findings.
type Severity string

// Severities: an error keeps the gate from opening, a warning tells what will
// probably not go as expected, a note what is worth knowing.
const (
	SevereError Severity = "error"
	Warning     Severity = "warning"
	Note        Severity = "note"
)

// A Finding tells what is wrong or unwise about a gate.
type Finding struct {
	Gate     string   `json:"gate"`
	File     string   `json:"file"`
	Line     int      `json:"line"`
	Column   int      `json:"column,omitempty"`
	Severity Severity `json:"severity"`
	Code     string   `json:"code"`
	Message  string   `json:"message"`
	Remedy   string   `json:"remedy"`

	Source string `json:"-"` // the line of the file
	Length int    `json:"-"` // of the words at fault, in characters
}

// Place returns file:line:column, as far as they are known.
func (f *Finding) Place() string {
	switch {
	case f.Line == 0:
		return f.File
	case f.Column == 0:
		return fmt.Sprintf("%s:%d", f.File, f.Line)
	}
	return fmt.Sprintf("%s:%d:%d", f.File, f.Line, f.Column)
}

func (f *Finding) Error() string {
	s := f.Place() + ": " + f.Message
	if f.Remedy != "" {
		s += "; " + f.Remedy
	}
	return s
}

// Caret returns the line at fault with a mark below the words, or "".
func (f *Finding) Caret() string {
	if f.Source == "" || f.Column == 0 {
		return ""
	}
	// Tabs stay tabs, so that the mark stands right whatever their width.
	before := []rune(f.Source)
	before = before[:min(f.Column-1, len(before))]
	pad := strings.Map(func(r rune) rune {
		if r == '\t' {
			return r
		}
		return ' '
	}, string(before))
	length := min(max(f.Length, 1), max(1, utf8.RuneCountInString(f.Source)-len(before)))
	return f.Source + "\n" + pad + strings.Repeat("^", length)
}

// Findings is a list of findings that can be returned as an error.
type Findings []Finding

func (fs Findings) Error() string {
	lines := make([]string, len(fs))
	for i := range fs {
		lines[i] = fs[i].Error()
	}
	return strings.Join(lines, "\n")
}

// Errors returns the findings that keep a gate from opening.
func (fs Findings) Errors() Findings {
	var out Findings
	for _, f := range fs {
		if f.Severity == SevereError {
			out = append(out, f)
		}
	}
	return out
}

// place finds line and column of a byte range.
func (f *Finding) place(data []byte, start, end int) {
	start, end = min(start, len(data)), min(max(start, end), len(data))
	head := data[:start]
	lineStart := strings.LastIndexByte(string(head), '\n') + 1
	f.Line = strings.Count(string(head), "\n") + 1
	f.Column = utf8.RuneCount(data[lineStart:start]) + 1
	f.Length = utf8.RuneCount(data[start:end])
	line, _, _ := strings.Cut(string(data[lineStart:]), "\n")
	f.Source = strings.TrimSuffix(line, "\r")
}

// FindingAt returns an error about a range of bytes of a file.
func FindingAt(file string, data []byte, start, end int, code, message, remedy string) Finding {
	f := Finding{File: file, Severity: SevereError, Code: code, Message: message, Remedy: remedy}
	f.place(data, start, end)
	return f
}
