//go:build linux

package wstest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/godbus/dbus/v5/prop"
	"golang.org/x/sys/unix"
)

// LoginPath is where a login manager is found on the bus.
const LoginPath = dbus.ObjectPath("/org/freedesktop/login1")

const busConfig = `<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN" "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>system</type><listen>unix:path=%s</listen><auth>EXTERNAL</auth>
<policy context="default"><allow user="*"/><allow own="*"/><allow send_destination="*" eavesdrop="true"/>
<allow send_type="signal"/><allow send_type="method_call"/><allow receive_type="signal"/><allow receive_type="method_call"/>
<allow receive_type="method_return"/><allow receive_type="error"/></policy></busconfig>`

// StartBus starts a private message bus at a path and returns what stops it.
func StartBus(t testing.TB, path string) (stop func()) {
	t.Helper()
	program := Need(t, "dbus-daemon", "dbus")
	config := filepath.Join(t.TempDir(), "bus.conf")
	if err := os.WriteFile(config, fmt.Appendf(nil, busConfig, path), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, "--config-file="+config, "--nofork", "--nopidfile")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	stop = sync.OnceFunc(func() {
		cmd.Process.Kill()
		cmd.Wait()
		os.Remove(path)
	})
	t.Cleanup(stop)
	Await(t, "the bus", func() bool {
		conn, err := Dial(path)
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	return stop
}

// Dial connects to the bus at a path.
func Dial(path string) (*dbus.Conn, error) {
	conn, err := dbus.Dial("unix:path=" + path)
	if err != nil {
		return nil, err
	}
	if err := conn.Auth(nil); err != nil {
		conn.Close()
		return nil, err
	}
	return conn, conn.Hello()
}

// LoginManager is a login manager of our own, for what a real one would do to
// the machine.
type LoginManager struct {
	t        testing.TB
	conn     *dbus.Conn
	mu       sync.Mutex
	sessions map[string]string // account by session
	props    map[string]*prop.Properties
	pipes    map[string]*os.File // by what is delayed
	refuse   bool
}

// Refuse lets it refuse to delay anything.
func (s *LoginManager) Refuse() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refuse = true
}

// Hang lets it answer nothing, until what is returned is called or the test ends.
func (s *LoginManager) Hang() (answer func()) {
	s.mu.Lock() // which every answer wants
	answer = sync.OnceFunc(s.mu.Unlock)
	s.t.Cleanup(answer)
	return answer
}

// SetLocked sets the hint that a desktop gives.
func (s *LoginManager) SetLocked(id string, locked bool) {
	s.props[id].SetMust("org.freedesktop.login1.Session", "LockedHint", locked)
}

// NewLoginManager returns one with sessions, given as accounts by session.
func NewLoginManager(t testing.TB, path string, sessions map[string]string) *LoginManager {
	t.Helper()
	conn, err := Dial(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	s := &LoginManager{t: t, conn: conn, sessions: map[string]string{}, props: map[string]*prop.Properties{}, pipes: map[string]*os.File{}}
	if err := conn.Export(s, LoginPath, "org.freedesktop.login1.Manager"); err != nil {
		t.Fatal(err)
	}
	for id, account := range sessions {
		s.export(id, account, "user")
	}
	if _, err := conn.RequestName("org.freedesktop.login1", 0); err != nil {
		t.Fatal(err)
	}
	return s
}

// SessionPath is where a session is found on the bus.
func SessionPath(id string) dbus.ObjectPath { return LoginPath + "/session/" + dbus.ObjectPath(id) }

func (s *LoginManager) export(id, account, class string) {
	p, err := prop.Export(s.conn, SessionPath(id), prop.Map{"org.freedesktop.login1.Session": {
		"Class": {Value: class}, "Name": {Value: account}, "State": {Value: "active"},
		"Timestamp":  {Value: uint64(time.Now().UnixMicro())},
		"LockedHint": {Value: false, Writable: true, Emit: prop.EmitTrue},
	}})
	if err != nil {
		s.t.Fatal(err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.sessions[id], s.props[id] = account, p
}

// Emit sends a signal.
func (s *LoginManager) Emit(path dbus.ObjectPath, name string, args ...any) {
	s.t.Helper()
	if err := s.conn.Emit(path, "org.freedesktop.login1."+name, args...); err != nil {
		s.t.Fatal(err)
	}
}

// Logon begins a session.
func (s *LoginManager) Logon(id, account, class string) {
	s.export(id, account, class)
	s.Emit(LoginPath, "Manager.SessionNew", id, SessionPath(id))
}

// Logoff ends a session.
func (s *LoginManager) Logoff(id string) {
	s.mu.Lock()
	delete(s.sessions, id)
	s.mu.Unlock()
	s.Emit(LoginPath, "Manager.SessionRemoved", id, SessionPath(id))
}

type listedSession struct {
	ID   string
	UID  uint32
	User string
	Seat string
	Path dbus.ObjectPath
}

// ListSessions answers as the interface says.
func (s *LoginManager) ListSessions() ([]listedSession, *dbus.Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []listedSession{}
	for id, account := range s.sessions {
		out = append(out, listedSession{id, 1000, account, "seat0", SessionPath(id)})
	}
	return out, nil
}

// Inhibit answers with a pipe, whose closing it notices.
func (s *LoginManager) Inhibit(what, _, _, mode string) (dbus.UnixFD, *dbus.Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.refuse || mode != "delay" {
		return 0, dbus.MakeFailedError(os.ErrPermission)
	}
	var fds [2]int
	if err := unix.Pipe2(fds[:], unix.O_CLOEXEC|unix.O_NONBLOCK); err != nil {
		return 0, dbus.MakeFailedError(err)
	}
	s.pipes[what] = os.NewFile(uintptr(fds[0]), "delay")
	time.AfterFunc(300*time.Millisecond, func() { unix.Close(fds[1]) }) // once the other side has its copy
	return dbus.UnixFD(fds[1]), nil
}

// Held reports whether something is still delayed.
func (s *LoginManager) Held(what string) bool {
	s.mu.Lock()
	r := s.pipes[what]
	s.mu.Unlock()
	if r == nil {
		return false
	}
	r.SetReadDeadline(time.Now().Add(10 * time.Millisecond))
	_, err := r.Read(make([]byte, 1))
	return os.IsTimeout(err)
}
