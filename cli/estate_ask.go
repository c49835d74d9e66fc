package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/core/engine"
	coreestate "timegate/core/estate"
	"timegate/core/words"
	"timegate/estate"
)

// estateAskCommands ask one workstation for something, as if somebody did it there.
func (a *app) estateAskCommands() []*cli.Command {
	type asked struct {
		do    coreestate.Ask
		usage string
		of    string // what it wants; "" for nothing
		arg   string // the same as an argument
		calls [2]string
		text  string
	}
	var out []*cli.Command
	for _, x := range []asked{
		{coreestate.AskWhy, "why a gate on a workstation started or did not", "the name of a gate", "GATE", [2]string{"press-room humidity-log --key larkspur.key", "press-room humidity-log --key larkspur.key --json"},
			"Each workstation answers that, with codes; one that permits details answers as \"timegate why\" does there."},
		{coreestate.AskOpen, "start a gate's program on a workstation now", "the name of a gate", "GATE", [2]string{"press-room humidity-log --key larkspur.key", "press-room vault-copy --key larkspur.key --wait 1m"}, ""},
		{coreestate.AskStop, "end the running programs of a gate on a workstation", "the name of a gate", "GATE", [2]string{"press-room vault-copy --key larkspur.key", "press-room vault-copy --key larkspur.key --json"}, ""},
		{coreestate.AskPause, "pause a workstation: nothing starts there by itself", "", "", [2]string{"press-room --for 2h --key larkspur.key", "press-room --key larkspur.key"}, ""},
		{coreestate.AskResume, "end a pause of a workstation", "", "", [2]string{"press-room --key larkspur.key", "press-room --key larkspur.key --json"}, ""},
		{coreestate.AskSend, "send a signal on a workstation", "the name of a signal", "SIGNAL", [2]string{"press-room proofs-ready --key larkspur.key", "press-room proofs-ready --key larkspur.key --json"}, ""},
		{coreestate.AskOutput, "what a run on a workstation printed", "the number of a run, or the name of a gate", "RUN|GATE", [2]string{"press-room humidity-log --key larkspur.key", "press-room 12 --key larkspur.key"}, ""},
	} {
		text := x.text
		if text == "" {
			text = "It is done where the workstation's own settings permit it (timegate estate may)."
		}
		name := string(x.do)
		c := &cli.Command{Name: name, Usage: x.usage, ArgsUsage: strings.TrimSpace("HOST "+x.arg) + " --key FILE",
			Description: examples("timegate estate "+name+" "+x.calls[0], "timegate estate "+name+" "+x.calls[1]) + text,
			Flags:       []cli.Flag{keyFlag(), &cli.StringFlag{Name: "wait", Usage: "wait for the answer for this `DURATION`", Value: "40s"}},
			Action:      func(ctx context.Context, c *cli.Command) error { return a.estateAsk(ctx, c, x.do, x.of) }}
		if x.do == coreestate.AskPause {
			c.Flags = append(c.Flags, &cli.StringFlag{Name: "for", Usage: "resume after this `DURATION`, such as 2h"})
		}
		out = append(out, c)
	}
	return out
}

func (a *app) estateAsk(ctx context.Context, c *cli.Command, do coreestate.Ask, what string) error {
	args, want := c.Args().Slice(), []string{"the name of the workstation"}
	of := c.String("for")
	if what != "" {
		want = append(want, what)
	}
	switch {
	case len(args) < len(want):
		return usageError("%s is missing", want[len(args)])
	case len(args) > len(want):
		return usageError("%q is too much", args[len(want)])
	case what != "":
		of = args[1]
	}
	if !do.Fits(of) {
		return usageError("%q is not %s", of, map[bool]string{true: "a duration, such as 2h", false: what}[what == ""])
	}
	keys, err := signers(c)
	if err != nil {
		return err
	}
	patience, err := parseSpan("wait", c.String("wait"))
	if err != nil {
		return err
	}
	return a.atDesk(ctx, func(d *estate.Desk) error {
		host := args[0]
		if !slices.ContainsFunc(d.Hosts(), func(h estate.Host) bool { return h.Host == host }) {
			return a.noHost(d, host)
		}
		wait, enough := context.WithTimeout(ctx, patience)
		defer enough()
		answer, err := d.Ask(wait, host, do, of, time.Now(), keys)
		if err != nil {
			return &exitError{exitFailed, err}
		}
		return a.printAsked(do, of, answer)
	})
}

// notDone says why a request was not done.
var notDone = map[string]string{
	coreestate.NotPermitted: "its own settings do not permit that; there: timegate estate may",
	coreestate.Expired:      "the request was too old when it came, or the clocks differ by minutes",
	coreestate.Busy:         "too much is asked of it at once",
	"too-long":              "it took too long",
	"failed":                "it failed; the keeper there has logged why",
}

// printAsked tells what a workstation has answered.
func (a *app) printAsked(do coreestate.Ask, of string, answer *coreestate.Answer) error {
	if a.json {
		if answer.Moments == nil {
			answer.Moments = []coreestate.Moment{}
		}
		if err := a.out.printJSON(answer); err != nil {
			return err
		}
		return askedStatus(answer)
	}
	switch why := notDone[answer.Code]; {
	case answer.Code != "" && why == "":
		why = words.Line(answer.Code)
		fallthrough
	case answer.Code != "":
		return &exitError{exitFailed, fmt.Errorf("%s: %s", answer.Host, why)}
	case answer.Status == exitUnknown && answer.Text == "" && do == coreestate.AskSend:
		return &exitError{exitUnknown, fmt.Errorf("%s: no gate waits for the signal %q there now", answer.Host, of)}
	case answer.Status == exitUnknown && answer.Text == "":
		return &exitError{exitUnknown, fmt.Errorf("%s: there is no gate called %q there", answer.Host, of)}
	case answer.Status != 0 && answer.Text == "":
		return &exitError{answer.Status, fmt.Errorf("%s: it ended there with exit status %d", answer.Host, answer.Status)}
	}
	switch {
	case answer.Text != "":
		if err := a.out.raw([]byte(answer.Text)); err != nil {
			return err
		}
	case do == coreestate.AskPause, do == coreestate.AskResume:
		fmt.Fprintf(a.out, "%s: done\n", answer.Host)
	default:
		a.printMoments(do, answer)
	}
	return askedStatus(answer)
}

