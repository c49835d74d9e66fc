package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"mvdan.cc/sh/v3/syntax"

	"timegate/core/gate"
	"timegate/gates"
	"timegate/home"
)

// lineHead is what stands before a line in the script that it becomes: the first failure
// ends it, and so does a variable that was never set.
const lineHead = "#!/bin/sh\nset -eu\n\n"

// lineFlag takes a line for a shell.
func lineFlag() cli.Flag {
	return &cli.StringFlag{Name: "line", Usage: "keep this `LINE` for a shell as a script that nobody else can change, and run that; its arguments follow --"}
}

// lineScript returns the script that a line becomes, once it can be read as one (Shell
// Command Language, POSIX.1-2017).
func lineScript(line string) ([]byte, error) {
	if strings.TrimSpace(line) == "" {
		return nil, usageError("--line is empty; write what a shell is to do, such as: --line 'cd /srv/press && ./count | tee -a log'")
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(strings.NewReader(line), "")
	if err != nil {
		where, what := "", err.Error()
		if wrong, is := errors.AsType[syntax.ParseError](err); is {
			where, what = fmt.Sprintf(":%d:%d", wrong.Pos.Line(), wrong.Pos.Col()), wrong.Text
		} else if wrong, is := errors.AsType[syntax.LangError](err); is {
			where, what = fmt.Sprintf(":%d:%d", wrong.Pos.Line(), wrong.Pos.Col()), "not every shell has this: "+wrong.Feature
		}
		return nil, usageError("--line%s: %s; mend the line, which /bin/sh is to read, or give a script of another kind after --", where, what)
	}
	if len(file.Stmts) == 0 {
		return nil, usageError("--line says nothing but a comment; write what a shell is to do")
	}
	script := []byte(lineHead + strings.TrimRight(line, "\n") + "\n")
	if len(script) > home.ScriptSize {
		return nil, usageError("--line: a script has at most %d KiB", home.ScriptSize>>10)
	}
	return script, nil
}

// keepLine puts a script in the place where a gate's is kept, and lets the edit run it with
// arguments. It comes into force with the gate, and is undone with it.
func (a *app) keepLine(c *cli.Command, name, line string, args []string, edit *gate.Edit) ([]gates.OtherChange, error) {
	if c.Bool("copy-script") || c.String("program") != "" {
		return nil, usageError("--line is what is run; --copy-script and --program belong to another")
	}
	data, err := lineScript(line)
	if err != nil {
		return nil, err
	}
	path := a.home.KeptScript(name)
	if err := a.scriptFree(name, path); err != nil {
		return nil, err
	}
	edit.SetTexts("run", append([]string{path}, args...))
	after := &home.State{Text: data, Mode: 0o700}
	if a.home.Scope == gate.System {
		after.Mode = 0o755 // whoever the gate runs as
	}
	others := []gates.OtherChange{{Path: path, After: after}}
	if a.home.ScriptSource(name) != "" {
		others = append(others, gates.OtherChange{Path: a.home.ScriptSourceFile(name)}) // it is a copy of nothing any more
	}
	return others, nil
}

// scriptFree refuses a place for a script in which another gate's lies.
func (a *app) scriptFree(name, path string) error {
	files, err := a.files()
	if err != nil {
		return err
	}
	for _, f := range files {
		if f.Name != name && f.Gate != nil && slices.Contains(f.Gate.Run, path) {
			return usageError("the gate %s runs %s, where the script would be kept; choose another name", f.Name, path)
		}
	}
	return nil
}

// keptScript returns the script that a gate runs, where Time Gate keeps it.
func (a *app) keptScript(g *gate.Gate) (path string, data []byte) {
	if g == nil {
		return "", nil
	}
	at := slices.IndexFunc(g.Run, func(arg string) bool { return filepath.Dir(arg) == filepath.Dir(a.home.KeptScript("x")) })
	if at < 0 {
		return "", nil
	}
	data, err := home.ReadPlain(g.Run[at], home.ScriptSize)
	if err != nil {
		return "", nil
	}
	return g.Run[at], data
}

// shownLines is how many lines of a script a summary shows.
const shownLines = 12

// printScript shows the script that a gate runs, where Time Gate keeps it: what it does, and
// not what stands before each line that was given.
func (a *app) printScript(g *gate.Gate) {
	_, data := a.keptScript(g)
	if data == nil || bytes.IndexByte(data, 0) >= 0 {
		return
	}
	a.printLines(g, strings.TrimPrefix(string(data), lineHead))
}

// printLines shows the first lines of a script.
func (a *app) printLines(g *gate.Gate, text string) {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	more := len(lines) - shownLines
	for i, line := range lines[:min(len(lines), shownLines)] {
		label := ""
		if i == 0 {
			label = "script"
		}
		a.line(label, line)
	}
	if more > 0 {
		a.line("", a.out.faint(fmt.Sprintf("and %s more; see: timegate edit %s --script", plural(more, "line"), g.Name)))
	}
}

// editScript opens an editor on a copy of the script that a gate runs, and puts what was
// saved in its place once its interpreter can read it.
func (a *app) editScript(ctx context.Context, c *cli.Command, f gates.File) error {
	path, data := a.keptScript(f.Gate)
	if f.Gate != nil && path == "" {
		return usageError("%s runs %s, which is no script that Time Gate keeps; edit that, or keep a copy: timegate change %s --copy-script", f.Name, f.Gate.Run[0], f.Name)
	}
	if f.Gate == nil {
		return f.Findings.Errors()
	}
	before, err := home.StateOf(path, home.ScriptSize)
	if err != nil {
		return home.Wrap(path, err)
	}
	return a.editText(ctx, c, f.Name+".script", string(data), func(draft string, text []byte) error {
		if len(text) > home.ScriptSize {
			return usageError("a script has at most %d KiB", home.ScriptSize>>10)
		}
		if err := scriptFault(draft, text); err != nil {
			return err
		}
		if ok, err := a.confirm(c, "Write "+path+"?"); err != nil || !ok {
			return err
		}
		after := *before
		after.Text = text
		plan := gates.NewPlan(a.home)
		plan.PutOther(gates.OtherChange{Path: path, After: &after})
		if err := a.commit(plan, a.now()); err != nil {
			return err
		}
		fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), path)
		return nil
	})
}

