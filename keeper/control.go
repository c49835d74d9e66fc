package keeper

import (
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/workstation"
)

// The control socket speaks HTTP with JSON. A request is answered on the
// keeper's goroutine, between two events.

// Status is what a keeper tells of itself.
type Status struct {
	PID        int                   `json:"pid"`
	Began      time.Time             `json:"began"`
	Now        time.Time             `json:"now"`
	Zone       string                `json:"zone"`
	Staged     bool                  `json:"staged"`
	Paused     bool                  `json:"paused"`
	PausedAt   *time.Time            `json:"paused_since,omitempty"`
	PauseUntil *time.Time            `json:"pause_until,omitempty"`
	Next       *time.Time            `json:"next,omitempty"`
	Running    int                   `json:"running"`
	Gates      map[string]GateStatus `json:"gates"`
	Broken     gate.Findings         `json:"broken"`
	Facts      engine.Facts          `json:"facts"`
	Troubles   []workstation.Trouble `json:"troubles"`
}

// GateStatus is what goes on with a gate.
type GateStatus struct {
	Next    *time.Time `json:"next,omitempty"`
	Opening string     `json:"opening,omitempty"`
	Running []int64    `json:"running,omitempty"`
	Queued  bool       `json:"queued,omitempty"`
	Waiting string     `json:"waiting,omitempty"` // what a start waits for
}

// Command is what a keeper is asked to do.
type Command struct {
	Gate  string     `json:"gate,omitempty"`
	Name  string     `json:"name,omitempty"` // of a signal
	Until *time.Time `json:"until,omitempty"`
	Words []string   `json:"words,omitempty"` // of what is to be staged
}

// Answer is what came of a command.
type Answer struct {
	Decisions []engine.Decision `json:"decisions"`
	Error     string            `json:"error,omitempty"`
	Known     bool              `json:"known"` // the gate exists
}

type controlServer struct {
	server *http.Server
	path   string
}

// listen opens the control socket and answers on it.
func (k *Keeper) listen() (*controlServer, error) {
	os.Remove(k.home.Socket) // the lock is ours, so whoever left it is gone
	l, err := net.Listen("unix", k.home.Socket)
	if err != nil {
		return nil, homeError(k.home.Socket, err)
	}
	mode := os.FileMode(0o600)
	if k.home.Scope == gate.System {
		mode = 0o666 // who may do what is decided call by call
	}
	if err := os.Chmod(k.home.Socket, mode); err != nil {
		l.Close()
		return nil, homeError(k.home.Socket, err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /status", k.allowed(true, func(w http.ResponseWriter, r *http.Request, who caller) {
		k.answer(w, r, func() any { return k.status().seenBy(who, k.files) })
	}))
	mux.HandleFunc("GET /gates", k.allowed(true, k.showGates))
	mux.HandleFunc("POST /records", k.allowed(true, k.showRecords))
	for path, kind := range map[string]engine.EventKind{
		"/open": engine.Open, "/stop": engine.Stop, "/pause": engine.Pause, "/resume": engine.Resume, "/send": engine.Signal,
	} {
		mux.HandleFunc("POST "+path, k.allowed(false, func(w http.ResponseWriter, r *http.Request, _ caller) { k.command(w, r, kind) }))
	}
	mux.HandleFunc("POST /stage", k.allowed(false, k.stage))
	s := &http.Server{
		Handler: mux, ReadTimeout: 5 * time.Second, WriteTimeout: 10 * time.Second, IdleTimeout: 5 * time.Second, MaxHeaderBytes: 8 << 10,
		ConnContext: withCaller, ErrorLog: slog.NewLogLogger(k.log.Handler(), slog.LevelDebug),
	}
	l = &guard{Listener: l, uses: map[int]*use{}}
	go s.Serve(l)
	return &controlServer{server: s, path: k.home.Socket}, nil
}

func (c *controlServer) close() {
	c.server.Close()
	os.Remove(c.path)
}

