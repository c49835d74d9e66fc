package agent

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/time/rate"

	"timegate/core/engine"
	"timegate/core/words"
	"timegate/home"
	"timegate/launch"
	"timegate/workstation"
)

// What is taken of an agent.
const (
	mostQueued  = 20_000 // requests that wait for it
	reportRate  = 2_000  // reports a second
	reportBurst = 20_000
	outputRate  = 64 << 20 // bytes a second
	textMost    = 2 << 10  // bytes of a message
	filesMost   = 10_000   // names in a notice
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

	mu       sync.Mutex // guards what follows
	queue    []request
	runs     map[int64]*keptRun
	wants    workstation.Wants
	kinds    map[string]workstation.Watch // what it may give notice of
	there    []string
	known    chan struct{} // closed when the places are known; nil where they are
	troubles []workstation.Trouble
	err      error // why it is not to be had
	needed   bool  // the account has gates
	link     *link // nil while there is none
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
}

func newAgent(c *Crew, account string) *Agent {
	known := make(chan struct{})
	close(known)
	return &Agent{crew: c, account: account, kick: make(chan struct{}, 1), done: make(chan struct{}), runs: map[int64]*keptRun{}, asked: map[int64]chan content{}, given: map[int64]func(){},
		kinds: map[string]workstation.Watch{}, known: known, needed: true, pace: rate.NewLimiter(reportRate, reportBurst), volume: rate.NewLimiter(outputRate, outputRate)}
}

// name is what people know the agent's account by.
func (a *Agent) name() string {
	if a.account == "" {
		return launch.SelfName()
	}
	return a.account
}

// resume takes over runs of an earlier keeper.
func (a *Agent) resume(runs []Alive) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, r := range runs {
		a.runs[r.Run] = &keptRun{alive: r, sent: true, resumed: true, started: r.PID != 0}
	}
}

// Prepare makes a run ready to start.
func (a *Agent) Prepare(j *Job) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.needed = true
	a.runs[j.Run] = &keptRun{alive: Alive{Run: j.Run, Mark: j.Mark, Keep: j.Gate.Limits.Output, Readings: j.Gate.Only.Readings}, job: j}
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

// End sends TERM or KILL to all processes of a run.
func (a *Agent) End(run int64, signal string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.send(request{End: &ending{run, signal}})
}

// Forget says that what became of a run is recorded.
func (a *Agent) Forget(run int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.runs, run)
	a.send(request{Forget: run})
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
	if !has && len(a.runs) == 0 {
		a.send(request{Leave: true})
	}
	return a.known
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
		out = append(out, workstation.Trouble{What: "the agent of " + a.name(), Why: a.err.Error()})
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

// take handles what the agent tells. Its error ends the agent.
func (a *Agent) take(rep *report) error {
	if !a.pace.Allow() {
		a.pace.Wait(context.Background())
	}
	switch {
	case rep.Started != nil:
		return a.takeStarted(rep.Started)
	case rep.Failed != nil:
		rep.Failed.Detail = clip(rep.Failed.Detail)
		return a.takeOver(rep.Failed.Run, rep.Failed)
	case rep.Unsafe != nil:
		h := &rep.Unsafe.Hazard
		h.Code, h.Message, h.Remedy = clip(h.Code), clip(h.Message), clip(h.Remedy)
		return a.takeOver(rep.Unsafe.Run, rep.Unsafe)
	case rep.Skipped != nil:
		if r := a.run(rep.Skipped.Run); r != nil && rep.Skipped.Bytes > 0 {
			a.outputOf(r).Skip(rep.Skipped.Bytes)
		}
	case rep.Ended != nil:
		return a.takeEnded(rep.Ended)
	case rep.Lost != nil:
		return a.takeOver(rep.Lost.Run, &engine.RunLost{Run: rep.Lost.Run, Why: rep.Lost.Why, Used: rep.Lost.Usage})
	case rep.Notice != nil:
		a.takeNotice(rep.Notice)
	case rep.Places != nil:
		a.takePlaces(rep.Places)
	case rep.Content != nil:
		a.mu.Lock()
		answer := a.asked[rep.Content.ID]
		delete(a.asked, rep.Content.ID)
		a.mu.Unlock()
		if answer != nil {
			answer <- *rep.Content
		}
	case rep.Troubles != nil:
		a.takeTroubles(rep.Troubles)
	default:
		return fmt.Errorf("%w: nothing", errRule)
	}
	return nil
}

func (a *Agent) run(id int64) *keptRun {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.runs[id]
}

// outputOf returns the file of what a run prints. It is called by the goroutine
// that listens to the agent.
func (a *Agent) outputOf(r *keptRun) *home.Output {
	if r.out == nil {
		if r.resumed {
			r.out = a.crew.home.ResumeOutput(r.alive.Run, r.alive.Keep)
		} else {
			r.out = a.crew.home.NewOutput(r.alive.Run, r.alive.Keep)
		}
	}
	return r.out
}

// takePrinted takes what a run has printed.
func (a *Agent) takePrinted(id int64, b []byte) {
	if !a.volume.AllowN(time.Now(), len(b)) {
		a.volume.WaitN(context.Background(), len(b))
	}
	r := a.run(id)
	switch {
	case r == nil:
	case a.crew.show != nil:
		a.crew.show(b)
		r.shown += int64(len(b))
		a.have(id, r.shown)
	default:
		out := a.outputOf(r)
		out.Keep(b)
		a.have(id, out.Received())
	}
}

