package journal

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// TestBackup copies a journal while it is written, restores the copy, and reads what it
// has; what is damaged, or there already, is refused, and nothing is left behind.
func TestBackup(t *testing.T) {
	t.Parallel()
	j, path := open(t)
	write(t, j, Record{Event: engine.Event{At: 1000, Body: &engine.Begin{BootID: "boot-a"}}, Delta: engine.Delta{Machine: []byte(`{"boot_id":"boot-a","next_run":3}`)}})
	stop, done := make(chan struct{}), make(chan error)
	go func() { // a keeper at work
		for run := int64(1); ; run++ {
			select {
			case <-stop:
				done <- nil
				return
			default:
			}
			at := calendar.Instant(1000 + 1000*run)
			if _, err := j.Write(start(at, run, "vault-copy", "1", at), end(at+20, run, "vault-copy", engine.ResultOK)); err != nil {
				done <- err
				return
			}
		}
	}()
	dir := t.TempDir()
	copied := filepath.Join(dir, "copy.db")
	err := Backup(path, copied)
	close(stop)
	if err := errors.Join(err, <-done); err != nil {
		t.Fatal(err)
	}
	if err := Backup(path, copied); !errors.Is(err, fs.ErrExist) {
		t.Errorf("a copy takes the place of a file: %v", err)
	}
	if info, err := os.Stat(copied); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the copy has mode %v, %v", info.Mode(), err)
	}
	to := filepath.Join(t.TempDir(), "journal.db")
	r, err := Restore(copied, to, 77)
	if err != nil {
		t.Fatal(err)
	}
	back, err := Open(to)
	if err != nil {
		t.Fatal(err)
	}
	defer back.Close()
	list, err := back.History(Filter{})
	state, _, stateErr := back.State()
	if err != nil || stateErr != nil || int64(len(list)) != r.Runs || state.Machine.BootID != "boot-a" || state.Machine.NextRun != 77 {
		t.Errorf("restored are %d runs of %d, and state %+v, %v, %v", len(list), r.Runs, state.Machine, err, stateErr)
	}
	for _, e := range list { // each is whole
		if e.Ended == 0 || e.Result != engine.ResultOK {
			t.Errorf("run %d was copied half-way: %+v", e.Run, e)
		}
	}
	if faults, err := back.Faults(); err != nil || len(faults) > 0 {
		t.Errorf("the restored journal: %v, %v", faults, err)
	}
	if _, err := Restore(copied, to, 1); !errors.Is(err, fs.ErrExist) {
		t.Errorf("a copy takes the place of a journal: %v", err)
	}

	data, err := os.ReadFile(copied)
	if err != nil {
		t.Fatal(err)
	}
	cut := filepath.Join(dir, "cut.db")
	for i := 4096; i < 3*4096; i++ {
		data[i] ^= 0x5a
	}
	if err := os.WriteFile(cut, data, 0o600); err != nil {
		t.Fatal(err)
	}
	note := filepath.Join(dir, "note.txt")
	if err := os.WriteFile(note, []byte("no journal"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{cut, note, filepath.Join(dir, "none.db"), dir} {
		elsewhere := t.TempDir()
		if _, err := Restore(bad, filepath.Join(elsewhere, "journal.db"), 1); err == nil {
			t.Errorf("%s is restored", filepath.Base(bad))
		}
		if left, _ := os.ReadDir(elsewhere); len(left) > 0 {
			t.Errorf("%s leaves %s", filepath.Base(bad), left[0].Name())
		}
	}
	if left, _ := filepath.Glob(filepath.Join(dir, ".timegate-*")); len(left) > 0 {
		t.Errorf("a copy leaves %v", left)
	}
}
