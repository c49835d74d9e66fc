package agent

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"timegate/home"
	"timegate/workstation"
)

// What is taken of an agent.
const (
	mostQueued  = 20_000 // requests that wait for it
	reportRate  = 2_000  // reports a second
	reportBurst = 20_000
	outputRate  = 64 << 20  // bytes a second
	wordsRate   = 256 << 10 // bytes a second of all that is no output
	wordsBurst  = 32 << 20
	noticeRate  = 12 // notices a second, of each thing that is watched
	noticeBurst = 200
	textMost    = 2 << 10 // bytes of a message
	filesMost   = 10_000  // names in a notice
	placesMost  = 10_000
)

// How long an agent may take to answer when it is called, and to take what it
// is told; and how long a keeper waits before it renews one.
const (
	callPatience  = 10 * time.Second
	writePatience = 10 * time.Second
	firstPause    = 100 * time.Millisecond
	longestPause  = time.Minute
)

// Agent is the keeper's side of an agent.
type Agent struct {
	crew    *Crew
	account string // "" for the keeper's own
	kick    chan struct{}
	done    chan struct{}
	pace    *rate.Limiter
	volume  *rate.Limiter
	words   *rate.Limiter
	notices *rate.Limiter

	mu       sync.Mutex // guards what follows
	queue    []request
	runs     map[int64]*keptRun
	wants    workstation.Wants
	kinds    map[string]workstation.Watch // what it may give notice of
	there    []string
	known    chan struct{} // closed when the places are known; nil where they are
	troubles []workstation.Trouble
	err      error     // why it is not to be had
	needed   bool      // the account has gates
	link     *link     // nil while there is none
	lost     time.Time // when the last conversation ended; zero before the first
	asked    map[int64]chan content
	asks     int64
	given    map[int64]func() // starts that were given up
	over     bool
}

// keptRun is a run as the keeper knows it.
type keptRun struct {
	alive   Alive
	job     *Job // until the start is on its way
	sent    bool // the start is on its way, or was in an earlier agent
	resumed bool // an earlier keeper has begun its output
	started bool
	out     *home.Output
	shown   int64
	signal  string // what its processes were sent last: each agent is told it anew
}

func newAgent(c *Crew, account string) *Agent {
	known := make(chan struct{})
	close(known)
	return &Agent{crew: c, account: account, kick: make(chan struct{}, 1), done: make(chan struct{}), runs: map[int64]*keptRun{}, asked: map[int64]chan content{}, given: map[int64]func(){},
		kinds: map[string]workstation.Watch{}, known: known, needed: true, pace: rate.NewLimiter(reportRate, reportBurst), volume: rate.NewLimiter(outputRate, outputRate), words: rate.NewLimiter(wordsRate, wordsBurst), notices: rate.NewLimiter(2*noticeRate, noticeBurst)}
}

// name is what people know the agent's account by.
func (a *Agent) name() string {
	if a.account == "" {
		return home.Account()
	}
	return a.account
}

// resume takes over runs of an earlier keeper.
func (a *Agent) resume(runs []Alive) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, r := range runs {
		a.runs[r.Run] = &keptRun{alive: r, sent: true, resumed: true, started: r.PID != 0, signal: r.Signal}
	}
}

// Prepare makes a run ready to start.
func (a *Agent) Prepare(j *Job) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.needed = true
	a.runs[j.Run] = &keptRun{alive: Alive{Run: j.Run, Mark: j.Mark, Keep: j.Gate.Limits.Output, Readings: j.Gate.Measure, Rest: j.Rest}, job: j}
	a.send(request{Prepare: j})
}

// Start starts a run that was prepared. What comes of it is told: that it has
// started, or why not, and how it has ended.
func (a *Agent) Start(run int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if r := a.runs[run]; r != nil {
		r.sent = true
		a.send(request{Start: run})
	}
}

// Drop lets a run go that was prepared.
func (a *Agent) Drop(run int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.runs, run)
	a.send(request{Drop: run})
}

// End sends TERM or KILL to all processes of a run. That is wanted until the run is
// over: whatever becomes of the agent, the next one is told it, too.
func (a *Agent) End(run int64, signal string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if r := a.runs[run]; r != nil && r.signal != "KILL" {
		r.signal = signal
	}
	a.send(request{End: &ending{run, signal}})
}

