//go:build linux

package linux

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/godbus/dbus/v5"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/workstation"
)

// The login manager's interface (org.freedesktop.login1(5)).
const (
	loginName    = "org.freedesktop.login1"
	loginPath    = dbus.ObjectPath("/org/freedesktop/login1")
	loginManager = loginName + ".Manager"
	loginSession = loginName + ".Session"
	properties   = "org.freedesktop.DBus.Properties"
)

// login listens to the login manager: who is logged on, locks, sleep and
// shutdown. It connects anew when the bus or the login manager comes back.
type login struct {
	board *workstation.Board
	files *Files
	awake func() // called when the machine is back from sleep
	came  func() // called before a logon is told
	done  chan struct{}
	asked chan struct{} // holds one where what is wanted has changed
	ended chan struct{}
	first chan struct{} // closed once it is known whether there is a login manager

	mu      sync.Mutex // guards what follows
	wants   workstation.Wants
	trouble error // why the login manager does not answer
	refused error // why the machine does not wait
	conn    *dbus.Conn
	holds   map[string]*os.File // inhibitors by what they delay

	// What follows belongs to the goroutine.
	sessions map[dbus.ObjectPath]*session
	synced   bool // the sessions were told once
}

// session is one that the login manager keeps.
type session struct {
	account   string
	uid       int // as listed; a session that a signal told of has none
	since     calendar.Instant
	locked    bool
	graphical bool // on a desktop, not a terminal
	active    bool // in front at its seat
}

func newLogin(board *workstation.Board, files *Files, wants workstation.Wants, awake, came func()) *login {
	l := &login{board: board, files: files, wants: wants, awake: awake, came: came, asked: make(chan struct{}, 1), done: make(chan struct{}), ended: make(chan struct{}), first: make(chan struct{}),
		holds: map[string]*os.File{}, sessions: map[dbus.ObjectPath]*session{}}
	go l.run()
	return l
}

func (l *login) close() {
	close(l.done)
	select {
	case <-l.ended:
	case <-time.After(patience): // the bus is being asked, and does not answer
	}
	l.unhold()
}

// busPatience is how long the message bus and the login manager may take for
// an answer.
const busPatience = 3 * time.Second

// askBus returns a context for one question.
func askBus() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), busPatience)
}

// call asks an object on the bus.
func call(o dbus.BusObject, method string, args ...any) *dbus.Call {
	ctx, cancel := askBus()
	defer cancel()
	return o.CallWithContext(ctx, method, 0, args...)
}

// busAddress is where the system's message bus listens (D-Bus Specification,
// "Well-known Message Bus Instances").
func busAddress() string {
	return cmp.Or(os.Getenv("DBUS_SYSTEM_BUS_ADDRESS"), "unix:path=/run/dbus/system_bus_socket")
}

// run keeps a connection until it is closed.
func (l *login) run() {
	defer close(l.ended)
	told := sync.OnceFunc(func() { close(l.first) })
	defer told()
	for tries := 0; ; tries++ {
		socketWatch := l.watchSocket()
		signals, err := l.connect()
		if err != nil {
			l.note(err)
		}
		told()
		if err == nil {
			tries = 0
			l.serve(signals)
			l.note(errors.New("the message bus has gone"))
		}
		select {
		case <-l.done:
			l.files.do(func() { l.files.leave(socketWatch) })
			return
		case <-socketWatch.appeared:
		case <-time.After(socketWatch.retry(tries)):
		}
		l.files.do(func() { l.files.leave(socketWatch) })
	}
}

// socketWatch rings when a path comes.
type socketWatch struct {
	path     string
	appeared chan struct{}
}

func (b *socketWatch) observe(ev fsnotify.Event) {
	if b.path != "" && phrase.Within(b.path, ev.Name) && ev.Has(fsnotify.Create) {
		select {
		case b.appeared <- struct{}{}:
		default:
		}
	}
}

func (b *socketWatch) due(time.Time) time.Time { return time.Time{} }

// retry is how long to wait before a bus is tried again: not for long where
// its socket is there, or has no path by which its coming could be seen; else
// the socketWatch rings.
func (b *socketWatch) retry(tries int) time.Duration {
	if _, err := os.Stat(b.path); b.path != "" && err != nil {
		return 24 * time.Hour
	}
	return min(50*time.Millisecond<<min(tries, 12), time.Minute)
}

// watchSocket rings when the bus's socket comes.
func (l *login) watchSocket() *socketWatch {
	b := &socketWatch{appeared: make(chan struct{}, 1)}
	if path, ok := strings.CutPrefix(busAddress(), "unix:path="); ok {
		b.path, _, _ = strings.Cut(path, ",")
		l.files.do(func() { l.files.await(b.path, b) })
	}
	return b
}

