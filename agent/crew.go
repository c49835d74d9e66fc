package agent

import (
	"log/slog"
	"slices"
	"sync"

	"timegate/core/engine"
	"timegate/home"
	"timegate/launch"
	"timegate/workstation"
)

// An Event is what an agent tells its keeper.
type Event struct {
	Agent *Agent
	// Body tells of a run, or of something that was watched. It is nil where a
	// run of an earlier keeper was found, or where it has changed which paths are
	// there.
	Body  engine.Body
	Found int64
	Over  bool  // that a run has ended comes next
	Ago   int64 // how long ago a run has started or ended, in milliseconds
}

// Crew are the agents of a keeper, one for each account that has gates here.
// Its methods return at once and may be called from any goroutine.
type Crew struct {
	home   home.Home
	secret home.Secret
	launch launch.Launcher
	log    *slog.Logger
	tell   func(Event) // may block, and then holds up the one agent

	mu     sync.Mutex // guards what follows
	agents map[string]*Agent
	closed bool
	show   func([]byte) // is given what is printed, in place of the files of outputs
	fresh  bool         // runs that are not known belong to a journal that is no more
}

// NewCrew returns a crew without agents. What they tell is passed to tell, in
// order for each of them.
func NewCrew(h home.Home, secret home.Secret, log *slog.Logger, tell func(Event)) *Crew {
	return &Crew{home: h, secret: secret, launch: launch.Launcher{Home: h}, log: log, tell: tell, agents: map[string]*Agent{}}
}

// Of returns the agent of an account, by the name that
// [timegate/core/gate.Gate.Account] gives it. It is called or started where that
// has not been done yet.
func (c *Crew) Of(account string) *Agent { return c.with(account, nil) }

// Resume lets the agent of an account take up runs of an earlier keeper. It
// tells of each whether it goes on or how it has ended.
func (c *Crew) Resume(account string, runs []Alive) *Agent { return c.with(account, runs) }

func (c *Crew) with(account string, resumed []Alive) *Agent {
	if launch.OwnAccount(account) {
		account = ""
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	a := c.agents[account]
	if a == nil {
		a = newAgent(c, account)
		a.resume(resumed) // before it is asked how much of their output there is
		c.agents[account] = a
		if !c.closed {
			go a.serve()
		}
		return a
	}
	a.resume(resumed)
	return a
}

// Fresh says that the keeper has begun a new journal: runs that agents hold and
// that are not known belong to the one before, and are left alone.
func (c *Crew) Fresh(fresh bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.fresh = fresh
}

func (c *Crew) isFresh() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.fresh
}

// Mark is the secret mark of a run.
func (c *Crew) Mark(run int64) string { return c.secret.Mark(run) }

// Watch says what the gates of each account depend on, in place of what was
// said before; accounts that are not named have no gates here, and need no
// agent once nothing of them runs any more. The channel is closed when all is
// looked at.
func (c *Crew) Watch(wants map[string]workstation.Wants) (known <-chan struct{}) {
	merged := map[string]workstation.Wants{}
	for account, w := range wants {
		if launch.OwnAccount(account) {
			account = ""
		}
		m := merged[account]
		m.Watches, m.Places = append(m.Watches, w.Watches...), append(m.Places, w.Places...)
		merged[account] = m
	}
	for account := range merged {
		c.Of(account)
	}
	var waits []<-chan struct{}
	for _, a := range c.all() {
		w, has := merged[a.account]
		waits = append(waits, a.watch(w, has))
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for _, w := range waits {
			<-w
		}
	}()
	return done
}

func (c *Crew) all() []*Agent {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := make([]*Agent, 0, len(c.agents))
	for _, a := range c.agents {
		out = append(out, a)
	}
	return out
}

// PIDs are the process numbers of the agents at hand.
func (c *Crew) PIDs() []int {
	var out []int
	for _, a := range c.all() {
		if pid := a.PID(); pid != 0 {
			out = append(out, pid)
		}
	}
	return out
}

// Places returns the paths that are there, as [engine.Facts] has them.
func (c *Crew) Places() []string {
	var out []string
	for _, a := range c.all() {
		out = append(out, a.places()...)
	}
	slices.Sort(out)
	return out
}

// Troubles lists what cannot be told or done.
func (c *Crew) Troubles() []workstation.Trouble {
	var out []workstation.Trouble
	for _, a := range c.all() {
		out = append(out, a.troublesNow()...)
	}
	return out
}

// Close lets all agents go. Those that hold runs go on and wait for the next
// keeper.
func (c *Crew) Close() {
	c.mu.Lock()
	c.closed = true
	c.mu.Unlock()
	for _, a := range c.all() {
		a.close()
	}
}
