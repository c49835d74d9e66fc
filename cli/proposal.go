package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/agent"
	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/home"
	"timegate/inspect"
	"timegate/install"
	"timegate/launch"
)

// gateFlags are what add and change can say of a gate.
func gateFlags(open string) []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "open", Usage: open},
		&cli.StringFlag{Name: "about", Usage: "what it is for, in a `LINE`"},
		&cli.StringFlag{Name: "user", Usage: "the `ACCOUNT` to run as (system scope)"},
		&cli.BoolFlag{Name: "elevated", Usage: "run with root's rights (system scope)"},
		&cli.StringFlag{Name: "folder", Usage: "working folder `DIR`", TakesFile: true},
		&cli.StringFlag{Name: "longest", Usage: "end the program after this `DURATION`, such as 2h"},
		&cli.StringFlag{Name: "busy", Usage: "`RULE` for a moment that comes while it runs: skip, queue, replace or beside"},
		&cli.StringSliceFlag{Name: "measure", Usage: "measure this `READING` before and after each run; may be given several times: " + gate.ReadingForms},
		&cli.StringSliceFlag{Name: "set", Usage: "any other key of the file, as `KEY=VALUE`, such as needs.power=mains"},
		&cli.BoolFlag{Name: "copy-script", Usage: "keep a copy of the script that nobody else can change, and run that"},
		lineFlag(),
		&cli.BoolFlag{Name: "off", Usage: "do not switch it on yet"},
		nowFlag(),
		againstFlag(),
		laterFlag(),
		yesFlag(),
	}
}

// nowFlag starts a gate besides its moments.
func nowFlag() cli.Flag {
	return &cli.BoolFlag{Name: "now", Usage: "also start it now, once"}
}

// startNow starts a gate where that was asked for.
func (a *app) startNow(ctx context.Context, c *cli.Command, name string) error {
	if !c.Bool("now") {
		return nil
	}
	err := a.answered(name)(a.client.Open(ctx, name))
	if errors.Is(err, control.ErrNoKeeper) { // all else is done
		return &exitError{exitNoKeeper, fmt.Errorf("%s is not started now, since no keeper is running; start one with: timegate keeper run, and then: timegate open %s", name, name)}
	}
	return err
}

// openingOf reads an opening: a phrase, or NAME=PHRASE.
func (a *app) openingOf(text string) (gate.Opening, error) { return a.openingBy(a.phraseOf, text) }

// openingBy reads an opening with a reader of phrases.
func (a *app) openingBy(read func(string) (*phrase.Phrase, error), text string) (gate.Opening, error) {
	o := gate.Opening{Enabled: true}
	if name, when, ok := strings.Cut(text, "="); ok && gate.ValidName(name) {
		if gate.Numbered(name) {
			return o, usageError("--open %s: an opening's name is no number; write for instance work=%q", text, when)
		}
		o.Name, text = name, when
	} else if ok && !strings.ContainsAny(name, "\"/") {
		if _, err := phrase.Parse(when); err == nil {
			return o, usageError("--open %s: %q cannot be an opening's name; write %s=%q: %s", text, name, cmp.Or(gate.NearName(name), "work"), when, gate.NameRule)
		}
	}
	raw := text
	if gate.HasNames([]byte(text)) {
		x, err := gates.Expand(a.home, text, a.host)
		if err != nil {
			return o, err
		}
		text = string(x.Text)
	}
	p, err := read(text)
	if err != nil {
		return o, err
	}
	if o.When = p.String(); raw != text {
		o.When = raw // its values may be others on another host, or tomorrow
	}
	o.Plan, err = p.Compile(a.env())
	return o, err
}

// looseWords refuses arguments that stand before "--", which are most likely the
// words of a phrase or of a path that wants quotes.
func looseWords(c *cli.Command, argv []string) error {
	words := os.Args
	end := slices.Index(words, "--")
	if len(argv) == 0 || end < 0 || len(words)-end-1 >= len(argv) {
		return nil
	}
	loose := argv[:len(argv)-(len(words)-end-1)]
	if i := slices.Index(words, "--open"); i >= 0 && i+1 < end {
		if phrase := words[i+1]; !strings.ContainsAny(phrase, " =") {
			return usageError("a phrase of several words wants quotes; write: --open %q", strings.Join(append([]string{phrase}, loose...), " "))
		}
	}
	return usageError("%q stands before \"--\" and belongs to nothing; a value of several words wants quotes; write: timegate %s %s", strings.Join(loose, " "), commandPath(c), c.ArgsUsage)
}