// note takes whether there is a connection.
func (l *login) note(err error) {
	l.trust(err)
	if err != nil {
		l.unhold()
		l.mu.Lock()
		l.conn = nil
		l.mu.Unlock()
	}
}

// trust takes whether the login manager answers.
func (l *login) trust(err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.trouble = nil; err != nil {
		l.trouble = fmt.Errorf("no login manager answers: %w", err)
	}
}

// connect reaches the bus and reads what holds.
func (l *login) connect() (chan *dbus.Signal, error) {
	conn, err := dialBus()
	if err != nil {
		return nil, err
	}
	signals := make(chan *dbus.Signal, 1024)
	conn.Signal(signals)
	for _, match := range [][]dbus.MatchOption{
		{dbus.WithMatchSender(loginName), dbus.WithMatchInterface(loginManager)},
		{dbus.WithMatchSender(loginName), dbus.WithMatchInterface(loginSession)},
		{dbus.WithMatchSender(loginName), dbus.WithMatchInterface(properties)},
		{dbus.WithMatchInterface("org.freedesktop.DBus"), dbus.WithMatchMember("NameOwnerChanged"), dbus.WithMatchArg(0, loginName)},
	} {
		if err := conn.AddMatchSignal(match...); err != nil {
			conn.Close()
			return nil, err
		}
	}
	l.mu.Lock()
	l.conn = conn
	l.mu.Unlock()
	l.trust(l.sync()) // where it does not answer yet, it is asked again
	l.hold()
	return signals, nil
}

// dialBus connects to the bus. One that is there and says nothing is given up.
func dialBus() (*dbus.Conn, error) {
	ctx, cancel := context.WithCancel(context.Background())
	conn, err := dbus.Dial(busAddress(), dbus.WithContext(ctx))
	if err != nil {
		cancel()
		return nil, err
	}
	late := time.AfterFunc(busPatience, cancel) // closes the connection
	err = conn.Auth(nil)
	if err == nil {
		err = conn.Hello()
	}
	if !late.Stop() {
		err = errors.New("the message bus does not answer")
	}
	if err != nil {
		conn.Close()
		cancel()
		return nil, err
	}
	return conn, nil // its context ends with it
}

// sync reads which sessions there are, and tells of those that came or went
// since it last knew.
func (l *login) sync() error {
	sessions, err := listSessions(l.conn)
	if err != nil {
		return err
	}
	l.sessions = sessions
	l.people(!l.synced)
	l.synced = true
	l.idleHint()
	return nil
}

func (l *login) manager() dbus.BusObject { return l.conn.Object(loginName, loginPath) }

// listSessions asks the login manager for the sessions of people.
func listSessions(conn *dbus.Conn) (map[dbus.ObjectPath]*session, error) {
	var list []struct {
		ID   string
		UID  uint32
		User string
		Seat string
		Path dbus.ObjectPath
	}
	if err := call(conn.Object(loginName, loginPath), loginManager+".ListSessions").Store(&list); err != nil {
		return nil, err
	}
	sessions := map[dbus.ObjectPath]*session{}
	for _, s := range list {
		if read := readSession(conn, s.Path); read != nil {
			read.uid = int(s.UID)
			sessions[s.Path] = read
		}
	}
	return sessions, nil
}

// readSession returns a session of a person, and nil for one of the system's own.
func readSession(conn *dbus.Conn, path dbus.ObjectPath) *session {
	var props map[string]dbus.Variant
	if err := call(conn.Object(loginName, path), properties+".GetAll", loginSession).Store(&props); err != nil {
		return nil
	}
	text := func(name string) string { value, _ := props[name].Value().(string); return value }
	if !strings.HasPrefix(text("Class"), "user") || text("State") == "closing" || text("Name") == "" {
		return nil // a greeter, a lock screen, a manager; or one that is ending
	}
	s := &session{account: text("Name"), graphical: slices.Contains([]string{"x11", "wayland", "mir"}, text("Type"))}
	s.locked, _ = props["LockedHint"].Value().(bool)
	s.active, _ = props["Active"].Value().(bool)
	if usec, ok := props["Timestamp"].Value().(uint64); ok {
		s.since = calendar.Instant(usec / 1000)
	}
	return s
}

