package keeper

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// betweenTidying is how often old outputs are looked for, at most. A keeper
// does not wake up for that: it follows the end of a run.
const betweenTidying = 24 * time.Hour

// tidy takes away what programs printed too long ago.
func (k *Keeper) tidy() {
	now := k.ws.Now()
	// A staged clock says nothing of how old files are.
	if k.outputs == 0 || k.ws.Staged() || now.Sub(k.tidied) < betweenTidying {
		return
	}
	k.tidied = now
	running := map[int64]bool{}
	for run := range k.procs {
		running[run] = true
	}
	go removeOutputs(k.home.Outputs(), now.Add(-k.outputs), running)
}

// removeOutputs removes the files of runs that were last written before a
// time, except of those that still run.
func removeOutputs(folder string, before time.Time, running map[int64]bool) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return
	}
	for _, e := range entries {
		number, _, _ := strings.Cut(e.Name(), ".")
		run, err := strconv.ParseInt(number, 10, 64)
		if err != nil || running[run] {
			continue
		}
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() && info.ModTime().Before(before) {
			os.Remove(filepath.Join(folder, e.Name()))
		}
	}
}