// have tells the agent how much of a run's output is there.
func (a *Agent) have(run, bytes int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.send(request{Have: &printed{run, bytes}})
}

// received is how much of their output there is, of the runs that have begun.
func (a *Agent) received() map[int64]int64 {
	a.mu.Lock()
	list := slices.Collect(maps.Values(a.runs))
	a.mu.Unlock()
	out := map[int64]int64{}
	for _, r := range list {
		if r.resumed || r.out != nil {
			out[r.alive.Run] = a.outputOf(r).Received()
		}
	}
	return out
}

func (a *Agent) takeStarted(s *started) error {
	a.mu.Lock()
	r := a.runs[s.Run]
	if r == nil { // given up, or none of ours
		if a.given[s.Run] != nil || !a.crew.isFresh() {
			a.send(request{End: &ending{s.Run, "KILL"}})
		}
		a.mu.Unlock()
		a.cameBack(s.Run)
		return nil
	}
	first := !r.started
	if !r.sent {
		a.mu.Unlock()
		return fmt.Errorf("%w: a run that was not to start", errRule)
	}
	r.started, r.job, r.alive.PID, r.alive.Born = true, nil, s.PID, s.Born
	a.mu.Unlock()
	if first {
		a.outputOf(r)
		a.crew.tell(Event{Agent: a, Ago: max(s.Ago, 0), Body: &engine.RunStarted{Run: s.Run, PID: s.PID, Born: s.Born, Note: clip(s.Note), Readings: only(s.Readings, r.alive.Readings)}})
	} else if r.resumed {
		a.crew.tell(Event{Agent: a, Found: s.Run})
	}
	return nil
}

func (a *Agent) takeEnded(e *ended) error {
	r := a.run(e.Run)
	if r == nil {
		a.Forget(e.Run)
		return nil
	}
	if !r.started {
		return fmt.Errorf("%w: the end of a run that had not started", errRule)
	}
	body := &engine.RunEnded{Run: e.Run, Exit: e.Exit & 0xff, Signal: signalOf(e.Signal), Usage: e.Usage, Readings: only(e.Readings, r.alive.Readings)}
	body.Usage.Output, body.Usage.Dropped = a.outputOf(r).End()
	a.crew.tell(Event{Agent: a, Body: body, Ago: max(e.Ago, 0)})
	return nil
}

// takeOver handles that a run is over of which nobody saw how it ended, or
// that did not start.
func (a *Agent) takeOver(id int64, body engine.Body) error {
	r := a.run(id)
	if r == nil {
		a.Forget(id)
		a.cameBack(id)
		return nil
	}
	if b, ok := body.(*engine.RunLost); ok {
		if b.Why != engine.LostStatus {
			b.Why = engine.LostMeanwhile
		}
		if r.started {
			b.Used.Output, b.Used.Dropped = a.outputOf(r).End()
		}
	}
	a.crew.tell(Event{Agent: a, Body: body})
	return nil
}

func (a *Agent) takeNotice(n *notice) {
	a.mu.Lock()
	w, wanted := a.kinds[n.Key]
	a.mu.Unlock()
	if !wanted {
		return // it was, a moment ago, or never
	}
	b := &engine.Occurred{Event: w.Event.Kind, Name: n.Key, Subject: clip(n.Subject), Text: clip(n.Text), Count: max(n.Count, 0)}
	for _, f := range n.Files[:min(len(n.Files), filesMost)] {
		if strings.HasPrefix(f, "/") && len(f) < textMost*2 && !strings.Contains(f, "\x00") {
			b.Files = append(b.Files, f)
		}
	}
	a.crew.tell(Event{Agent: a, Body: b})
}

func (a *Agent) takePlaces(p *places) {
	a.mu.Lock()
	var there []string
	for _, w := range a.wants.Places {
		if slices.Contains(p.There[:min(len(p.There), placesMost)], w.Name) {
			there = append(there, w.Name)
		}
	}
	changed := !slices.Equal(there, a.there)
	a.there = there
	if p.Known {
		a.settle()
	}
	a.mu.Unlock()
	if changed {
		a.crew.tell(Event{Agent: a})
	}
}

func (a *Agent) takeTroubles(list []workstation.Trouble) {
	const most = 100
	a.mu.Lock()
	defer a.mu.Unlock()
	a.troubles = nil
	for _, t := range list[:min(len(list), most)] {
		a.troubles = append(a.troubles, workstation.Trouble{What: clip(t.What), Why: clip(t.Why)})
	}
}

// clip bounds a text of an agent.
func clip(s string) string {
	s = words.Line(s)
	if len(s) <= textMost {
		return s
	}
	s = s[:textMost]
	for !utf8.ValidString(s) && len(s) > textMost-utf8.UTFMax {
		s = s[:len(s)-1]
	}
	return s
}

// only returns the readings that were asked for.
func only(readings map[string]int64, names []string) map[string]int64 {
	if len(names) == 0 {
		return nil
	}
	out := map[string]int64{}
	for _, name := range names {
		if n, ok := readings[name]; ok {
			out[name] = n
		}
	}
	return out
}

// signalOf returns the name of a signal if it can be one.
func signalOf(name string) string {
	const longest = 12
	if len(name) > longest || strings.ContainsFunc(name, func(r rune) bool { return (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '+' }) {
		return "KILL"
	}
	return name
}
