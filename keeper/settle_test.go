//go:build linux

package keeper

import (
	"bytes"
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/home"
	"timegate/journal"
	"timegate/startup"
	"timegate/workstation"
)

// TestSettled: how the machine fared after a logon is recorded, from the logon on, and
// nothing follows from it. A second logon meanwhile is not counted again.
func TestSettled(t *testing.T) {
	t.Parallel()
	h := homeWith(t, "job-board", "run = [\"/bin/true\"]\nopens = [\"logon of maren\"]")
	ws := fast(t)
	calm := make(chan struct{})
	asked := make(chan bool, 8)
	k := keepWith(t, h, ws, func(k *Keeper) {
		k.settle = func(_ context.Context, boot bool) (workstation.Strain, error) {
			asked <- boot
			<-calm
			return workstation.Strain{Calm: true, For: 42 * time.Second, Processor: 7 * time.Second}, nil
		}
	})
	for _, word := range []string{"logon", "logoff", "logon"} {
		if err := ws.Stage([]string{word, "maren"}); err != nil {
			t.Fatal(err)
		}
	}
	k.ended("job-board")
	if boot := <-asked; boot {
		t.Error("a logon is taken for a boot")
	}
	close(calm)
	deadline := time.Now().Add(wait)
	var list []engine.Settled
	for len(list) == 0 && time.Now().Before(deadline) {
		j, err := journal.OpenReader(h.Journal())
		if err != nil {
			t.Fatal(err)
		}
		if list, err = j.Settled(10); err != nil {
			t.Fatal(err)
		}
		j.Close()
		time.Sleep(5 * time.Millisecond)
	}
	if len(list) != 1 || list[0].After != phrase.Logon || list[0].Name != "maren" || !list[0].Calm || list[0].For < 42_000 || list[0].Processor != 7000 || len(asked) != 0 {
		t.Errorf("recorded: %+v, asked %d times more", list, len(asked))
	}
	if err := k.end(); err != nil {
		t.Error(err)
	}
}

// lockedBuffer is a buffer that several goroutines may use.
type lockedBuffer struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.buf.Write(p)
}

func (b *lockedBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.buf.String()
}

// TestStartupTold: where the settings want it, what is new among what starts on the
// machine is looked for when something appears, and told; without, nobody looks.
func TestStartupTold(t *testing.T) {
	t.Parallel()
	h := homeWith(t)
	folder := filepath.Join(t.TempDir(), "autostart")
	looked := make(chan struct{}, 64)
	var log lockedBuffer
	keepWith(t, h, fast(t), func(k *Keeper) {
		k.log, k.startupQuiet = slog.New(slog.NewTextHandler(&log, nil)), time.Millisecond
		k.startup = &StartupLook{Folders: []string{folder}, Look: func() ([]startup.Change, error) {
			entries, _ := os.ReadDir(folder)
			defer func() { looked <- struct{}{} }()
			var out []startup.Change
			for _, e := range entries {
				out = append(out, startup.Change{Item: "autostart:" + e.Name(), What: startup.Added, After: &startup.Seen{File: e.Name()}})
			}
			return out, nil
		}}
	})
	if err := os.Mkdir(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	if len(looked) > 0 {
		t.Error("somebody looked without being asked")
	}
	settings := func(text string) {
		if err := home.Replace(h.Settings(), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	settings("[startup]\ntell = true\n")
	<-looked // on beginning to watch
	if err := os.WriteFile(filepath.Join(folder, "board.desktop"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	<-looked
	deadline := time.Now().Add(wait)
	for !strings.Contains(log.String(), "autostart:board.desktop was added") && time.Now().Before(deadline) {
		time.Sleep(5 * time.Millisecond)
	}
	if text := log.String(); !strings.Contains(text, "startup: autostart:board.desktop was added by board.desktop") {
		t.Errorf("it was not told:\n%s", text)
	}
}
