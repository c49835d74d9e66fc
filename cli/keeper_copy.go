package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/journal"
)

func (a *app) backupCommand() *cli.Command {
	return &cli.Command{
		Name: "backup", Usage: "write a consistent copy of the journal, while the keeper runs", ArgsUsage: "FILE",
		Description: examples(`timegate keeper backup ~/journal-monday.db`) + "The journal has the history and what the keeper knows. Gates are plain files: copy them, or \"timegate export FOLDER\".",
		Action:      a.keeperBackup,
	}
}

func (a *app) restoreCommand() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "put a copy in the place of the journal, while no keeper runs", ArgsUsage: "FILE",
		Description: examples(`timegate keeper restore ~/journal-monday.db`, `timegate keeper restore ~/journal-monday.db --replace`) + "The journal that is there is kept beside it.",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "replace", Usage: "move the journal that is there aside"}},
		Action:      a.keeperRestore,
	}
}

// ownJournal refuses what is another's.
func (a *app) ownJournal() error {
	if a.home.OfOthers() {
		return &control.PermissionError{Reason: "what the system's keeper has recorded is root's to copy"}
	}
	return nil
}

func (a *app) keeperBackup(_ context.Context, c *cli.Command) error {
	file, err := oneArgument(c, "the file to be written")
	if err != nil {
		return err
	}
	if err := a.ownJournal(); err != nil {
		return err
	}
	switch err := journal.Backup(a.home.Journal(), file); {
	case errors.Is(err, journal.ErrNone):
		return &exitError{exitFailed, errors.New("nothing is recorded yet: there is no journal to copy")}
	case errors.Is(err, fs.ErrExist):
		return usageError("%s is there already; choose another name", file)
	case err != nil:
		return err
	}
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s %s (%s)\n", a.err.good("written"), file, bytesText(info.Size()))
	return nil
}

func (a *app) keeperRestore(_ context.Context, c *cli.Command) error {
	file, err := oneArgument(c, "the copy")
	if err != nil {
		return err
	}
	if err := a.ownJournal(); err != nil {
		return err
	}
	if err := a.home.Prepare(); err != nil {
		return err
	}
	unlock, err := a.home.Lock()
	if err != nil {
		return fmt.Errorf("a journal cannot change below a keeper: %w", err)
	}
	defer unlock()
	path := a.home.Journal()
	aside := ""
	if _, err := os.Lstat(path); err == nil {
		if !c.Bool("replace") {
			return usageError("there is a journal already; add --replace, and it is moved aside")
		}
		if aside, err = moveAside(path, a.now().Format("20060102-150405")); err != nil {
			return err
		}
	}
	r, err := journal.Restore(file, path, a.home.FirstRun())
	if bad, is := errors.AsType[*journal.FileError](err); is {
		err = usageError("%s is no whole copy of a journal: %s", file, bad.Reason)
	} else if errors.Is(err, journal.ErrNone) {
		err = usageError("%s is not there, or empty: it is no copy of a journal", file)
	}
	if err != nil {
		if aside != "" { // nothing has come in its place
			err = errors.Join(err, renameJournal(aside, path))
		}
		return err
	}
	fmt.Fprintf(a.err, "%s a journal with %s, written last %s\n", a.err.good("restored"), plural(int(r.Runs), "run"), a.localFar(r.Until.Time()))
	if aside != "" {
		fmt.Fprintf(a.err, "the one before is kept as %s\n", aside)
	}
	return nil
}

// journalFiles are those of a journal, beside its own: what SQLite has not yet put in it.
var journalFiles = []string{"", "-wal", "-shm"}

// moveAside gives a journal another name, and returns it.
func moveAside(path, when string) (string, error) {
	for n := 1; ; n++ {
		name := "journal-before-" + when
		if n > 1 {
			name += fmt.Sprintf("-%d", n)
		}
		to := filepath.Join(filepath.Dir(path), name+".db")
		if _, err := os.Lstat(to); errors.Is(err, fs.ErrNotExist) {
			return to, renameJournal(path, to)
		}
	}
}

func renameJournal(from, to string) error {
	for _, end := range journalFiles {
		if err := os.Rename(from+end, to+end); err != nil && !(end != "" && errors.Is(err, fs.ErrNotExist)) {
			return err
		}
	}
	return nil
}
