package agent

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/signal"
	"slices"
	"sync"
	"syscall"
	"time"

	"timegate/core/engine"
	"timegate/home"
	"timegate/launch"
	"timegate/workstation"
	"timegate/workstation/here"
	"timegate/workstation/peer"
)

// Helper is the first argument by which this program is told to be an agent.
const Helper = "@agent"

// listenerFD is the descriptor of the socket on which an agent is called.
const listenerFD = 3

// Help runs this process as an agent where the first argument says so.
func Help(args []string) (status int, ok bool) {
	if len(args) == 0 || args[0] != Helper {
		return 0, false
	}
	if err := serve(); err != nil {
		fmt.Fprintln(os.Stderr, "timegate:", err)
		return 1, true
	}
	return 0, true
}

// server is an agent at work.
type server struct {
	listener *net.UnixListener
	machine  workstation.Workstation // for its files
	starter  workstation.Starter
	note     string        // what could not be as it should, for all programs
	places   chan struct{} // holds one for each run that is being prepared

	mu      sync.Mutex // guards what follows
	home    home.Home
	launch  launch.Launcher
	runs    map[int64]*run
	dirty   []int64 // runs of which there is something to tell
	told    toldWatch
	answers []content
	kick    chan struct{} // holds one where there is something to tell
	calls   int           // conversations so far
	linked  bool          // a keeper is here
	conn    net.Conn      // to it
	leaving bool          // it is to end when nothing runs any more
	since   time.Time     // when the last keeper went
}

// toldWatch is what is to be told of what is watched.
type toldWatch struct {
	places   *places
	troubles []workstation.Trouble // as they were told
	fresh    bool                  // they are to be told
}

// How long an agent waits for a next keeper when nothing runs any more, and
// how often it looks meanwhile whether one can come at all; and how long it waits for the
// keeper that has started it, which may have ended since.
const (
	keeperPatience = 7 * 24 * time.Hour
	lookForHome    = time.Minute
	firstPatience  = 3 * callPatience
)

func serve() error {
	here.Seclude()
	note, err := ownLimits()
	if err != nil {
		return err
	}
	file := os.NewFile(listenerFD, "agent")
	l, err := net.FileListener(file)
	if err != nil {
		return fmt.Errorf("an agent is started by a keeper: %w", err)
	}
	file.Close()
	listener, ok := l.(*net.UnixListener)
	if !ok {
		return fmt.Errorf("an agent is called on a Unix socket, not on %s", l.Addr().Network())
	}
	machine, err := here.New()
	if err != nil {
		return err
	}
	s := &server{listener: listener, machine: machine, starter: here.Starter{}, note: note, places: make(chan struct{}, mostReady), runs: map[int64]*run{}, kick: make(chan struct{}, 1)}
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	go func() {
		for range signals {
			s.leave()
		}
	}()
	time.AfterFunc(firstPatience, s.giveUp)
	for {
		conn, err := listener.AcceptUnix()
		if err != nil {
			return nil // it was closed: there is nothing left to do
		}
		if uid := peer.UID(conn); uid == 0 || uid == os.Getuid() {
			s.converse(conn)
		}
		conn.Close()
	}
}

// limitsVariable tells an agent the limits of its account, which a keeper may
// not have had the right to set before it began.
const limitsVariable = "TIMEGATE_LIMITS"

// ownLimits sets the account's limits as far as they are not set.
func ownLimits() (note string, err error) {
	var limits []workstation.Limit
	if text := os.Getenv(limitsVariable); text != "" {
		err = json.Unmarshal([]byte(text), &limits)
	}
	return here.LimitSelf(limits), err
}

// leave lets the agent end as soon as nothing runs any more.
func (s *server) leave() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.leaving = true
	s.endIfIdle()
}

// giveUp ends an agent that nobody has called.
func (s *server) giveUp() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.calls == 0 {
		s.listener.Close()
	}
}

