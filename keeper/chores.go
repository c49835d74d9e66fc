package keeper

import (
	"cmp"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
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
	// printed is how much output has come since outputs were looked at last.
	printed int64
	tidying bool
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

// betweenTidying is how often old outputs are looked for, at most; where much is
// printed it is done when a share of what may be kept has come.
const (
	betweenTidying = 24 * time.Hour
	tidyShare      = 16
)

// tidy takes away what programs printed too long ago, and the oldest of what is
// too much.
func (k *Keeper) tidy(now time.Time) {
	if now.Sub(k.chores.tidied) < betweenTidying {
		return
	}
	k.chores.tidied = now
	k.tidyOutputs(now)
}

// printed counts what has come of output, and tidies when that is much.
func (k *Keeper) printed(bytes int64) {
	least := k.settings.OutputsSize
	if each := k.settings.OutputsEach; each > 0 && (least == 0 || each < least) {
		least = each
	}
	if k.chores.printed += bytes; least > 0 && k.chores.printed > least/tidyShare {
		k.tidyOutputs(k.now())
	}
}

// tidyOutputs lets a worker take outputs away, one at a time.
func (k *Keeper) tidyOutputs(now time.Time) {
	if k.chores.tidying {
		return
	}
	k.chores.tidying, k.chores.printed = true, 0
	rule := tidyRule{all: k.settings.OutputsSize, each: k.settings.OutputsEach, running: map[int64]bool{}}
	// A staged clock says nothing of how old files are.
	if k.settings.Outputs > 0 && !k.ws.Staged() {
		rule.before = now.Add(-k.settings.Outputs)
	}
	for run := range k.programs.running {
		rule.running[run] = true
	}
	go func() {
		files, bytes, err := removeOutputs(k.home.Outputs(), rule, k.accountsOf)
		k.post(input{do: func() {
			k.chores.tidying = false
			if err != nil {
				k.log.Warn("old outputs cannot be taken away", "error", err)
			}
			if files > 0 {
				k.log.Warn("outputs were taken away: programs have printed more than is kept", "outputs", files, "bytes", bytes)
			}
		}})
	}()
}

// accountsOf returns whom runs ran as.
func (k *Keeper) accountsOf(runs []int64) (map[int64]string, error) {
	j, err := k.journal.Reader()
	if err != nil {
		return nil, err
	}
	defer j.Close()
	return j.Accounts(runs)
}

// tidyRule says what of the outputs stays.
type tidyRule struct {
	before    time.Time // older ones go; zero for none
	all, each int64     // bytes, of all and of an account's; 0 for any
	running   map[int64]bool
}

// output is the files of what a run printed.
type output struct {
	run     int64
	account string
	size    int64
	written time.Time
	names   []string
}

// outputsIn lists the outputs in a folder, the oldest run first.
func outputsIn(folder string) ([]*output, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	byRun := map[int64]*output{}
	for _, e := range entries {
		number, _, _ := strings.Cut(e.Name(), ".")
		run, err := strconv.ParseInt(number, 10, 64)
		info, infoErr := e.Info()
		if err != nil || infoErr != nil || !info.Mode().IsRegular() {
			continue
		}
		o := byRun[run]
		if o == nil {
			o = &output{run: run}
			byRun[run] = o
		}
		o.size += info.Size()
		o.names = append(o.names, e.Name())
		if info.ModTime().After(o.written) {
			o.written = info.ModTime()
		}
	}
	return slices.SortedFunc(maps.Values(byRun), func(a, b *output) int { return cmp.Compare(a.run, b.run) }), nil
}

// removeOutputs removes what a rule does not let stay: too old ones, and then
// the oldest of each account, and of all, that are too much. It returns how many
// it took away because they were too much, and their bytes.
func removeOutputs(folder string, rule tidyRule, accountsOf func([]int64) (map[int64]string, error)) (files int, bytes int64, err error) {
	list, err := outputsIn(folder)
	if err != nil || len(list) == 0 {
		return 0, 0, err
	}
	runs := make([]int64, len(list))
	for i, o := range list {
		runs[i] = o.run
	}
	accounts, err := accountsOf(runs)
	if err != nil {
		return 0, 0, err
	}
	var total int64
	totals := map[string]int64{}
	for _, o := range list {
		o.account = accounts[o.run]
		total += o.size
		totals[o.account] += o.size
	}
	for _, o := range list {
		old := !rule.before.IsZero() && o.written.Before(rule.before)
		much := rule.each > 0 && totals[o.account] > rule.each || rule.all > 0 && total > rule.all
		if rule.running[o.run] || !old && !much {
			continue
		}
		for _, name := range o.names {
			err = errors.Join(err, os.Remove(filepath.Join(folder, name)))
		}
		total -= o.size
		totals[o.account] -= o.size
		if !old {
			files, bytes = files+1, bytes+o.size
		}
	}
	return files, bytes, err
}