// keepScript lets the edit run a copy of the gate's program, where that was
// asked for, and returns what makes the copy.
func (a *app) keepScript(ctx context.Context, c *cli.Command, name string, argv []string, edit *gate.Edit) (put func(*gate.Gate) error, err error) {
	if !c.Bool("copy-script") {
		return func(*gate.Gate) error { return nil }, nil
	}
	if len(argv) == 0 || !filepath.IsAbs(argv[0]) {
		return nil, usageError("--copy-script: give the script after --")
	}
	argv = slices.Clone(argv)
	at := inspect.ScriptAt(argv, argv[0]) // of an interpreter with a script, the script is what is meant
	script, err := filepath.Abs(home.Expand(argv[at], a.ownFolder()))
	if err != nil {
		return nil, err
	}
	switch info, err := os.Stat(script); {
	case err != nil:
		return nil, usageError("--copy-script: %s: %w; check the path", script, cause(err))
	case !info.Mode().IsRegular():
		return nil, &home.Error{Path: script, Reason: "it is not a plain file", Remedy: "check the path; a script has at most 512 KiB"}
	}
	argv[at] = a.home.KeptScript(name)
	edit.SetTexts("run", argv)
	return func(g *gate.Gate) error {
		if err := a.copyScript(ctx, g, script); err != nil {
			return err
		}
		return a.home.NoteScriptSource(name, script)
	}, nil
}

// ownFolder is the caller's home folder, "" where there is none.
func (a *app) ownFolder() string {
	dir, err := os.UserHomeDir()
	if err != nil {
		return ""
	}
	return dir
}

// copyScript copies a program with the rights with which it is to run: what
// that account may not read is not copied.
func (a *app) copyScript(ctx context.Context, g *gate.Gate, program string) error {
	uid := os.Getuid()
	var data []byte
	var mode fs.FileMode
	var err error
	if launch.OwnAccount(g.Account()) {
		data, mode, err = home.ReadWithMode(program, home.ScriptSize+1)
	} else {
		rights, rightsErr := a.launcher().RightsOf(g.Account())
		if rightsErr != nil {
			return rightsErr
		}
		uid = rights.UID
		visit, visitErr := agent.NewVisit(a.home.Scope, g.Account(), nil)
		if visitErr != nil {
			return visitErr
		}
		defer visit.Close()
		data, mode, err = visit.Read(ctx, program, home.ScriptSize+1)
	}
	if err == nil && len(data) > home.ScriptSize {
		err = fmt.Errorf("a script has at most %d KiB", home.ScriptSize>>10)
	}
	if err != nil {
		return &home.Error{Path: program, Reason: "it cannot be copied as " + launch.AccountName(g) + ": " + err.Error(), Remedy: "check the path, and who may read it"}
	}
	return a.home.PutScript(g.Name, data, mode, uid)
}

// setKeys sets the keys that were given by --set.
func setKeys(c *cli.Command, edit *gate.Edit) error {
	for _, text := range c.StringSlice("set") {
		key, value, ok := strings.Cut(text, "=")
		if !ok {
			return usageError("--set %s: write KEY=VALUE, such as needs.power=mains", text)
		}
		if err := edit.SetValue(strings.TrimSpace(key), strings.TrimSpace(value)); err != nil {
			return usageError("--set %s: %w", text, err)
		}
	}
	return nil
}

// propose shows what a gate's new content means, asks on a terminal, does what
// must come first, and writes it.
func (a *app) propose(ctx context.Context, c *cli.Command, name string, data []byte, first func(*gate.Gate) error, others ...gates.OtherChange) error {
	a.followClock(ctx)
	path := a.home.GateFile(name)
	f := gates.Parse(a.home, name, data, a.env())
	if f.Gate == nil {
		return f.Findings.Errors()
	}
	a.summary(f.Gate, calendar.InstantOf(a.now()))
	if c.IsSet("line") {
		a.printLines(f.Gate, c.String("line"))
	}
	var kept []string // that are yet to be put there
	if c.Bool("copy-script") || c.IsSet("line") {
		kept = append(kept, a.home.KeptScript(name))
	}
	if err := a.refuse(c, []gates.File{f}, kept...); err != nil {
		return err
	}
	if c.String("against") != "" {
		files, err := a.withFile(f)
		if err != nil {
			return err
		}
		if err := a.showAgainst(ctx, c, files); err != nil {
			return err
		}
	}
	ok, err := a.confirmOr(c, "Write "+path+"?", true)
	if err == nil && !ok {
		fmt.Fprintf(a.err, "nothing was written; the file would have been:\n%s", indent(string(data), "  "))
		fmt.Fprintln(a.err)
	}
	if err != nil || !ok {
		return err
	}
	plan := gates.NewPlan(a.home)
	if first != nil {
		plan.First(func() error { return first(f.Gate) })
	}
	plan.Put(name, data)
	for _, o := range others {
		plan.PutOther(o)
	}
	if err := a.commit(plan, a.now()); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), path)
	a.sayKeeper()
	return a.startNow(ctx, c, name)
}