// askedStatus is the exit status of what was done on a workstation.
func askedStatus(answer *coreestate.Answer) error {
	status := answer.Status
	for _, m := range answer.Moments {
		for _, s := range m.Steps {
			if status == 0 && slices.Contains([]engine.Result{engine.ResultSkipped, engine.ResultFailed, engine.ResultRefused}, engine.Result(s.Result)) && m.Due.Equal(s.At) {
				status = exitFailed
			}
		}
	}
	if answer.Code != "" {
		status = exitFailed
	}
	if status == 0 {
		return nil
	}
	return &exitError{status: status}
}

func (a *app) printMoments(do coreestate.Ask, answer *coreestate.Answer) {
	var rows [][]string
	for _, m := range answer.Moments {
		for _, s := range m.Steps {
			run := ""
			if s.Run != 0 {
				run = fmt.Sprint(s.Run)
			}
			due := a.local(m.Due)
			if do != coreestate.AskWhy {
				due = ""
			}
			rows = append(rows, []string{a.local(s.At), due, m.Opening, words.Line(s.Decision), run, a.result(engine.Result(words.Line(s.Result))), words.Line(s.Code), words.Line(s.Rule)})
		}
	}
	if len(rows) == 0 {
		fmt.Fprintf(a.out, "%s: nothing was decided\n", answer.Host)
		return
	}
	a.out.table([]string{"AT", "DUE", "OPENING", "DECISION", "RUN", "RESULT", "WHY", "RULE"}, rows)
}

func (a *app) estateMayCommand() *cli.Command {
	return &cli.Command{
		Name: "may", Usage: "what the estate may ask of this workstation", ArgsUsage: "[WORD …]",
		Description: examples(`timegate estate may`, `timegate estate may open output`, `timegate estate may --nothing`) + "Bundles and why are always answered. Each WORD permits more: " + strings.Join(coreestate.Permissions(), ", ") + ".\n" +
			"details lets reports and answers tell reasons in words, with paths, command lines and names of accounts.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "nothing", Usage: "permit nothing more"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			s, err := a.estateSettings()
			if err != nil {
				return err
			}
			change := c.Args().Slice()
			switch {
			case s.Desk:
				return usageError("this home is an administrator's, and is asked for nothing")
			case c.Bool("nothing") && len(change) > 0:
				return usageError("write words or --nothing, not both")
			case len(change) == 0 && !c.Bool("nothing"):
				if a.json {
					return a.out.printJSON(append([]string{}, s.May...))
				}
				fmt.Fprintln(a.out, strings.Join(append([]string{"bundles", "why"}, s.May...), ", "))
				return nil
			}
			if _, err := a.mayChange(ctx, c); err != nil {
				return err
			}
			slices.Sort(change)
			if s.May = slices.Compact(change); len(s.May) == 0 {
				s.May = nil
			}
			if err := s.Write(a.home); err != nil {
				return usageError("%w", err)
			}
			fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), estate.File(a.home))
			return a.follow(ctx)
		},
	}
}

// jsonPrivacy is what a workstation has told.
type jsonPrivacy struct {
	May    []string              `json:"may"`    // that the settings permit
	Report json.RawMessage       `json:"report"` // the last one; null for none
	Asked  []coreestate.AskedOne `json:"asked"`  // of it, the latest last
}

func (a *app) estatePrivacyCommand() *cli.Command {
	return &cli.Command{
		Name: "privacy", Usage: "what this workstation has told its estate, word for word, and what was asked of it",
		Description: examples(`timegate estate privacy`, `timegate estate privacy --json`) + "Names of gates, results, codes of reasons and figures. Command lines, reasons in words and names of accounts are told where\n" +
			"the settings permit details, and what programs print where they permit output (timegate estate may).",
		Action: func(_ context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			s, err := a.estateSettings()
			if err != nil {
				return err
			}
			out := jsonPrivacy{May: append([]string{}, s.May...), Report: json.RawMessage("null"), Asked: []coreestate.AskedOne{}}
			files, state := estate.Files{Home: a.home}, estate.State{}
			text, err := files.LastTold()
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			if err == nil {
				out.Report = text
			}
			if err := files.Load(&state); err != nil {
				return err
			}
			out.Asked = append(out.Asked, state.Asked.List...)
			if a.json {
				return a.out.printJSON(out)
			}
			return a.printPrivacy(&out)
		},
	}
}

func (a *app) printPrivacy(p *jsonPrivacy) error {
	if string(p.Report) == "null" {
		fmt.Fprintln(a.err, "nothing was told yet")
	} else {
		var told bytes.Buffer
		if err := json.Indent(&told, p.Report, "", "  "); err != nil {
			return err
		}
		fmt.Fprintln(a.out, told.String())
	}
	for _, one := range p.Asked {
		did := "answered"
		if one.Code != "" {
			did = "refused (" + one.Code + ")"
		}
		fmt.Fprintf(a.out, "%s  asked for %s, %s\n", a.local(one.At), strings.TrimSpace(string(one.Do)+" "+one.Of), did)
	}
	return nil
}
