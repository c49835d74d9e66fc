// Package tell brings notices to people: to their desktops, to the machine's log, by mail.
// What is told it does not decide ([timegate/core/tell]).
package tell

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"sync"
	"time"

	"timegate/core/tell"
	"timegate/home"
)

// Message is what is told at once.
type Message struct {
	Host    string
	Notices []tell.Notice
	More    int // how many were left out before them
}

// Title says in a line what the message is about.
func (m *Message) Title() string {
	if len(m.Notices) == 1 && m.More == 0 {
		return m.Notices[0].Line()
	}
	return fmt.Sprintf("%d notices of %s", len(m.Notices)+m.More, m.Host)
}

// Urgent reports whether something is not well.
func (m *Message) Urgent() bool {
	for i := range m.Notices {
		if !m.Notices[i].Well {
			return true
		}
	}
	return false
}

// Channel is a way to people.
type Channel interface {
	Name() string
	// Tell brings a message. A [*LaterError] says whom it could not be brought to now.
	Tell(ctx context.Context, m Message) error
}

// LaterError is returned by a channel at whose end somebody is not there now.
type LaterError struct {
	Left []tell.Notice // what is still to be told
}

func (*LaterError) Error() string { return "nobody is there" }

// FailedError is returned by a channel that told, and where that failed: it is not tried
// again.
type FailedError struct{ Err error }

func (e *FailedError) Error() string { return e.Err.Error() }

// Options say how is told.
type Options struct {
	File     string // what is kept
	Host     string
	Channels []Channel
	Log      *slog.Logger
	// Gather is how long is waited for more, and Pause how long between two messages of a
	// channel at least.
	Gather, Pause time.Duration
}

// most is how many notices wait for a channel at most; the oldest are left out.
const most = 100

// patience is how long a channel may take.
const patience = 20 * time.Second

// lookAgain is how long is waited for somebody before one looks again.
const lookAgain = 5 * time.Minute

// kept is what is kept over restarts.
type kept struct {
	tell.State
	Waiting map[string]*waiting `json:"waiting"` // by channel
}

// waiting are notices that a channel has not told yet.
type waiting struct {
	Notices []tell.Notice `json:"notices"`
	More    int           `json:"more,omitempty"`
}

// Teller tells. Its methods wait for nobody.
type Teller struct {
	o    Options
	news chan struct{}

	mu     sync.Mutex // guards what follows
	kept   kept
	dirty  bool
	saved  int64                // how far was looked, as it is kept
	lately map[string]time.Time // when a channel told last
}

// New returns a teller that goes on where the one before it ended. fresh says that there was
// none: what has happened so far is nothing new.
func New(o Options) (t *Teller, fresh bool, err error) {
	t = &Teller{o: o, news: make(chan struct{}, 1), lately: map[string]time.Time{}}
	data, err := home.ReadPlain(o.File, 1<<20)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return t, true, nil
	case err != nil:
		return t, true, err
	}
	if err := json.Unmarshal(data, &t.kept); err != nil {
		t.kept = kept{}
		return t, true, fmt.Errorf("%s: %w", o.File, err)
	}
	return t, false, nil
}

// Update lets a function change what has been told, and takes what it wants told.
func (t *Teller) Update(f func(s *tell.State) []tell.Notice) {
	t.mu.Lock()
	defer t.mu.Unlock()
	const far = 1000 // events, after which it is kept how far was looked
	list := f(&t.kept.State)
	if t.dirty = t.dirty || len(list) > 0 || t.kept.After-t.saved > far; len(list) == 0 {
		return
	}
	if t.kept.Waiting == nil {
		t.kept.Waiting = map[string]*waiting{}
	}
	for _, c := range t.o.Channels {
		w := t.kept.Waiting[c.Name()]
		if w == nil {
			w = &waiting{}
			t.kept.Waiting[c.Name()] = w
		}
		w.Notices = append(w.Notices, list...)
		if over := len(w.Notices) - most; over > 0 {
			w.Notices, w.More = w.Notices[over:], w.More+over
		}
	}
	t.wake()
}

