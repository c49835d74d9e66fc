package cli

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"strings"

	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/gates"
)

// With --json each command prints one document. Commands that have much to tell have a
// document of their own; of all others it is this one, so that there is none without.
type document struct {
	Done   bool           `json:"done"`
	Gates  []changedGate  `json:"gates,omitempty"`  // that were added, changed or removed
	Files  []string       `json:"files,omitempty"`  // others that were changed with them
	Values map[string]any `json:"values,omitempty"` // what a command has to say in values
	Text   string         `json:"text,omitempty"`   // what it prints without --json
	Notes  []string       `json:"notes,omitempty"`  // what it says beside that
}

// changedGate is a gate whose file a command has changed.
type changedGate struct {
	Name   string `json:"name"`
	Change string `json:"change"` // added, changed, removed
	File   string `json:"file"`
}

// failure is the document of a command that fails, on standard error.
type failure struct {
	Error errorText `json:"error"`
	Notes []string  `json:"notes,omitempty"`
}

type errorText struct {
	Code     string        `json:"code"` // that of a finding, or what the exit status stands for
	Status   int           `json:"status"`
	Message  string        `json:"message"`
	Place    *place        `json:"place,omitempty"`
	Remedy   string        `json:"remedy,omitempty"`
	Findings gate.Findings `json:"findings,omitempty"`
}

// place is where something is wrong: in a file, or in a phrase that was given.
type place struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

// codes are what exit statuses stand for.
var codes = map[int]string{exitFailed: "failed", exitWrong: "wrong", exitFound: "found", exitUnknown: "unknown", exitForbidden: "forbidden", exitNoKeeper: "no-keeper"}

// mostNotes is how much of what a command says beside its output is kept for its document,
// in bytes.
const mostNotes = 64 << 10

// beginDocument keeps what commands say for their documents.
func (a *app) beginDocument() {
	a.out.document, a.out.Forward = a.out.Forward, &a.said
	a.held = &notes{to: a.err.Forward}
	a.err.Forward = a.held
	a.out.plainly()
	a.err.plainly()
	a.out.terminal, a.out.width = false, 0
}

// notes keeps what a command says beside its output, so that standard error holds nothing
// but the document of an error. What a command that lasts says is passed on at once.
type notes struct {
	to    io.Writer
	lasts bool
	kept  bytes.Buffer
}

func (n *notes) Write(p []byte) (int, error) {
	if n.lasts {
		return n.to.Write(p)
	}
	if room := mostNotes - n.kept.Len(); room > 0 {
		n.kept.Write(p[:min(len(p), room)])
	}
	return len(p), nil
}

// lasts says that a command goes on until it is ended.
func (a *app) lasts() {
	if a.held != nil {
		a.held.lasts = true
		a.held.to.Write(a.held.kept.Bytes())
		a.held.kept.Reset()
	}
}

// endDocument prints the document of a command that has none of its own.
func (a *app) endDocument(err error) {
	switch {
	case a.out.documented: // what was said beside it is shown beside it
		if err == nil || err.Error() == "" {
			a.lasts()
		}
		return
	case err != nil:
		return
	}
	d := a.doc
	d.Done, d.Text, d.Notes = true, a.said.String(), linesOf(&a.held.kept)
	a.out.printJSON(d) // who has gone reads it no more
}

func linesOf(b *bytes.Buffer) []string {
	var out []string
	for line := range strings.Lines(b.String()) {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	return out
}

// note puts a value into the document of a command.
func (a *app) note(name string, value any) {
	if a.doc.Values == nil {
		a.doc.Values = map[string]any{}
	}
	a.doc.Values[name] = value
}

// noteChanges puts what a plan has changed into the document.
func (a *app) noteChanges(plan *gates.Plan) {
	for _, c := range plan.Changes() {
		what := "changed"
		switch {
		case c.After == nil:
			what = "removed"
		case c.Before == nil:
			what = "added"
		}
		a.doc.Gates = append(a.doc.Gates, changedGate{c.Name, what, a.home.GateFile(c.Name)})
	}
	for _, o := range plan.Others() {
		if !plan.Noted(o.Path) {
			a.doc.Files = append(a.doc.Files, o.Path)
		}
	}
}

// printFailure prints an error as a document.
func (a *app) printFailure(err error, status int) {
	e := errorText{Code: cmp.Or(codes[status], "failed"), Status: status}
	e.Message, e.Remedy, _ = strings.Cut(err.Error(), "; ")
	var found gate.Findings
	var wrong *phrase.Error
	switch {
	case errors.As(err, &found) && len(found) > 0:
		f := found[0]
		e.Code, e.Message, e.Remedy, e.Findings = f.Code, f.Message, f.Remedy, found
		e.Place = &place{f.File, f.Line, f.Column}
	case errors.As(err, &wrong):
		wrong.OfferOn(a.today())
		e.Code, e.Message, e.Remedy, e.Place = "phrase", wrong.Problem, wrong.Advice(), &place{Column: wrong.Column()}
	}
	if e.Message == "" && a.held.kept.Len() == 0 {
		return
	}
	if text, jsonErr := jsonText(failure{Error: e, Notes: linesOf(&a.held.kept)}, ""); jsonErr == nil {
		fmt.Fprintln(a.held.to, text)
	}
}