// people tells who is logged on: an account from its first session to the end
// of its last.
func (l *login) people(silent bool) {
	now := map[string]calendar.Instant{}
	for _, s := range l.sessions {
		if at, ok := now[s.account]; !ok || s.since < at {
			now[s.account] = s.since
		}
	}
	var list []engine.Person
	for _, account := range slices.Sorted(maps.Keys(now)) {
		list = append(list, engine.Person{Account: account, Since: now[account]})
	}
	before := l.board.Facts().People
	if silent {
		l.board.Learn(func(f *engine.Facts) { f.People = list })
		return
	}
	set := func(f *engine.Facts) { f.People = list }
	has := func(people []engine.Person, account string) bool {
		return slices.ContainsFunc(people, func(p engine.Person) bool { return p.Account == account })
	}
	for _, p := range list {
		if !has(before, p.Account) {
			l.came()
			l.board.Post(workstation.Notice{Event: phrase.Logon, Name: p.Account}, set)
		}
	}
	for _, p := range before {
		if !has(list, p.Account) {
			l.board.Post(workstation.Notice{Event: phrase.Logoff, Name: p.Account}, set)
		}
	}
	l.board.Learn(set)
}

// serve takes signals until the connection ends.
func (l *login) serve(signals chan *dbus.Signal) {
	defer l.conn.Close()
	again := time.NewTimer(time.Hour)
	defer again.Stop()
	for pause := time.Second; ; {
		if answers, _ := l.state(); !answers && l.listed() {
			again.Reset(pause) // it is there, and has not answered
			pause = min(2*pause, time.Minute)
		} else {
			again.Stop()
		}
		select {
		case <-l.done:
			return
		case <-l.asked:
			l.hold()
			l.idleHint()
		case <-again.C:
			l.trust(l.sync())
			l.hold()
		case s, ok := <-signals:
			if !ok {
				return
			}
			l.signal(s)
		}
	}
}

func (l *login) signal(s *dbus.Signal) {
	switch s.Name {
	case loginManager + ".SessionNew", loginManager + ".SessionRemoved":
		var id string
		var path dbus.ObjectPath
		if dbus.Store(s.Body, &id, &path) != nil {
			return
		}
		delete(l.sessions, path)
		if strings.HasSuffix(s.Name, "New") {
			if read := readSession(l.conn, path); read != nil {
				l.sessions[path] = read
			}
		}
		l.people(false)
	case loginSession + ".Lock":
		l.lock(s.Path, true)
	case loginSession + ".Unlock":
		l.lock(s.Path, false)
	case properties + ".PropertiesChanged":
		l.changed(s)
	case loginManager + ".PrepareForSleep":
		l.prepare(s, "sleep", phrase.Sleep)
	case loginManager + ".PrepareForShutdown":
		l.prepare(s, "shutdown", phrase.Shutdown)
	case "org.freedesktop.DBus.NameOwnerChanged":
		var name, before, now string
		if dbus.Store(s.Body, &name, &before, &now) != nil {
			return
		}
		l.unhold() // what was held by the old one is no more
		if now != "" {
			l.trust(l.sync())
			l.hold()
		}
	}
}

func (l *login) changed(s *dbus.Signal) {
	var iface string
	var props map[string]dbus.Variant
	var gone []string
	if dbus.Store(s.Body, &iface, &props, &gone) != nil {
		return
	}
	if locked, ok := props["LockedHint"].Value().(bool); ok && iface == loginSession {
		l.lock(s.Path, locked)
	}
	if state, ok := props["State"].Value().(string); ok && iface == loginSession && state == "closing" {
		delete(l.sessions, s.Path)
		l.people(false)
	}
	if _, ok := props["IdleHint"]; ok && iface == loginManager {
		l.idleHint()
	}
}

// lock tells of a session that was locked or unlocked, once.
func (l *login) lock(path dbus.ObjectPath, locked bool) {
	s := l.sessions[path]
	if s == nil || s.locked == locked {
		return
	}
	s.locked = locked
	what := phrase.Unlock
	if locked {
		what = phrase.Lock
	}
	l.board.Post(workstation.Notice{Event: what, Name: s.account}, nil)
}

// idleHint takes the login manager's word on idleness where no X server is
// asked.
func (l *login) idleHint() {
	l.mu.Lock()
	wanted := l.wants.Idle > 0 && !hasX()
	l.mu.Unlock()
	if !wanted {
		return
	}
	var props map[string]dbus.Variant
	if call(l.manager(), properties+".GetAll", loginManager).Store(&props) != nil {
		return
	}
	idle, _ := props["IdleHint"].Value().(bool)
	usec, _ := props["IdleSinceHint"].Value().(uint64)
	l.board.Learn(func(f *engine.Facts) {
		if f.IdleSince = 0; idle {
			f.IdleSince = calendar.Instant(usec / 1000)
		}
	})
}

// state tells whether the login manager answers, and what is wrong.
func (l *login) state() (answers bool, trouble error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conn != nil && l.trouble == nil, cmp.Or(l.trouble, l.refused)
}