// endIfIdle ends the agent where nobody needs it any more.
func (s *server) endIfIdle() {
	alive, kept := 0, len(s.runs)
	for _, r := range s.runs {
		if !r.over() {
			alive++
		}
	}
	switch {
	case alive > 0:
		return
	case kept == 0 && (s.leaving || !s.linked && s.calls > 0), s.leaving && !s.linked:
	case !s.linked && s.calls > 0 && (s.forsaken() || time.Since(s.since) > keeperPatience):
	default:
		return
	}
	s.listener.Close()
	if s.conn != nil {
		s.conn.Close()
	}
}

// forsaken reports whether the socket on which a keeper would call is gone. Only
// who may look into its folder sees that.
func (s *server) forsaken() bool {
	_, err := os.Lstat(s.home.AgentSocket(os.Getuid()))
	return os.IsNotExist(err)
}

// converse serves one keeper until that one goes.
func (s *server) converse(conn *net.UnixConn) {
	r := bufio.NewReader(conn)
	done := make(chan struct{})
	var writer sync.WaitGroup
	defer func() {
		close(done)
		conn.Close()
		writer.Wait()
		s.part()
	}()
	for {
		kind, body, err := readFrame(r, mostRequest)
		var q request
		if err == nil && kind == frameJSON {
			err = json.Unmarshal(body, &q)
		}
		switch {
		case err != nil:
			return
		case q.Hello != nil:
			if q.Hello.Protocol != protocol {
				return
			}
			s.meet(q.Hello, conn)
			writer.Go(func() { s.write(conn, done) })
		default:
			s.obey(&q)
		}
	}
}

// meet begins a conversation: all that is held is to be told anew.
func (s *server) meet(h *hello, conn net.Conn) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.home, s.linked, s.conn, s.calls = h.Home, true, conn, s.calls+1
	s.launch = launch.Launcher{Home: h.Home}
	s.dirty, s.answers, s.told = nil, nil, toldWatch{}
	for _, id := range sortedRuns(s.runs) {
		r := s.runs[id]
		r.toldStart, r.toldEnd = false, false
		r.out.resume(h.Have[id])
		s.mark(r)
	}
}

// part ends a conversation. What was only prepared is let go, and nothing is
// watched until the next keeper asks.
func (s *server) part() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.linked, s.conn, s.since = false, nil, time.Now()
	for _, r := range s.runs {
		r.drop()
		s.keepLimit(r)
	}
	s.watch(wants{})
	s.endIfIdle()
	time.AfterFunc(lookForHome, s.lookAround)
}

// lookAround ends an agent whose keeper does not come back.
func (s *server) lookAround() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.linked {
		return
	}
	s.endIfIdle()
	time.AfterFunc(lookForHome, s.lookAround)
}

// obey does what a keeper says.
func (s *server) obey(q *request) {
	switch {
	case q.Watch != nil:
		s.watch(*q.Watch)
	case q.Prepare != nil:
		s.prepare(q.Prepare)
	case q.Start != 0:
		s.goAhead(q.Start)
	case q.Drop != 0:
		s.letGo(q.Drop)
	case q.Adopt != nil:
		s.adopt(q.Adopt)
	case q.End != nil:
		s.end(q.End)
	case q.Forget != 0:
		s.forget(q.Forget)
	case q.Have != nil:
		s.have(q.Have)
	case q.Read != nil:
		go s.read(q.Read)
	case q.Leave:
		s.leave()
	}
}