// scriptFault finds out whether a script can be read as one.
func scriptFault(draft string, text []byte) error {
	if !bytes.HasPrefix(text, []byte("#!")) {
		return usageError("%s:1:1: a script says in its first line what runs it, such as #!/bin/sh", draft)
	}
	first, _, _ := strings.Cut(string(text), "\n")
	if words := strings.Fields(strings.TrimPrefix(first, "#!")); len(words) == 0 || !slices.Contains([]string{"sh", "dash"}, filepath.Base(words[0])) {
		return nil
	}
	if _, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(bytes.NewReader(text), draft); err != nil {
		return usageError("%w", err)
	}
	return nil
}

// editText opens the editor on a copy of a text until take takes what was saved, or the
// person gives up; then the copy stays.
func (a *app) editText(ctx context.Context, c *cli.Command, name, before string, take func(draft string, text []byte) error) error {
	editor, err := editorCommand()
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "timegate-")
	if err != nil {
		return err
	}
	draft := filepath.Join(dir, name)
	if err := os.WriteFile(draft, []byte(before), 0o600); err != nil {
		return err
	}
	for {
		text, err := a.editOnce(ctx, editor, draft)
		if err != nil {
			return fmt.Errorf("%w; the file is as it was, your copy is %s", err, draft)
		}
		if string(text) == before {
			fmt.Fprintln(a.err, "nothing to change")
			return os.RemoveAll(dir)
		}
		if err = take(draft, text); err == nil {
			return os.RemoveAll(dir)
		}
		a.exit(err)
		again := false
		if a.asks() {
			if again, err = a.confirmOr(c, "Open it again?", true); err != nil {
				return err
			}
		}
		if !again {
			return usageError("nothing was written; your copy is %s", draft)
		}
	}
}
