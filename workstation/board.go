package workstation

import (
	"reflect"
	"slices"
	"sync"
	"time"

	"timegate/core/engine"
	"timegate/core/phrase"
)

// Notice tells a keeper of something that happened on the machine.
type Notice struct {
	Event   phrase.EventKind // "" where only what holds has changed
	Zone    bool             // the machine has another time zone
	Name    string           // the account, or the [Watch.Key] of what was watched
	Subject string           // what it happened to, such as a device or a mount point
	Text    string           // the line of a log
	Count   int64            // how often, where that is more than once
	Files   []string         // that changed
	Missed  time.Time        // the latest of changes that came while nobody watched; else zero
	Facts   engine.Facts
	// Release lets the machine go on that sleeps or shuts down only then. It
	// is nil where nothing waits.
	Release func()
}

// MostFiles is how many names of files are told together; of more, only their
// number is.
const MostFiles = 100_000

// Board is where the watches of a machine post what they see, and from which
// a keeper takes it in that order. Posting never waits for the keeper.
type Board struct {
	out  chan Notice
	kick chan struct{}
	done chan struct{}

	mu    sync.Mutex // guards what follows
	facts engine.Facts
	queue []Notice
}

// NewBoard returns an empty board.
func NewBoard() *Board {
	b := &Board{out: make(chan Notice), kick: make(chan struct{}, 1), done: make(chan struct{})}
	go b.pump()
	return b
}

// Notices yields what was posted.
func (b *Board) Notices() <-chan Notice { return b.out }

// Facts returns what holds.
func (b *Board) Facts() engine.Facts {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.facts.Clone()
}

// Close ends the board; what is left on it is lost.
func (b *Board) Close() { close(b.done) }

// Learn takes over what holds now. The keeper is told if anything changed.
func (b *Board) Learn(change func(*engine.Facts)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.change(change) {
		b.post(Notice{Facts: b.facts.Clone()})
	}
}

// Post tells of what happened, with a change of what holds that goes with it,
// or nil.
func (b *Board) Post(n Notice, change func(*engine.Facts)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if change != nil {
		b.change(change)
	}
	n.Facts = b.facts.Clone()
	b.post(n)
}

func (b *Board) change(change func(*engine.Facts)) bool {
	before := b.facts.Clone()
	change(&b.facts)
	return !reflect.DeepEqual(before, b.facts.Clone())
}

// post queues a notice. What says no more than one that is still waiting
// becomes one with it, so that a slow keeper is not flooded.
func (b *Board) post(n Notice) {
	if last := len(b.queue) - 1; last >= 0 && n.Event == "" && b.queue[last].Event == "" && !b.queue[last].Zone && !n.Zone {
		b.queue[last] = n
	} else if i := b.sameChange(n); i >= 0 {
		q := &b.queue[i]
		q.Files, q.Count = append(q.Files, n.Files[:min(len(n.Files), max(MostFiles-len(q.Files), 0))]...), q.Count+n.Count
	} else {
		b.queue = append(b.queue, n)
	}
	select {
	case b.kick <- struct{}{}:
	default:
	}
}

func (b *Board) sameChange(n Notice) int {
	if n.Event != phrase.Change || !n.Missed.IsZero() {
		return -1
	}
	return slices.IndexFunc(b.queue, func(q Notice) bool { return q.Event == n.Event && q.Name == n.Name && q.Missed.IsZero() })
}

// pump hands out one notice after the other.
func (b *Board) pump() {
	for {
		b.mu.Lock()
		var next Notice
		some := len(b.queue) > 0
		if some {
			next, b.queue = b.queue[0], b.queue[1:]
		}
		b.mu.Unlock()
		if !some {
			select {
			case <-b.kick:
			case <-b.done:
				return
			}
			continue
		}
		select {
		case b.out <- next:
		case <-b.done:
			return
		}
	}
}
