package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/home"
)

// Exit statuses.
const (
	exitFailed    = 1 // it did not work
	exitWrong     = 2 // the call or a file is wrong; nothing was done
	exitFound     = 3 // check found something
	exitUnknown   = 4 // no such gate or run
	exitForbidden = 5 // not permitted
	exitNoKeeper  = 6 // no keeper answers
)

// exitError carries an exit status. Without an error, everything has been
// said already.
type exitError struct {
	status int
	err    error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

func usageError(format string, args ...any) error {
	return &exitError{exitWrong, fmt.Errorf(format, args...)}
}

// exit prints an error and returns the status that goes with it.
func (a *app) exit(err error) int {
	if err == nil {
		return 0
	}
	status := exitFailed
	var ee *exitError
	var pe *phrase.Error
	var found gate.Findings
	var forbidden *control.PermissionError
	var settings *home.SettingsError
	switch {
	case errors.As(err, &ee):
		status = ee.status
	case errors.As(err, &pe), errors.As(err, &found), errors.As(err, &settings):
		status = exitWrong
	case errors.As(err, &forbidden), errors.Is(err, fs.ErrPermission):
		status = exitForbidden
	case errors.Is(err, control.ErrNoKeeper):
		status = exitNoKeeper
		remedy := `start one with "timegate keeper run"`
		if a.home.OfOthers() {
			remedy = "root starts the system's"
		}
		err = fmt.Errorf("%w; %s", err, remedy)
	}
	switch {
	case a.json:
		a.printFailure(err, status)
	case errors.As(err, &found):
		a.printFindings(a.err, found)
	case errors.As(err, &pe):
		pe.OfferOn(a.today())
		fmt.Fprintln(a.err, a.err.bad("timegate: ")+err.Error())
		fmt.Fprintln(a.err, indent(pe.Caret(), "  "))
	case err.Error() != "":
		fmt.Fprintln(a.err, a.err.bad("timegate: ")+err.Error())
	}
	return status
}

// usage words a mistake in the call.
func (a *app) usage(c *cli.Command, err error) error {
	if name := firstWord(os.Args[1:]); c == c.Root() && name != "" && c.Command(name) == nil {
		return unknownCommand(c, name) // its options were taken for the program's
	}
	text := err.Error()
	if name, ok := strings.CutPrefix(text, "flag provided but not defined: "); ok {
		name = strings.TrimLeft(name, "-")
		text = fmt.Sprintf("there is no option --%s", name)
		if len(name) == 1 {
			text = fmt.Sprintf("there is no option -%s; options are whole words, such as --json", name)
		}
		if meant := meantOption(c, name); meant != "" {
			return &exitError{exitWrong, fmt.Errorf("%s; write: %s", text, meant)}
		}
		var names []string
		for at := c; at != nil; at = parentOf(at) {
			for _, f := range at.Flags {
				names = append(names, slices.DeleteFunc(f.Names(), func(n string) bool { return len(n) == 1 })...)
			}
		}
		if near, ok := phrase.Nearest(name, names); ok && len(name) > 1 {
			text += fmt.Sprintf("; did you mean --%s?", near)
		}
	} else if name, ok := strings.CutPrefix(text, "flag needs an argument: "); ok {
		text = fmt.Sprintf("the option --%s needs a value", strings.TrimLeft(name, "-"))
	} else if rest, ok := strings.CutPrefix(text, "invalid value "); ok {
		value, rest, _ := strings.Cut(rest, " for flag -")
		name, _, _ := strings.Cut(rest, ":")
		text = fmt.Sprintf("--%s is %s, which it cannot be", name, value)
	}
	return &exitError{exitWrong, fmt.Errorf("%s; see \"timegate help %s\"", text, commandPath(c))}
}

// firstWord returns the first argument that is no option of the program.
func firstWord(args []string) string {
	for i := 0; i < len(args); i++ {
		switch {
		case args[i] == "--home" || args[i] == "--scope":
			i++
		case !strings.HasPrefix(args[i], "-"):
			return args[i]
		}
	}
	return ""
}

func parentOf(c *cli.Command) *cli.Command {
	if l := c.Lineage(); len(l) > 1 {
		return l[1]
	}
	return nil
}

// commandPath returns a command's name below the program's: "keeper run".
func commandPath(c *cli.Command) string {
	_, path, _ := strings.Cut(c.FullName(), " ")
	return path
}

func unknownCommand(c *cli.Command, name string) error {
	var names []string
	for _, sub := range c.Commands {
		if !sub.Hidden {
			names = append(names, sub.Name)
		}
	}
	remedy := "see \"timegate help\""
	if meant := meantCommand(c, name); meant != "" {
		return usageError("there is no command %q; write: timegate %s", strings.TrimSpace(commandPath(c)+" "+name), meant)
	}
	if near, ok := phrase.Nearest(name, names); ok {
		remedy = fmt.Sprintf("did you mean %q?", near)
	}
	return usageError("there is no command %q; %s", strings.TrimSpace(commandPath(c)+" "+name), remedy)
}

func indent(text, by string) string {
	return by + strings.ReplaceAll(text, "\n", "\n"+by)
}