// Forget says that what became of a run is recorded.
func (a *Agent) Forget(run int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.runs, run)
	a.send(request{Forget: run})
	a.letLeave()
}

// Abandon gives a run up that does not come to start. If it does after all, it
// is ended. back is called when its start is over.
func (a *Agent) Abandon(run int64, back func()) {
	a.mu.Lock()
	delete(a.runs, run)
	a.given[run] = back
	a.mu.Unlock()
	go a.doubt()
}

// cameBack notes that a start that was given up is over, if it was.
func (a *Agent) cameBack(run int64) {
	a.mu.Lock()
	back := a.given[run]
	delete(a.given, run)
	a.mu.Unlock()
	if back != nil {
		back()
	}
}

// doubt renews the agent if it does not answer.
func (a *Agent) doubt() {
	ctx, cancel := context.WithTimeout(context.Background(), callPatience)
	defer cancel()
	if _, err := a.Read(ctx, "", 0); errors.Is(err, context.DeadlineExceeded) {
		a.mu.Lock()
		defer a.mu.Unlock()
		if a.link != nil {
			a.link.fail(errors.New("it does not answer"))
		}
	}
}

// Read reads a plain file with the account's rights, up to so many bytes.
func (a *Agent) Read(ctx context.Context, path string, most int64) ([]byte, error) {
	c, err := a.read(ctx, path, most)
	return c.Data, err
}

func (a *Agent) read(ctx context.Context, path string, most int64) (content, error) {
	answer := make(chan content, 1)
	a.mu.Lock()
	a.asks++
	id := a.asks
	a.asked[id] = answer
	a.send(request{Read: &read{ID: id, Path: path, Most: most}})
	a.mu.Unlock()
	defer func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		delete(a.asked, id)
	}()
	select {
	case c := <-answer:
		if c.Error != "" {
			return content{}, errors.New(clip(c.Error))
		}
		c.Data = c.Data[:min(int64(len(c.Data)), most)]
		return c, nil
	case <-ctx.Done():
		return content{}, ctx.Err()
	case <-a.done:
		return content{}, context.Canceled
	}
}

// PID is the process number of the agent; 0 while there is none.
func (a *Agent) PID() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.link == nil {
		return 0
	}
	return a.link.proc.Pid
}

// watch says what the account's gates depend on.
func (a *Agent) watch(w workstation.Wants, has bool) (known <-chan struct{}) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.wants, a.kinds, a.needed = w, map[string]workstation.Watch{}, has
	for _, x := range w.Watches {
		a.kinds[x.Key] = x
	}
	a.notices.SetLimit(rate.Limit(noticeRate * (2 + len(w.Watches) + len(w.Places))))
	wanted := map[string]bool{}
	for _, p := range w.Places {
		wanted[p.Name] = true
	}
	a.there = slices.DeleteFunc(a.there, func(name string) bool { return !wanted[name] })
	a.settle()
	a.known = make(chan struct{})
	if a.err != nil {
		a.settle()
	}
	a.send(request{Watch: &wants{w.Watches, w.Places}})
	a.letLeave()
	return a.known
}

// letLeave lets an agent go that nobody needs any more. The mutex is held.
func (a *Agent) letLeave() {
	if !a.needed && len(a.runs) == 0 && a.link != nil {
		a.send(request{Leave: true})
	}
}

// settle lets those go on who wait for what is there.
func (a *Agent) settle() {
	select {
	case <-a.known:
	default:
		close(a.known)
	}
}

func (a *Agent) places() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Clone(a.there)
}

func (a *Agent) troublesNow() []workstation.Trouble {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := slices.Clone(a.troubles)
	if a.err != nil && a.needed {
		out = append(out, workstation.Trouble{Stops: true, What: "the agent of " + a.name(), Why: a.err.Error()})
	}
	return out
}

// send queues a request. The mutex is held.
func (a *Agent) send(q request) {
	if len(a.queue) < mostQueued {
		a.queue = append(a.queue, q)
	} else if a.link != nil {
		a.link.fail(errors.New("it does not take what it is told"))
	}
	select {
	case a.kick <- struct{}{}:
	default:
	}
}

func (a *Agent) close() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if !a.over {
		a.over = true
		close(a.done)
		if a.link != nil {
			a.link.conn.Close()
		}
	}
}
