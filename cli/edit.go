package cli

import (
	"context"
	"fmt"
	"os"
	"os/exec"

	"github.com/google/shlex"
	"github.com/urfave/cli/v3"

	"timegate/gates"
)

func (a *app) editCommand() *cli.Command {
	return &cli.Command{
		Name: "edit", Category: sayCommands, Usage: "open a gate's file in your editor, and check it before it takes effect", ArgsUsage: "NAME",
		Description: examples(`timegate edit vault-copy`, `EDITOR=vi timegate edit vault-copy`, `timegate edit press-count --script`) +
			"$VISUAL or $EDITOR is opened on a copy. What is saved is checked as \"check\" does; where something is wrong, the copy\n" +
			"can be opened again, and nothing that you have written is lost.",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "script", Usage: "edit the script that Time Gate keeps for the gate, and not the gate's file"}, nowFlag(), againstFlag(), laterFlag(), yesFlag()},
		Action: a.edit,
	}
}

func (a *app) edit(ctx context.Context, c *cli.Command) error {
	name, err := oneArgument(c, "the name of a gate")
	if err != nil {
		return err
	}
	f, err := a.file(name)
	if err != nil {
		return err
	}
	if c.Bool("script") {
		return a.editScript(ctx, c, f)
	}
	return a.editText(ctx, c, name+gates.Suffix, f.Text, func(_ string, text []byte) error { return a.propose(ctx, c, name, text, nil) })
}

// editOnce opens the editor on a file and returns what was saved.
func (a *app) editOnce(ctx context.Context, editor []string, path string) ([]byte, error) {
	cmd := exec.CommandContext(ctx, editor[0], append(editor[1:], path)...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		return nil, fmt.Errorf("the editor %s: %w", editor[0], cause(err))
	}
	return os.ReadFile(path)
}

// editorCommand returns the editor that the environment names (VISUAL and EDITOR in
// POSIX), with its arguments, or vi as POSIX has it.
func editorCommand() ([]string, error) {
	for _, name := range []string{"VISUAL", "EDITOR"} {
		if text := os.Getenv(name); text != "" {
			words, err := shlex.Split(text)
			if err == nil && len(words) > 0 {
				return words, nil
			}
			return nil, usageError("$%s is %q, which is no command", name, text)
		}
	}
	if path, err := exec.LookPath("vi"); err == nil {
		return []string{path}, nil
	}
	return nil, usageError("no editor is known; set EDITOR, as in: EDITOR=nano timegate edit NAME")
}
