package agent

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"os"
	"slices"
	"strconv"
	"sync"
	"time"

	"timegate/core/engine"
	"timegate/home"
	"timegate/launch"
	"timegate/workstation"
	"timegate/workstation/here"
	"timegate/workstation/peer"
)

// link is a connection to an agent.
type link struct {
	conn   *net.UnixConn
	reader *bufio.Reader
	proc   *os.Process
	held   []int64 // the runs that the agent holds

	once sync.Once
	why  error // it was ended for
}

// fail ends the agent.
func (l *link) fail(err error) {
	l.once.Do(func() {
		l.why = err
		l.proc.Kill()
		l.conn.Close()
	})
}

// serve keeps an agent at hand until the keeper ends: it is called, or started,
// and renewed when it is gone. While an account has no gates and nothing of it
// runs, it needs none.
func (a *Agent) serve() {
	pause := firstPause
	for {
		began := time.Now()
		l, err := a.call()
		if err == nil {
			a.attach(l)
			err = a.converse(l)
		}
		if a.detach(err) {
			return
		}
		if err != nil {
			a.crew.log.Warn("an agent is gone", "account", a.name(), "error", err)
		}
		if time.Since(began) > longestPause {
			pause = firstPause
		}
		select {
		case <-a.done:
			return
		case <-time.After(pause):
			pause = min(2*pause, longestPause)
		}
		for !a.wanted() {
			select {
			case <-a.done:
				return
			case <-a.kick:
			}
		}
	}
}

// wanted reports whether an agent is needed.
func (a *Agent) wanted() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.needed || len(a.runs) > 0 || len(a.asked) > 0
}

// attach takes up a conversation. The runs that the agent does not know are
// looked for, or prepared anew; what is to end is told so again.
func (a *Agent) attach(l *link) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.link, a.err = l, nil
	watches := slices.Clone(a.wants.Watches)
	for i := range watches {
		if !a.lost.IsZero() {
			watches[i].Since = a.lost
		}
	}
	queue := []request{{Watch: &wants{watches, a.wants.Places}}}
	var ends []request
	queued := map[int64]bool{}
	for _, q := range a.queue {
		if q.Prepare != nil {
			queued[q.Prepare.Run] = true
		}
	}
	for id, r := range a.runs {
		switch {
		case queued[id] || slices.Contains(l.held, id):
		case r.sent:
			queue = append(queue, request{Adopt: &r.alive})
		case r.job != nil:
			queue = append(queue, request{Prepare: r.job})
		}
		if r.signal != "" {
			ends = append(ends, request{End: &ending{id, r.signal}})
		}
	}
	a.queue = slices.Concat(queue, a.queue, ends)
}

// detach ends a conversation; it reports whether the keeper has ended. While
// there is no agent, nothing can start.
func (a *Agent) detach(err error) (ended bool) {
	a.mu.Lock()
	if a.link != nil {
		a.lost = time.Now()
	}
	a.link = nil
	if a.over {
		a.leaveOutputs()
		a.mu.Unlock()
		return true
	}
	a.err = err
	a.settle()
	var failed []engine.Body
	if hazard, ok := errors.AsType[*launch.UnsafeError](err); ok {
		a.queue = nil
		for id, r := range a.runs {
			switch {
			case r.started:
				failed = append(failed, &engine.RunLost{Run: id, Why: engine.LostStatus})
			case r.sent:
				failed = append(failed, &engine.StartUnsafe{Run: id, Hazard: hazard.Hazard})
			}
		}
	} else if call, ok := errors.AsType[*callError](err); ok {
		a.queue = nil
		for id, r := range a.runs {
			if r.sent && !r.started && !r.resumed {
				failed = append(failed, &engine.StartFailed{Run: id, Detail: call.Error()})
			}
		}
	}
	for _, b := range failed {
		delete(a.runs, runOf(b))
	}
	given := maps.Clone(a.given)
	a.mu.Unlock()
	for run := range given {
		a.cameBack(run) // its agent is no more
	}
	for _, b := range failed {
		a.crew.tell(Event{Agent: a, Body: b})
	}
	return false
}

// leaveOutputs leaves what is printed to the next keeper.
func (a *Agent) leaveOutputs() {
	for _, r := range a.runs {
		if r.out != nil {
			r.out.Leave()
		}
	}
}

func runOf(b engine.Body) int64 {
	switch b := b.(type) {
	case *engine.StartUnsafe:
		return b.Run
	case *engine.StartFailed:
		return b.Run
	case *engine.RunLost:
		return b.Run
	}
	return 0
}

// converse talks with an agent until one of the two is gone.
func (a *Agent) converse(l *link) error {
	gone := make(chan struct{})
	var writer sync.WaitGroup
	writer.Go(func() { a.write(l, gone) })
	err := a.listen(l)
	close(gone)
	l.conn.Close()
	writer.Wait()
	switch {
	case a.ended():
		l.proc.Release()
		return nil
	case l.why != nil:
		err = l.why
	case errors.Is(err, io.EOF) && !a.wanted():
		err = nil // it has left, as it was told to
	}
	if err != nil {
		l.proc.Kill() // one that is only half gone would be in the way
	}
	return err
}

// ended reports whether the keeper has ended.
func (a *Agent) ended() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.over
}

