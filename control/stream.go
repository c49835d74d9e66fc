package control

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"sync"
	"time"

	"timegate/journal"
)

// Item is one event that was committed, by its number.
type Item struct {
	Number    int64      `json:"number"`
	At        time.Time  `json:"at"`
	Event     string     `json:"event"`
	Decisions []Decision `json:"decisions"`

	accounts map[string]string // whom the gates run as
}

// NewItem returns what was committed as the socket tells it.
func NewItem(c journal.Committed) Item {
	it := Item{Number: c.Number, At: c.At.Time(), Event: string(c.Kind), Decisions: []Decision{}, accounts: c.Accounts}
	for i := range c.Decisions {
		it.Decisions = append(it.Decisions, NewDecision(&c.Decisions[i]))
	}
	return it
}

// visibleTo returns what a caller may see of an item, and whether that is
// anything.
func (it Item) visibleTo(who caller) (Item, bool) {
	if who.free {
		return it, true
	}
	all := it.Decisions
	it.Decisions = nil
	for _, d := range all {
		if who.account != "" && it.accounts[d.Gate] == who.account {
			it.Decisions = append(it.Decisions, d)
		}
	}
	return it, len(it.Decisions) > 0
}

// Hub holds the last events that were committed, and wakes those who follow.
// Publishing waits for nobody: a reader takes the events at its own pace, and
// one that falls behind what is held is told so.
type Hub struct {
	mu   sync.Mutex // guards what follows
	held []Item     // in order, without gaps
	news chan struct{}
}

// mostHeld is how many events a hub holds.
const mostHeld = 4096

// NewHub returns an empty hub.
func NewHub() *Hub { return &Hub{news: make(chan struct{})} }

// Publish tells of an event.
func (h *Hub) Publish(it Item) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.held = append(h.held, it); len(h.held) > 2*mostHeld {
		h.held = append([]Item(nil), h.held[len(h.held)-mostHeld:]...)
	}
	close(h.news)
	h.news = make(chan struct{})
}

// ErrBehind is returned to a reader that asks for events that are not held any
// more. The journal has them.
var ErrBehind = errors.New("these events are no longer held: read the history, and follow from the last number on")

// After returns the events that are held after a number, and a channel that is
// closed when there are more.
func (h *Hub) After(number int64) ([]Item, <-chan struct{}, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.held) == 0 || h.held[len(h.held)-1].Number <= number {
		return nil, h.news, nil
	}
	first := h.held[0].Number
	if number+1 < first {
		return nil, h.news, ErrBehind
	}
	rest := h.held[number+1-first:]
	return rest[:len(rest):len(rest)], h.news, nil
}

// Last returns the number of the last event, 0 where there was none yet.
func (h *Hub) Last() int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.held) == 0 {
		return 0
	}
	return h.held[len(h.held)-1].Number
}

// recorded returns the next events that the journal has after a number.
func recorded(j *journal.Journal, after int64) ([]Item, error) {
	const atOnce = 500
	list, err := j.Committed(after, atOnce)
	out := make([]Item, len(list))
	for i := range list {
		out[i] = NewItem(list[i])
	}
	return out, err
}

// How long a reader may take for what it is sent, and how often it hears that
// the keeper is still there.
const (
	readerPatience = 5 * time.Second
	heartbeat      = 30 * time.Second
)

// follow sends events as they are committed (server-sent events; HTML Living
// Standard, "Server-sent events"): those after the number in ?after, or from
// now on.
func (s *Server) follow(w http.ResponseWriter, r *http.Request, who caller) {
	from := follower{hub: s.keeper.Hub()}
	from.at = from.hub.Last()
	if text := r.URL.Query().Get("after"); text != "" {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n < 0 {
			http.Error(w, "after is the number of an event", http.StatusBadRequest)
			return
		}
		from.at = n
	}
	to := eventWriter{w, http.NewResponseController(w)}
	to.out.SetReadDeadline(time.Time{}) // it goes on for as long as the reader is there
	w.Header().Set("Content-Type", "text/event-stream")
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	var err error
	if from.past, err = s.keeper.Journal(who.account, who.free); err != nil {
		to.send("behind", from.at, err.Error())
		return
	}
	defer from.close()
	for {
		items, news, err := from.next()
		if err != nil {
			to.send("behind", from.at, err.Error())
			return
		}
		for _, it := range items {
			from.at = it.Number
			if seen, ok := it.visibleTo(who); ok && to.send("committed", it.Number, seen) != nil {
				return
			}
		}
		if len(items) > 0 {
			continue
		}
		select {
		case <-news:
		case <-beat.C:
			if to.send("alive", from.at, nil) != nil {
				return
			}
		case <-r.Context().Done():
			return
		case <-s.closed:
			return
		}
	}
}

// follower reads what was committed after a number: from the journal, until it
// has caught up with the hub.
type follower struct {
	hub  *Hub
	past *journal.Journal // nil once it has caught up
	at   int64
}

// next returns what comes after at. Where that is nothing yet, the channel is
// closed when there is more.
func (f *follower) next() ([]Item, <-chan struct{}, error) {
	items, news, err := f.hub.After(f.at)
	switch {
	case err != nil && f.past != nil: // the journal has what is not held any more
		if items, err = recorded(f.past, f.at); err == nil && len(items) == 0 {
			err = ErrBehind // it was aged away
		}
	case err == nil && f.past != nil && len(items) == 0:
		f.close() // who has once come up must keep up
	}
	return items, news, err
}

func (f *follower) close() {
	if f.past != nil {
		f.past.Close()
		f.past = nil
	}
}

// eventWriter writes server-sent events to a reader that takes them in time.
type eventWriter struct {
	w   io.Writer
	out *http.ResponseController
}

func (e eventWriter) send(event string, id int64, v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	e.out.SetWriteDeadline(time.Now().Add(readerPatience))
	if _, err := fmt.Fprintf(e.w, "event: %s\nid: %d\ndata: %s\n\n", event, id, text); err != nil {
		return err
	}
	return e.out.Flush()
}
