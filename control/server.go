package control

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"time"

	"timegate/core/gate"
	"timegate/gates"
	"timegate/home"
	"timegate/journal"
)

// Keeper is what a server speaks for. Its methods may be called from any
// goroutine; they return an error where the keeper is ending or the caller has
// gone.
type Keeper interface {
	Status(context.Context) (Status, error)
	// Files returns the gates in force, by name.
	Files(context.Context) (map[string]gates.File, error)
	Command(context.Context, Command) (Answer, error)
	// Journal opens the journal for reading: all of it, or what concerns an
	// account.
	Journal(account string, all bool) (*journal.Journal, error)
	// Hub tells what is committed.
	Hub() *Hub
	// Stage lets something happen on a staged machine.
	Stage(words []string) error
	// ReadFile reads a gate's file as it is now.
	ReadFile(name string) gates.File
}

// Server answers on a home's socket.
type Server struct {
	keeper Keeper
	home   home.Home
	server *http.Server
	closed chan struct{} // for those who follow
}

// Serve opens the control socket and answers on it.
func Serve(k Keeper, h home.Home, log *slog.Logger) (*Server, error) {
	os.Remove(h.Socket) // the lock is the keeper's, so whoever left it is gone
	l, err := net.Listen("unix", h.Socket)
	if err != nil {
		return nil, home.Wrap(h.Socket, err)
	}
	mode := os.FileMode(0o600)
	if h.Scope == gate.System {
		mode = 0o666 // who may do what is decided call by call
	}
	if err := os.Chmod(h.Socket, mode); err != nil {
		l.Close()
		return nil, home.Wrap(h.Socket, err)
	}
	s := &Server{keeper: k, home: h, closed: make(chan struct{})}
	s.server = &http.Server{
		Handler: s.handler(), ReadTimeout: 5 * time.Second, IdleTimeout: 5 * time.Second, MaxHeaderBytes: 8 << 10,
		ConnContext: withCaller, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug),
	}
	go s.server.Serve(&guard{Listener: l, uses: map[int]*use{}, turns: make(chan struct{}, mostOtherTurns)})
	return s, nil
}

func (s *Server) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /status", s.allowed(true, s.status))
	mux.HandleFunc("GET /gates", s.allowed(true, s.showGates))
	mux.HandleFunc("POST /records", s.allowed(true, s.showRecords))
	mux.HandleFunc("GET "+followPath, s.allowed(true, s.follow))
	for _, verb := range []Verb{Open, Stop, Pause, Resume, Send, Reload, Restart, Finish} {
		mux.HandleFunc("POST /"+string(verb), s.allowed(false, func(w http.ResponseWriter, r *http.Request, _ caller) { s.command(w, r, verb) }))
	}
	mux.HandleFunc("POST /stage", s.allowed(false, s.stage))
	return mux
}

// closePatience is how long a server that ends waits for answers that are under way.
const closePatience = time.Second

// Close takes the socket away and ends the server. Who was called already is
// answered.
func (s *Server) Close() {
	os.Remove(s.home.Socket)
	close(s.closed)
	ctx, cancel := context.WithTimeout(context.Background(), closePatience)
	defer cancel()
	if s.server.Shutdown(ctx) != nil {
		s.server.Close()
	}
}

// ErrEnding is what a keeper that ends answers.
var ErrEnding = errors.New("the keeper is ending")

// answer sends a result, or why there is none.
func answer(w http.ResponseWriter, v any, err error) {
	switch {
	case errors.Is(err, ErrEnding):
		http.Error(w, err.Error(), http.StatusServiceUnavailable)
		return
	case err != nil:
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	send(w, v)
}

// writePatience is how long a caller may take to read an answer.
const writePatience = 10 * time.Second

func send(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	http.NewResponseController(w).SetWriteDeadline(time.Now().Add(writePatience)) // not before: what is asked may take its time
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

func (s *Server) status(w http.ResponseWriter, r *http.Request, who caller) {
	st, err := s.keeper.Status(r.Context())
	if err == nil && !who.free {
		var files map[string]gates.File
		files, err = s.keeper.Files(r.Context())
		st = st.visibleTo(who, files)
	}
	answer(w, st, err)
}

// stage lets something happen on a staged machine.
func (s *Server) stage(w http.ResponseWriter, r *http.Request, _ caller) {
	c, ok := decode[Command](w, r)
	if !ok {
		return
	}
	if err := s.keeper.Stage(c.Words); err != nil {
		send(w, Answer{Error: err.Error()})
		return
	}
	send(w, Answer{Known: true})
}

func (s *Server) command(w http.ResponseWriter, r *http.Request, verb Verb) {
	c, ok := decode[Command](w, r)
	if !ok {
		return
	}
	c.Verb = verb
	a, err := s.keeper.Command(r.Context(), c)
	answer(w, a, err)
}