func (a *Agent) listen(l *link) error {
	for {
		rep, run, text, err := readReport(l.reader)
		switch {
		case err != nil:
		case run != 0:
			a.takePrinted(run, text)
		default:
			a.words.WaitN(context.Background(), len(text)) // what one account tells takes no more than its share
			err = a.take(&rep)
		}
		if err != nil {
			if errors.Is(err, errRule) {
				l.fail(err)
			}
			return err
		}
	}
}

// write tells the agent what is queued.
func (a *Agent) write(l *link, gone <-chan struct{}) {
	w := bufio.NewWriterSize(l.conn, 64<<10)
	for {
		a.mu.Lock()
		queue := a.queue
		a.queue = nil
		a.mu.Unlock()
		l.conn.SetWriteDeadline(time.Now().Add(writePatience))
		for i := range queue {
			writeJSON(w, &queue[i]) // its error comes with the flush
		}
		if err := w.Flush(); err != nil {
			if !a.ended() { // it is not its fault that the keeper goes
				l.fail(fmt.Errorf("it does not take what it is told: %w", err))
			}
			return
		}
		select {
		case <-a.kick:
		case <-gone:
			return
		}
	}
}

// callError says why an agent is not to be had.
type callError struct{ err error }

func (e *callError) Error() string { return "its agent is not to be had: " + e.err.Error() }
func (e *callError) Unwrap() error { return e.err }

// call reaches the account's agent: one that was there before, or a new one.
func (a *Agent) call() (*link, error) {
	rights, err := a.crew.launch.RightsOf(a.account)
	if err != nil {
		return nil, err
	}
	if rights.Age > 0 {
		a.crew.log.Warn("the directory service gives no answer; the account is taken as it was told before", "account", rights.Name, "ago", rights.Age.Round(time.Second))
	}
	if err := tellFolder(a.crew.home, &rights); err != nil {
		return nil, &callError{err}
	}
	dir, err := os.Open(a.crew.home.Agents())
	if err != nil {
		return nil, &callError{err}
	}
	defer dir.Close()
	addr := &net.UnixAddr{Net: "unix", Name: here.SocketIn(dir, strconv.Itoa(rights.UID)+".sock")}
	l, err := a.greet(addr, &rights)
	if err == nil {
		return l, nil
	}
	if err := a.spawn(addr, &rights); err != nil {
		return nil, &callError{err}
	}
	if l, err = a.greet(addr, &rights); err != nil {
		return nil, &callError{err}
	}
	return l, nil
}

// tellFolder makes the account's folder of what its programs are told.
func tellFolder(h home.Home, r *launch.Rights) error {
	path := h.ToldTo(r.UID)
	if err := os.Mkdir(path, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if r.As == nil {
		return nil
	}
	return os.Lchown(path, int(r.As.UID), int(r.As.GID))
}

// spawn starts a new agent that listens at an address.
func (a *Agent) spawn(addr *net.UnixAddr, r *launch.Rights) error {
	os.Remove(addr.Name)
	l, err := net.ListenUnix("unix", addr)
	if err != nil {
		return err
	}
	defer l.Close()
	l.SetUnlinkOnClose(false)
	file, err := l.File()
	if err != nil {
		return err
	}
	defer file.Close()
	proc, err := here.StartSelf(here.SelfOrder{Args: []string{Helper}, Env: surroundings(r.Limits), As: r.As, Limits: r.Limits,
		Group: a.crew.home.ID() + "-" + strconv.Itoa(r.UID), Files: []*os.File{file}})
	if err != nil {
		return err
	}
	go proc.Wait()
	return nil
}

// surroundings are the variables of an agent. Its programs get none of them.
func surroundings(limits []workstation.Limit) []string {
	out := []string{"PATH=/usr/bin:/bin", "LANG=C.UTF-8"}
	if text, err := json.Marshal(limits); err == nil && len(limits) > 0 {
		out = append(out, limitsVariable+"="+string(text))
	}
	for _, name := range []string{"TZ", "GOCOVERDIR"} {
		if v, ok := os.LookupEnv(name); ok {
			out = append(out, name+"="+v)
		}
	}
	return out
}

// greet calls an agent, and makes sure by the kernel's word that it is the
// account's.
func (a *Agent) greet(addr *net.UnixAddr, r *launch.Rights) (l *link, err error) {
	conn, err := net.DialUnix("unix", nil, addr)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			conn.Close()
		}
	}()
	if err := peer.AskSender(conn); err != nil {
		return nil, err
	}
	conn.SetDeadline(time.Now().Add(callPatience))
	w := bufio.NewWriter(conn)
	writeJSON(w, request{Hello: &hello{protocol, a.crew.home, a.received()}})
	if err := w.Flush(); err != nil {
		return nil, err
	}
	first := make([]byte, 64<<10)
	n, pid, uid, err := peer.First(conn, first)
	if err != nil {
		return nil, err
	}
	if uid != r.UID {
		return nil, fmt.Errorf("it is account %d who answers", uid)
	}
	l = &link{conn: conn, reader: bufio.NewReader(io.MultiReader(bytes.NewReader(first[:n]), conn))}
	rep, _, _, err := readReport(l.reader)
	if err != nil {
		return nil, err
	}
	if l.proc, err = peer.Hold(pid, uid); err != nil {
		return nil, err
	}
	if rep.Hello == nil || rep.Hello.Protocol != protocol {
		l.proc.Kill() // what it holds, its successor finds
		return nil, fmt.Errorf("%w: it speaks otherwise", errRule)
	}
	l.held = rep.Hello.Runs
	conn.SetDeadline(time.Time{})
	return l, nil
}