// read reads a file for the keeper.
func (s *server) read(q *read) {
	c := content{ID: q.ID}
	data, mode, err := home.ReadWithMode(home.Expand(q.Path, home.Folder()), min(q.Most, mostRead))
	if c.Data, c.Mode = data, uint32(mode.Perm()); err != nil {
		c.Data, c.Error = nil, err.Error()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.answers = append(s.answers, c)
	s.wake()
}

// mostRead is how much of a file is told at most: it is longer in JSON.
const mostRead = mostReport * 5 / 8

// wake tells the writer that there is something to tell.
func (s *server) wake() {
	select {
	case s.kick <- struct{}{}:
	default:
	}
}

// watch watches what the account's gates depend on, in place of what it
// watched before.
func (s *server) watch(w wants) {
	expand := func(path string) string { return home.Expand(path, home.Folder()) }
	all := workstation.Wants{Watches: slices.Clone(w.Watches), Places: slices.Clone(w.Places)}
	for i := range all.Watches {
		paths := &all.Watches[i].Event.Paths
		*paths = slices.Clone(*paths)
		for j, p := range *paths {
			(*paths)[j] = expand(p)
		}
	}
	for i := range all.Places {
		all.Places[i].Path = expand(all.Places[i].Path)
	}
	known := s.machine.Watch(all)
	go func() {
		select {
		case <-known:
		case <-time.After(watchPatience):
			s.learn() // what hangs is told
			<-known
		}
		s.learn()
	}()
}

// watchPatience is how long a new watch may take until that counts as trouble.
const watchPatience = time.Second

// learn takes what is there, and what cannot be watched, to be told.
func (s *server) learn() {
	facts, troubles := s.machine.Facts(), s.machine.Troubles()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.told.places = &places{There: facts.Paths, Known: true}
	if !slices.Equal(troubles, s.told.troubles) {
		s.told.troubles, s.told.fresh = troubles, true
	}
	s.wake()
}

// write tells a keeper what there is to be told, until it is gone.
func (s *server) write(conn net.Conn, done <-chan struct{}) {
	w := bufio.NewWriterSize(conn, 64<<10)
	writeJSON(w, report{Hello: s.greeting()})
	for {
		s.tell(w)
		if w.Flush() != nil {
			return
		}
		select {
		case <-done:
			return
		case <-s.kick:
		case n := <-s.machine.Notices():
			if n.Event == "" {
				s.learn()
				continue
			}
			writeNotice(w, &n)
		}
	}
}

// greeting names the runs that will be told of.
func (s *server) greeting() *greeting {
	s.mu.Lock()
	defer s.mu.Unlock()
	return &greeting{Protocol: protocol, Runs: slices.DeleteFunc(sortedRuns(s.runs), func(id int64) bool { return !s.has(id) })}
}

// writeNotice tells of what was seen; of very many files only how many.
func writeNotice(w *bufio.Writer, n *workstation.Notice) {
	out := notice{Key: n.Name, Subject: n.Subject, Text: n.Text, Count: max(n.Count, int64(len(n.Files))), Missed: n.Missed}
	room := mostReport / 4 // each byte may need several in JSON
	for _, f := range n.Files {
		if room -= len(f); room < 0 {
			break
		}
		out.Files = append(out.Files, f)
	}
	writeJSON(w, report{Notice: &out})
}

// tell writes what has gathered.
func (s *server) tell(w *bufio.Writer) {
	s.mu.Lock()
	told, answers, dirty := s.told, s.answers, s.dirty
	s.told.places, s.told.fresh, s.answers, s.dirty = nil, false, nil, nil
	s.mu.Unlock()
	if told.places != nil {
		writeJSON(w, report{Places: told.places})
	}
	if told.fresh {
		if told.troubles == nil {
			told.troubles = []workstation.Trouble{}
		}
		writeJSON(w, struct {
			Troubles []workstation.Trouble `json:"troubles"`
		}{told.troubles})
	}
	for i := range answers {
		writeJSON(w, report{Content: &answers[i]})
	}
	for _, id := range dirty {
		s.tellRun(w, id)
	}
}

// lostWhy is why nobody saw how a run has ended that another agent had started.
func lostWhy(x workstation.Exit) engine.LossCode {
	if x.Lost {
		return engine.LostStatus
	}
	return ""
}
