package cli

import (
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/gates"
)

// laterFlag lets something be written that does not work yet.
func laterFlag() cli.Flag {
	return &cli.BoolFlag{Name: "later", Usage: "write it although something that it needs is missing"}
}

// yetToCome are findings about what may come later: the program, its folder, its
// account, a moment. Nothing that is unsafe is among them.
var yetToCome = []string{"target-missing", "target-not-executable", "folder-missing", "target-closed", "folder-closed", "interpreter-missing", "no-interpreter", "account",
	"no-terminal", "no-opening", "all-past"}

// neverStarts are findings that are no errors of a file that is there already,
// and are errors of one that is written now: nothing would ever come of it.
var neverStarts = []string{"no-opening", "all-past"}

// refuse looks at gates as check does, before they are written. What check would
// call an error is refused; warnings are shown. copied are the paths of
// programs that are yet to be put there.
func (a *app) refuse(c *cli.Command, files []gates.File, copied ...string) error {
	errs, rest := a.refusals(files, c.Bool("later"), copied...)
	a.printFindings(a.err, rest)
	if len(errs) > 0 && a.json {
		return errs
	}
	if len(errs) > 0 {
		a.printFindings(a.err, errs)
		return &exitError{exitWrong, fmt.Errorf("nothing was written")}
	}
	return nil
}

// refusals returns what keeps gates from being written, and what is said of them besides.
// With may, what may come later is no reason.
func (a *app) refusals(files []gates.File, may bool, copied ...string) (errs, rest gate.Findings) {
	past, _ := a.past() // where nothing is known of it, nothing is said
	for _, f := range files {
		for _, x := range a.findings(f, past) {
			later := slices.Contains(yetToCome, x.Code) && (x.Code != "account" || a.home.Scope == gate.System)
			switch {
			case x.Code == "copy-outdated" && len(copied) > 0: // it is just being renewed
			case f.Gate != nil && x.Code == "target-missing" && slices.ContainsFunc(f.Gate.Run, func(arg string) bool { return slices.Contains(copied, arg) }):
			case x.Severity != gate.SevereError && !(slices.Contains(neverStarts, x.Code) && f.Gate != nil && f.Gate.Enabled):
				rest = append(rest, x)
			case later && may:
				x.Severity = gate.Warning
				rest = append(rest, x)
			default:
				if x.Severity = gate.SevereError; later {
					x.Remedy += "; or add --later, if it is yet to come"
				}
				errs = append(errs, x)
			}
		}
	}
	return errs, rest
}