// ask calls f on the keeper's goroutine. It answers where the keeper is
// ending, and returns false then.
func (k *Keeper) ask(w http.ResponseWriter, r *http.Request, f func()) bool {
	done := make(chan struct{})
	select {
	case k.calls <- func() { f(); close(done) }:
		<-done
		return true
	case <-k.gone:
		http.Error(w, errGone.Error(), http.StatusServiceUnavailable)
	case <-r.Context().Done():
	}
	return false
}

// answer sends what f returns on the keeper's goroutine.
func (k *Keeper) answer(w http.ResponseWriter, r *http.Request, f func() any) {
	var result any
	if k.ask(w, r, func() { result = f() }) {
		send(w, result)
	}
}

func send(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v)
}

// decode reads what is asked; it answers where that cannot be done.
func decode[T any](w http.ResponseWriter, r *http.Request) (v T, ok bool) {
	dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&v); err != nil && !errors.Is(err, io.EOF) {
		http.Error(w, "the request is not understood: "+err.Error(), http.StatusBadRequest)
		return v, false
	}
	return v, true
}

// stager is a workstation on which events can be staged.
type stager interface{ Stage(words []string) error }

// stage lets something happen on a staged machine.
func (k *Keeper) stage(w http.ResponseWriter, r *http.Request, _ caller) {
	c, ok := decode[Command](w, r)
	if !ok {
		return
	}
	k.answer(w, r, func() any {
		machine, ok := k.ws.(stager)
		if !ok {
			return Answer{Error: "this keeper keeps a real machine, on which nothing is staged"}
		}
		if err := machine.Stage(c.Words); err != nil {
			return Answer{Error: err.Error()}
		}
		return Answer{Known: true}
	})
}

func (k *Keeper) command(w http.ResponseWriter, r *http.Request, kind engine.EventKind) {
	c, ok := decode[Command](w, r)
	if !ok {
		return
	}
	k.answer(w, r, func() any { return k.obey(kind, c) })
}

// obey turns a command into an event.
func (k *Keeper) obey(kind engine.EventKind, c Command) Answer {
	ev := engine.Event{Kind: kind, At: k.now(), Gate: c.Gate, Name: c.Name}
	if kind == engine.Open || kind == engine.Stop || kind == engine.Signal {
		// A file that was written a moment ago counts.
		if err := k.reload(); err != nil {
			k.log.Error("the gates cannot be read; the last good ones go on", "error", err)
		}
	}
	if kind == engine.Open || kind == engine.Stop {
		if _, ok := k.engine.Status(c.Gate); !ok {
			a := Answer{}
			if found := k.broken[c.Gate]; len(found) > 0 {
				a.Error = found.Error()
			}
			return a
		}
	}
	if c.Until != nil {
		ev.Until = calendar.InstantOf(*c.Until)
	}
	return Answer{Decisions: k.handle(ev), Known: true}
}

func (k *Keeper) status() Status {
	s := Status{PID: os.Getpid(), Began: k.began, Now: k.ws.Now(), Zone: k.ws.Zone().Name(), Staged: k.ws.Staged(),
		Running: k.engine.Alive(), Gates: map[string]GateStatus{}, Broken: gate.Findings{},
		Facts: k.ws.Facts(), Troubles: append([]workstation.Trouble{}, k.troubles()...)}
	paused, since, until := k.engine.Paused()
	if s.Paused = paused; paused {
		s.PausedAt, s.PauseUntil = timeOf(since), timeOf(until)
	}
	for name := range k.files {
		st, _ := k.engine.Status(name)
		next := timeOf(st.Next)
		s.Gates[name] = GateStatus{Next: next, Opening: st.Opening, Running: st.Running, Queued: st.Queued, Waiting: st.Waiting}
		if next != nil && (s.Next == nil || next.Before(*s.Next)) {
			s.Next = next
		}
	}
	for _, found := range k.broken {
		s.Broken = append(s.Broken, found...)
	}
	return s
}

// timeOf returns an instant as a time, and nil for none.
func timeOf(at calendar.Instant) *time.Time {
	if at == 0 {
		return nil
	}
	t := at.Time()
	return &t
}
