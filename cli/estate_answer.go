package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"timegate/control"
	coreestate "timegate/core/estate"
	"timegate/core/words"
	"timegate/journal"
	"timegate/workstation"
	"timegate/workstation/here"
)

// called calls this program once more, as a process of its own, until the context ends: what
// hangs there hangs nobody else. Its error is for one that could not be called, was killed, or
// printed too much.
func (a *app) called(ctx context.Context, low bool, most int, args ...string) (out []byte, status int, err error) {
	program, err := os.Executable()
	if err != nil {
		return nil, 0, err
	}
	var printed bytes.Buffer
	more := false
	done := make(chan workstation.Exit, 1)
	p, err := here.Starter{}.Start(workstation.Order{Argv: slices.Concat([]string{program}, a.sameHome(), args), Folder: "/", Env: os.Environ(), Low: low,
		Print: func(piece []byte) {
			if more = more || printed.Len()+len(piece) > most; !more {
				printed.Write(piece)
			}
		},
		Done: func(x workstation.Exit) { done <- x }})
	if err != nil {
		return nil, 0, err
	}
	select {
	case <-ctx.Done():
		return nil, 0, errors.Join(ctx.Err(), p.End("KILL"))
	case x := <-done:
		switch {
		case x.Signal != "" || x.Lost:
			return nil, 0, fmt.Errorf("%s did not end by itself (%s)", strings.Join(args[:min(2, len(args))], " "), x.Signal)
		case more:
			return nil, 0, fmt.Errorf("%s printed more than %d bytes", strings.Join(args[:min(2, len(args))], " "), most)
		}
		return printed.Bytes(), x.Status, nil
	}
}

// readSaid reads the JSON document that a call has printed. What it has told besides, such as a
// warning, stands before or behind it, in lines of its own.
func readSaid(out []byte, into any) error {
	for rest := out; ; {
		if len(rest) == 0 {
			return fmt.Errorf("it has said nothing that can be read: %.300s", words.Line(string(out)))
		}
		if rest[0] == '{' || rest[0] == '[' {
			return json.NewDecoder(bytes.NewReader(rest)).Decode(into)
		}
		_, rest, _ = bytes.Cut(rest, []byte("\n"))
	}
}

// mostCalled is how much a call may print.
const mostCalled = 16 << 20

// Answer implements [estate.Keeper]: what is asked for is done as if somebody did it here.
func (k *estateKeeper) Answer(ctx context.Context, r *coreestate.Request, answer *coreestate.Answer) error {
	args := []string{"--json", string(r.Do)}
	details := slices.Contains(k.may, coreestate.Details) || r.Do == coreestate.AskOutput
	if details {
		args = args[1:]
	}
	switch {
	case r.Do == coreestate.AskPause && r.Of != "":
		args = append(args, "--for", r.Of)
	case r.Of != "":
		args = append(args, r.Of)
	}
	out, status, err := k.app.called(ctx, false, mostCalled, args...)
	if err != nil {
		return err
	}
	answer.Status = status
	switch {
	case details:
		out = bytes.ToValidUTF8(out, []byte("?"))
		answer.Text = string(out[max(0, len(out)-coreestate.MostText):])
	case r.Do == coreestate.AskWhy && status == 0:
		answer.Moments, err = momentsOf(out)
	case (r.Do == coreestate.AskOpen || r.Do == coreestate.AskStop || r.Do == coreestate.AskSend) && status == 0:
		answer.Moments, err = decidedNow(out)
	}
	return err
}

// momentsOf takes out of what why says what is nobody's secret.
func momentsOf(said []byte) ([]coreestate.Moment, error) {
	var list []whyMoment
	if err := readSaid(said, &list); err != nil {
		return nil, err
	}
	out := []coreestate.Moment{}
	for _, m := range list {
		one := coreestate.Moment{Opening: m.Opening, Steps: []coreestate.MomentStep{}}
		if m.Due != nil {
			one.Due = m.Due.UTC()
		}
		for _, s := range m.Steps {
			step := coreestate.MomentStep{Decision: string(s.Decision), Run: s.Run, Result: string(s.Result), Rule: s.Rule, Code: string(s.Code)}
			if s.At != nil {
				step.At = s.At.UTC()
			}
			one.Steps = append(one.Steps, step)
		}
		out = append(out, one)
	}
	return out, nil
}

// decidedNow takes the same out of what a keeper has decided when it was asked.
func decidedNow(said []byte) ([]coreestate.Moment, error) {
	var list []control.Decision
	if err := readSaid(said, &list); err != nil {
		return nil, err
	}
	out := []coreestate.Moment{}
	for _, d := range list {
		at := d.At.UTC()
		out = append(out, coreestate.Moment{Opening: d.Opening, Due: at, Steps: []coreestate.MomentStep{{At: at, Decision: d.Decision, Run: d.Run, Result: d.Result, Rule: d.Rule, Code: d.Code}}})
	}
	return out, nil
}

// detail says of a run that has not ended well what people do here, where the settings permit
// it.
func (k *estateKeeper) detail(f *coreestate.Failure, e *journal.Entry) {
	if !slices.Contains(k.may, coreestate.Details) {
		return
	}
	f.Text, f.As, f.Command = cut(outcomeOf(e)), cut(e.Account), cut(strings.Join(e.Command, " "))
}

// cut cuts a text to what a report holds.
func cut(text string) string {
	return strings.ToValidUTF8(words.Line(text[:min(len(text), coreestate.MostDetail)]), "")
}
