package control

import (
	"context"
	"net"
	"net/http"
	"os"
	"sync"

	"golang.org/x/time/rate"

	"timegate/core/gate"
	"timegate/launch"
	"timegate/workstation/accounts"
	"timegate/workstation/peer"
)

// Who may do what at a keeper: whoever has its own rights, and root, all of
// it. At the keeper of the system scope others see what runs as themselves,
// and change nothing. Who calls, the kernel says (SO_PEERCRED in unix(7)).

// What one account may take up of a keeper.
const (
	mostCalls = 16 // connections at a time
	mostTurns = 2  // of them that are answered at a time
	ownCalls  = 256
	callRate  = 20 // requests a second
	callBurst = 60
	mostKnown = 256 // accounts whose use is remembered
	// All of those who may not do all, together: an account may have many
	// numbers (subuid(5)). What is beyond is for root.
	mostOthers     = 256
	mostOtherTurns = 8
)

// caller is who is at the other end of a connection.
type caller struct {
	uid     int
	account string // its name; "" where there is none of that number, or where it does not matter
	use     *use
	free    bool // may do all
}

// use is what an account takes up of the keeper.
type use struct {
	calls int
	turns chan struct{} // holds one for each call that is being answered
	// shared are the turns of all who may not do all.
	shared chan struct{}
	pace   *rate.Limiter
}

// guard accepts connections, and turns away those of an account that has too
// many already, so that nobody can take up what others need.
type guard struct {
	net.Listener
	mu     sync.Mutex // guards what follows
	uses   map[int]*use
	others int           // connections of those who may not do all
	turns  chan struct{} // holds one for each of their calls that is being answered
}

// guarded is a connection that is counted.
type guarded struct {
	net.Conn
	caller caller
	once   sync.Once
	done   func()
}

func (c *guarded) Close() error {
	c.once.Do(c.done)
	return c.Conn.Close()
}

func (g *guard) Accept() (net.Conn, error) {
	for {
		c, err := g.Listener.Accept()
		if err != nil {
			return nil, err
		}
		who := caller{uid: peer.UID(c)}
		who.free = who.uid == 0 || who.uid == os.Getuid()
		if u := g.admit(who); u != nil {
			who.use = u
			return &guarded{Conn: c, caller: who, done: func() { g.leave(u, who.free) }}, nil
		}
		c.Close()
	}
}

// admit counts a connection; it returns nil where that is one too many.
func (g *guard) admit(who caller) *use {
	g.mu.Lock()
	defer g.mu.Unlock()
	u := g.uses[who.uid]
	if u == nil {
		g.forget()
		u = &use{turns: make(chan struct{}, mostTurns), shared: g.turns, pace: rate.NewLimiter(callRate, callBurst)}
		g.uses[who.uid] = u
	}
	limit := mostCalls
	if who.free {
		limit = ownCalls
	}
	if u.calls >= limit || who.uid == peer.Unknown || !who.free && g.others >= mostOthers {
		return nil
	}
	u.calls++
	if !who.free {
		g.others++
	}
	return u
}

func (g *guard) leave(u *use, free bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	u.calls--
	if !free {
		g.others--
	}
}

// forget drops accounts that have not called for a while, where there are many.
func (g *guard) forget() {
	if len(g.uses) < mostKnown {
		return
	}
	for uid, u := range g.uses {
		if u.calls == 0 && u.pace.Tokens() >= callBurst-1 {
			delete(g.uses, uid)
		}
	}
}

// followPath is where events are followed.
const followPath = "/events"

type callerKey struct{}

func withCaller(ctx context.Context, c net.Conn) context.Context {
	if g, ok := c.(*guarded); ok {
		return context.WithValue(ctx, callerKey{}, g.caller)
	}
	return ctx
}

// allowed lets those pass who may call at all, and not faster than they may.
// Those who are not free get through to what only shows things.
func (s *Server) allowed(shows bool, next func(w http.ResponseWriter, r *http.Request, who caller)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		who, ok := r.Context().Value(callerKey{}).(caller)
		switch {
		case ok && who.free:
		case !ok || s.home.Scope != gate.System:
			http.Error(w, "this keeper is another person's", http.StatusForbidden)
			return
		case !shows:
			http.Error(w, "only root may do that at the system's keeper", http.StatusForbidden)
			return
		default:
			if err := who.use.pace.Wait(r.Context()); err != nil {
				return // the caller has gone
			}
			turnsOf := []chan struct{}{who.use.turns, who.use.shared}
			if r.URL.Path == followPath {
				turnsOf = turnsOf[:1] // it stays, and only its connection counts for all
			}
			for _, turns := range turnsOf {
				select {
				case turns <- struct{}{}:
					defer func() { <-turns }()
				case <-r.Context().Done():
					return
				}
			}
			who.account = accounts.NameOf(who.uid)
		}
		next(w, r, who)
	}
}

// sees reports whether a caller may see a gate.
func (c caller) sees(g *gate.Gate) bool {
	return c.free || g != nil && c.account != "" && launch.AccountName(g) == c.account
}