// commit brings a plan into force. Where a keeper runs, it has it when this returns.
func (a *app) commit(plan *gates.Plan, now time.Time) error {
	plan.First(a.rememberScope)
	if err := plan.Commit(a.env(), now); err != nil {
		return err
	}
	a.noteChanges(plan)
	const patience = 5 * time.Second
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	a.client.Reload(ctx) // a keeper that cannot answer now reads the folder when it can
	return nil
}

// noProgram is the error of a command whose program is not there: where its words make
// sense in another way, it says that, else the usual remedy.
func noProgram(argv []string, err error, remedy string) error {
	for n := 2; n <= len(argv); n++ {
		path := strings.Join(argv[:n], " ")
		if info, statErr := os.Stat(path); statErr == nil && !info.IsDir() {
			return usageError("a path with a blank wants quotes; write: -- %s", gate.CommandLine(append([]string{path}, argv[n:]...)...))
		}
	}
	return usageError("%w; %s", err, cmp.Or(oneWord(argv), remedy))
}

// wholeProgram returns the program's whole path, so that it does not depend
// on where it is started from. Its error is fs.ErrNotExist where there is no
// such program; the path is then right all the same.
func wholeProgram(name string) (string, error) {
	path := name
	if !strings.Contains(name, "/") {
		found, err := exec.LookPath(name)
		if err != nil {
			return name, &missingProgram{fmt.Sprintf("there is no program %q in PATH", name)}
		}
		path = found
	}
	abs, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(abs); err != nil {
		return abs, &missingProgram{fmt.Sprintf("the program %s does not exist", abs)}
	}
	return abs, nil
}

// missingProgram is an fs.ErrNotExist in plain words.
type missingProgram struct{ text string }

func (e *missingProgram) Error() string { return e.text }

func (e *missingProgram) Unwrap() error { return fs.ErrNotExist }

// sayKeeper tells if nothing will start because no keeper runs.
func (a *app) sayKeeper() {
	switch s, err := a.client.Status(context.Background()); {
	case errors.Is(err, control.ErrNoKeeper):
		fmt.Fprintln(a.err, a.err.faint("no keeper is running, so nothing starts by itself; start one with: timegate keeper run"))
	case err == nil && !s.Staged && !install.BeginsByItself(a.home, a.own):
		fmt.Fprintln(a.err, a.err.faint("the keeper "+a.notByItself()))
	}
}

// notByItself says what comes of a keeper that does not begin by itself, and what to do.
func (a *app) notByItself() string {
	if a.home.Scope == gate.System {
		if a.own {
			return "does not begin by itself after a restart: a home in a folder of its own is begun by hand"
		}
		return "does not begin by itself after a restart; to let it: timegate keeper install"
	}
	return "does not begin by itself at your next logon; to let it: timegate keeper install"
}

// asks reports whether there is a terminal to ask on.
func (a *app) asks() bool { return a.err.terminal && isTerminal(a.in) && !a.json }

// yesFlag answers questions beforehand.
func yesFlag() cli.Flag {
	return &cli.BoolFlag{Name: "yes", Usage: "do not ask; without a terminal nothing is asked"}
}

// confirm asks a question where there is a terminal to ask on; else the answer is yes.
func (a *app) confirm(c *cli.Command, question string) (bool, error) {
	yes, err := a.confirmOr(c, question, false)
	if err == nil && !yes {
		fmt.Fprintln(a.err, "nothing was done")
	}
	return yes, err
}

// confirmOr asks a question that an empty line answers as it is usual.
func (a *app) confirmOr(c *cli.Command, question string, usual bool) (bool, error) {
	if c.Bool("yes") || !a.asks() {
		return true, nil
	}
	return a.answer(question, usual), nil
}

// answer asks a question on the terminal.
func (a *app) answer(question string, usual bool) bool {
	hint := "y/N"
	if usual {
		hint = "Y/n"
	}
	fmt.Fprintf(a.err, "%s [%s] ", question, hint)
	line, err := bufio.NewReader(a.in).ReadString('\n')
	switch text := strings.ToLower(strings.TrimSpace(line)); text {
	case "":
		return usual && err == nil
	default:
		return text == "y" || text == "yes"
	}
}