// After returns the number of the last event that was looked at.
func (t *Teller) After() int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.kept.After
}

// Wake lets be tried again what could not be told: somebody may be there now.
func (t *Teller) Wake() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.lately = map[string]time.Time{}
	t.wake()
}

func (t *Teller) wake() {
	select {
	case t.news <- struct{}{}:
	default: // it is awake
	}
}

// Run tells until the context ends.
func (t *Teller) Run(ctx context.Context) {
	t.wake() // what was left
	for {
		select {
		case <-ctx.Done():
			t.end()
			return
		case <-t.news:
		}
		t.save()
		if !sleep(ctx, t.o.Gather) {
			t.end()
			return
		}
		if next := t.tellAll(ctx); next > 0 {
			time.AfterFunc(next, t.wake)
		}
		t.save()
	}
}

func sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// tellAll tells what waits, and returns when to try again; 0 for not by itself.
func (t *Teller) tellAll(ctx context.Context) (next time.Duration) {
	soonest := func(d time.Duration) {
		if next == 0 || d < next {
			next = d
		}
	}
	for _, c := range t.o.Channels {
		m, rest := t.message(c.Name())
		if len(m.Notices) == 0 {
			continue
		}
		if rest > 0 {
			soonest(rest)
			continue
		}
		one, done := context.WithTimeout(ctx, patience)
		err := c.Tell(one, m)
		done()
		later, isLater := errors.AsType[*LaterError](err)
		_, failed := errors.AsType[*FailedError](err)
		switch {
		case err == nil:
			t.told(c.Name(), len(m.Notices), nil)
		case isLater: // [Teller.Wake] comes when somebody does, where the keeper hears of that
			t.told(c.Name(), len(m.Notices), later.Left)
			soonest(lookAgain)
		case failed:
			t.o.Log.Warn("a notice was told in vain", "by", c.Name(), "error", err)
			t.told(c.Name(), len(m.Notices), nil)
		default:
			t.o.Log.Warn("a notice could not be told", "by", c.Name(), "error", err)
			t.told(c.Name(), 0, nil)
			soonest(t.o.Pause)
		}
	}
	return next
}

// message returns what waits for a channel, and how long it must still pause.
func (t *Teller) message(channel string) (Message, time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	w := t.kept.Waiting[channel]
	if w == nil {
		return Message{}, 0
	}
	rest := time.Duration(0)
	if last, told := t.lately[channel]; told {
		rest = t.o.Pause - time.Since(last)
	}
	return Message{Host: t.o.Host, Notices: append([]tell.Notice(nil), w.Notices...), More: w.More}, rest
}

// told notes that a channel has told so many notices, but for some that are left.
func (t *Teller) told(channel string, n int, left []tell.Notice) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(left) < n || n == 0 { // something was told, or tried
		t.lately[channel] = time.Now()
	}
	w := t.kept.Waiting[channel]
	if w == nil || n == 0 {
		return
	}
	if len(left) < n {
		w.More, t.dirty = 0, true
	}
	w.Notices = append(slices.Clone(left), w.Notices[min(n, len(w.Notices)):]...)
}

// end keeps all, however little has changed.
func (t *Teller) end() {
	t.mu.Lock()
	t.dirty = true
	t.mu.Unlock()
	t.save()
}

// save keeps what has changed.
func (t *Teller) save() {
	t.mu.Lock()
	data, err := json.Marshal(&t.kept)
	dirty := t.dirty
	t.dirty, t.saved = false, t.kept.After
	t.mu.Unlock()
	if err == nil && dirty {
		err = home.Replace(t.o.File, data, 0o600)
	}
	if err != nil {
		t.o.Log.Warn("what was told could not be kept", "file", t.o.File, "error", err)
	}
}
