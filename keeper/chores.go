package keeper

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"timegate/core/calendar"
)

// chores are what a keeper does when nothing else is to be done: it takes old
// history and old outputs away, in small steps, and keeps checkpoints.
type chores struct {
	next   <-chan time.Time
	tidied time.Time
}

// How often chores are looked at, how far apart their steps are, and how far
// away the next start must be for one.
const (
	betweenChores = 6 * time.Hour
	firstChore    = 5 * time.Second // after the keeper began, which has enough to do
	betweenSteps  = 20 * time.Millisecond
	choreRoom     = 100 * time.Millisecond
	// A checkpoint is kept so often, for replays and so that history can be
	// taken away up to it.
	betweenCheckpoints = 24 * time.Hour
	checkpointEvents   = 50_000
)

// due tells when a chore is to be looked at.
func (c *chores) due() <-chan time.Time { return c.next }

func (c *chores) begin() {
	c.next = time.After(firstChore)
}

// chore does one small step, unless something is about to start.
func (k *Keeper) chore() {
	pause := betweenChores
	next, ok := k.engine.Wake()
	switch now := k.now(); {
	case ok && next.Time().Sub(now) < choreRoom:
		pause = 2 * choreRoom
	default:
		k.tidy(now)
		if k.ageStep(now) {
			pause = betweenSteps
		}
	}
	k.chores.next = time.After(pause)
}

// ageStep keeps a checkpoint, or takes a little of the history away. It
// reports whether there is more to do.
func (k *Keeper) ageStep(now time.Time) bool {
	if k.recorder.err != nil {
		return false
	}
	wants, err := k.journal.WantsCheckpoint(calendar.InstantOf(now.Add(-betweenCheckpoints)), checkpointEvents)
	if err == nil && wants {
		if err = k.commit(k.recordsOf(k.recorder.Flush())); err == nil {
			err = k.journal.Checkpoint()
		}
	}
	more := false
	if s := k.settings; err == nil && (s.History > 0 || s.HistorySize > 0) {
		var before calendar.Instant
		if s.History > 0 {
			before = calendar.InstantOf(now.Add(-s.History))
		}
		more, err = k.journal.Age(before, s.HistorySize)
	}
	if err != nil {
		k.log.Warn("old history cannot be taken away", "error", err)
		return false
	}
	return more
}

// betweenTidying is how often old outputs are looked for, at most.
const betweenTidying = 24 * time.Hour

// tidy takes away what programs printed too long ago.
func (k *Keeper) tidy(now time.Time) {
	// A staged clock says nothing of how old files are.
	if k.settings.Outputs == 0 || k.ws.Staged() || now.Sub(k.chores.tidied) < betweenTidying {
		return
	}
	k.chores.tidied = now
	running := map[int64]bool{}
	for run := range k.programs.running {
		running[run] = true
	}
	go removeOutputs(k.home.Outputs(), now.Add(-k.settings.Outputs), running)
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
