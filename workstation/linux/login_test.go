package linux_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/godbus/dbus/v5/prop"

	"timegate/workstation"
	"timegate/workstation/wstest"
)

const loginPath = dbus.ObjectPath("/org/freedesktop/login1")

const busConfig = `<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN" "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>system</type><listen>unix:path=%s</listen><auth>EXTERNAL</auth>
<policy context="default"><allow user="*"/><allow own="*"/><allow send_destination="*" eavesdrop="true"/>
<allow send_type="signal"/><allow send_type="method_call"/><allow receive_type="signal"/><allow receive_type="method_call"/>
<allow receive_type="method_return"/><allow receive_type="error"/></policy></busconfig>`

// startBus starts a private message bus at a path and returns what stops it.
func startBus(t *testing.T, path string) (stop func()) {
	t.Helper()
	program := wstest.Need(t, "dbus-daemon", "dbus")
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
	wstest.Await(t, "the bus", func() bool {
		conn, err := dial(path)
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	return stop
}

func dial(path string) (*dbus.Conn, error) {
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

// standIn is a login manager of our own, for what a real one would do to the
// machine.
type standIn struct {
	t        *testing.T
	conn     *dbus.Conn
	mu       sync.Mutex
	sessions map[string]string // account by session
	props    map[string]*prop.Properties
	pipes    map[string]*os.File // by what is delayed
	refuse   bool
}

func newStandIn(t *testing.T, path string, sessions map[string]string) *standIn {
	t.Helper()
	conn, err := dial(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	s := &standIn{t: t, conn: conn, sessions: map[string]string{}, props: map[string]*prop.Properties{}, pipes: map[string]*os.File{}}
	if err := conn.Export(s, loginPath, "org.freedesktop.login1.Manager"); err != nil {
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

func sessionPath(id string) dbus.ObjectPath { return loginPath + "/session/" + dbus.ObjectPath(id) }

func (s *standIn) export(id, account, class string) {
	p, err := prop.Export(s.conn, sessionPath(id), prop.Map{"org.freedesktop.login1.Session": {
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

func (s *standIn) emit(path dbus.ObjectPath, name string, args ...any) {
	s.t.Helper()
	if err := s.conn.Emit(path, "org.freedesktop.login1."+name, args...); err != nil {
		s.t.Fatal(err)
	}
}

func (s *standIn) logon(id, account, class string) {
	s.export(id, account, class)
	s.emit(loginPath, "Manager.SessionNew", id, sessionPath(id))
}

func (s *standIn) logoff(id string) {
	s.mu.Lock()
	delete(s.sessions, id)
	s.mu.Unlock()
	s.emit(loginPath, "Manager.SessionRemoved", id, sessionPath(id))
}

type listedSession struct {
	ID   string
	UID  uint32
	User string
	Seat string
	Path dbus.ObjectPath
}

// ListSessions answers as the interface says.
func (s *standIn) ListSessions() ([]listedSession, *dbus.Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []listedSession{}
	for id, account := range s.sessions {
		out = append(out, listedSession{id, 1000, account, "seat0", sessionPath(id)})
	}
	return out, nil
}

// Inhibit answers with a pipe, whose closing it notices.
func (s *standIn) Inhibit(what, _, _, mode string) (dbus.UnixFD, *dbus.Error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.refuse || mode != "delay" {
		return 0, dbus.MakeFailedError(os.ErrPermission)
	}
	r, w, err := os.Pipe()
	if err != nil {
		return 0, dbus.MakeFailedError(err)
	}
	s.pipes[what] = r
	time.AfterFunc(300*time.Millisecond, func() { w.Close() }) // once the other side has its copy
	return dbus.UnixFD(w.Fd()), nil
}

// held reports whether something is still delayed.
func (s *standIn) held(what string) bool {
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

// wantsOf are the wants of gates with these openings.
func wantsOf(t *testing.T, phrases ...string) workstation.Wants {
	t.Helper()
	return wstest.Wants(t, "", phrases...)
}

func TestLoginManager(t *testing.T) {
	t.Setenv("DISPLAY", "")
	bus := filepath.Join(t.TempDir(), "bus")
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+bus)
	m := machine(t)
	m.Watch(wantsOf(t, "logon", "unlock", "sleep", "resume", "shutdown", "idle 10m"))
	if list := m.Troubles(); len(list) != 1 || !strings.Contains(list[0].Why, "no login manager") {
		t.Errorf("without a bus: %v", list)
	}
	stop := startBus(t, bus)
	s := newStandIn(t, bus, map[string]string{"1": "maren", "2": "greeter"})
	wstest.Await(t, "the first sessions", func() bool { return len(m.Facts().People) == 2 })
	wstest.Await(t, "no trouble", func() bool { return len(m.Troubles()) == 0 })
	got := wstest.Hear(t, m)
	s.logon("3", "lightdm", "greeter")
	s.logon("4", "tobias", "user")
	s.logon("5", "tobias", "user") // a second session is no second logon
	s.logoff("4")
	got("logon tobias")
	s.emit(sessionPath("1"), "Session.Lock")
	s.props["1"].SetMust("org.freedesktop.login1.Session", "LockedHint", true) // the desktop does as told
	got("lock maren")
	s.props["1"].SetMust("org.freedesktop.login1.Session", "LockedHint", false)
	got("unlock maren")
	s.logoff("5")
	got("logoff tobias")

	wstest.Await(t, "a delay of sleep", func() bool { return s.held("sleep") && s.held("shutdown") })
	s.emit(loginPath, "Manager.PrepareForSleep", true)
	n := got("sleep")
	if !s.held("sleep") {
		t.Error("the machine sleeps before the keeper is ready")
	}
	n.Release()
	wstest.Await(t, "the release", func() bool { return !s.held("sleep") })
	s.emit(loginPath, "Manager.PrepareForSleep", false)
	got("resume")
	wstest.Await(t, "the next delay", func() bool { return s.held("sleep") })
	s.emit(loginPath, "Manager.PrepareForShutdown", true)
	got("shutdown").Release()
	wstest.Await(t, "the release", func() bool { return !s.held("shutdown") })

	// The bus goes and comes back; who logged on and off meanwhile is told.
	stop()
	wstest.Await(t, "the trouble to be noticed", func() bool { return len(m.Troubles()) > 0 })
	startBus(t, bus)
	newStandIn(t, bus, map[string]string{"7": "ines", "2": "greeter"})
	got("logon ines")
	got("logoff maren")

}

// TestRefusedDelay: where the machine does not wait, that is told, and the
// rest works.
func TestRefusedDelay(t *testing.T) {
	t.Setenv("DISPLAY", "")
	bus := filepath.Join(t.TempDir(), "bus")
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+bus)
	startBus(t, bus)
	s := newStandIn(t, bus, map[string]string{"1": "maren"})
	s.mu.Lock()
	s.refuse = true
	s.mu.Unlock()
	m := machine(t)
	m.Watch(wantsOf(t, "shutdown", "logon"))
	if list := m.Troubles(); len(list) != 1 || !strings.Contains(list[0].Why, "cannot be asked to wait") {
		t.Errorf("troubles %v", list)
	}
	if f := m.Facts(); len(f.People) != 1 || f.People[0].Account != "maren" || f.People[0].Since == 0 {
		t.Errorf("facts %+v", f)
	}
}

// TestRealLoginManager runs elogind in a mount namespace of its own.
func TestRealLoginManager(t *testing.T) {
	root := os.Getenv("TIMEGATE_TEST_ELOGIND")
	if root == "" {
		t.Skip("needs the packages elogind and libelogind0, unpacked into the folder that TIMEGATE_TEST_ELOGIND names")
	}
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	wstest.Do(t, "mount", "--make-rprivate", "/")
	wstest.Do(t, "mount", "-t", "tmpfs", "tmpfs", "/run")
	for _, dir := range []string{"/run/systemd", "/run/user", "/run/dbus"} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	// What is written here would suspend the machine.
	if err := os.WriteFile("/run/state", []byte("freeze mem disk\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	wstest.Do(t, "mount", "--bind", "/run/state", "/sys/power/state")
	const bus = "/run/dbus/system_bus_socket"
	t.Setenv("DISPLAY", "")
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+bus)
	startBus(t, bus)
	lib := filepath.Join(root, "lib", "elogind")
	manager := exec.Command(filepath.Join(lib, "elogind"))
	manager.Env = append(os.Environ(), "LD_LIBRARY_PATH="+lib+":"+filepath.Join(root, "lib", "x86_64-linux-gnu")+":"+filepath.Join(root, "usr", "lib", "x86_64-linux-gnu"))
	if err := manager.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { manager.Process.Kill(); manager.Wait() }()
	conn, err := dial(bus)
	if err != nil {
		t.Fatal(err)
	}
	object := conn.Object("org.freedesktop.login1", loginPath)
	wstest.Await(t, "elogind", func() bool {
		return object.Call("org.freedesktop.login1.Manager.ListSessions", 0).Err == nil
	})
	m := machine(t)
	m.Watch(wantsOf(t, "logon", "unlock", "sleep", "resume"))
	got := wstest.Hear(t, m)

	leader := exec.Command("sleep", "100")
	if err := leader.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { leader.Process.Kill(); leader.Wait() }()
	var id string
	var path dbus.ObjectPath
	var runtime, seat string
	var fifo dbus.UnixFD
	var uid, vt uint32
	var existing bool
	if err := object.Call("org.freedesktop.login1.Manager.CreateSession", 0, uint32(65534), uint32(leader.Process.Pid), "timegate", "x11", "user",
		"", "", uint32(0), "", "", false, "", "", []struct {
			Name  string
			Value dbus.Variant
		}{}).Store(&id, &path, &runtime, &fifo, &uid, &seat, &vt, &existing); err != nil {
		t.Fatal(err)
	}
	got("logon nobody")
	session := conn.Object("org.freedesktop.login1", path)
	for _, call := range []string{"Lock", "Unlock"} {
		if err := session.Call("org.freedesktop.login1.Session."+call, 0).Err; err != nil {
			t.Fatal(err)
		}
		got(strings.ToLower(call) + " nobody")
	}
	go object.Call("org.freedesktop.login1.Manager.Suspend", 0, false)
	n := got("sleep")
	if state, err := os.ReadFile("/run/state"); err != nil || strings.HasPrefix(string(state), "mem") {
		t.Errorf("the machine was suspended before the keeper was ready: %q, %v", state, err)
	}
	n.Release()
	got("resume")
	syscall.Close(int(fifo)) // ends the session
	got("logoff nobody")
	if f := m.Facts(); len(f.People) != 0 {
		t.Errorf("facts at the end: %+v", f)
	}
}
