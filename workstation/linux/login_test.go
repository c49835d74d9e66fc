//go:build linux

package linux_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/godbus/dbus/v5"

	"timegate/workstation"
	"timegate/workstation/wstest"
)

// wantsOf are the wants of gates with these openings.
func wantsOf(t *testing.T, phrases ...string) workstation.Wants {
	t.Helper()
	return wstest.Wants(t, "", phrases...)
}

func TestLoginManager(t *testing.T) {
	if !wstest.Alone(t, 0) {
		return
	}
	bus := filepath.Join(t.TempDir(), "bus")
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+bus)
	m := machine(t)
	<-m.Watch(wantsOf(t, "logon", "unlock", "sleep", "resume", "shutdown", "idle 10m"))
	wstest.Await(t, "the trouble without a bus", func() bool {
		list := m.Troubles()
		return len(list) == 1 && strings.Contains(list[0].Why, "no login manager")
	})
	stop := wstest.StartBus(t, bus)
	s := wstest.NewLoginManager(t, bus, map[string]string{"1": "maren", "2": "greeter"})
	wstest.Await(t, "the first sessions", func() bool { return len(m.Facts().People) == 2 })
	wstest.Await(t, "no trouble", func() bool { return len(m.Troubles()) == 0 })
	got := wstest.Hear(t, m)
	s.Logon("3", "lightdm", "greeter")
	s.Logon("4", "tobias", "user")
	s.Logon("5", "tobias", "user") // a second session is no second logon
	s.Logoff("4")
	got("logon tobias")
	s.Emit(wstest.SessionPath("1"), "Session.Lock")
	s.SetLocked("1", true) // the desktop does as told
	got("lock maren")
	s.SetLocked("1", false)
	got("unlock maren")
	s.Logoff("5")
	got("logoff tobias")

	wstest.Await(t, "a delay of sleep", func() bool { return s.Held("sleep") && s.Held("shutdown") })
	s.Emit(wstest.LoginPath, "Manager.PrepareForSleep", true)
	n := got("sleep")
	if !s.Held("sleep") {
		t.Error("the machine sleeps before the keeper is ready")
	}
	n.Release()
	wstest.Await(t, "the release", func() bool { return !s.Held("sleep") })
	s.Emit(wstest.LoginPath, "Manager.PrepareForSleep", false)
	got("resume")
	wstest.Await(t, "the next delay", func() bool { return s.Held("sleep") })
	s.Emit(wstest.LoginPath, "Manager.PrepareForShutdown", true)
	got("shutdown").Release()
	wstest.Await(t, "the release", func() bool { return !s.Held("shutdown") })

	// The bus goes and comes back; who logged on and off meanwhile is told.
	stop()
	wstest.Await(t, "the trouble to be noticed", func() bool { return len(m.Troubles()) > 0 })
	wstest.StartBus(t, bus)
	wstest.NewLoginManager(t, bus, map[string]string{"7": "ines", "2": "greeter"})
	got("logon ines")
	got("logoff maren")

}

// TestRefusedDelay: where the machine does not wait, that is told, and the
// rest works.
func TestRefusedDelay(t *testing.T) {
	if !wstest.Alone(t, 0) {
		return
	}
	bus := filepath.Join(t.TempDir(), "bus")
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+bus)
	wstest.StartBus(t, bus)
	s := wstest.NewLoginManager(t, bus, map[string]string{"1": "maren"})
	s.Refuse()
	m := machine(t)
	<-m.Watch(wantsOf(t, "shutdown", "logon"))
	wstest.Await(t, "the trouble", func() bool {
		list := m.Troubles()
		return len(list) == 1 && strings.Contains(list[0].Why, "cannot be asked to wait")
	})
	if f := m.Facts(); len(f.People) != 1 || f.People[0].Account != "maren" || f.People[0].Since == 0 {
		t.Errorf("facts %+v", f)
	}
}

// TestRealLoginManager runs elogind in a mount namespace of its own.
func TestRealLoginManager(t *testing.T) {
	root := os.Getenv("TIMEGATE_TEST_ELOGIND")
	if root == "" {
		wstest.Skip(t, "needs the packages elogind and libelogind0, unpacked into the folder that TIMEGATE_TEST_ELOGIND names")
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
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+bus)
	wstest.StartBus(t, bus)
	lib := filepath.Join(root, "lib", "elogind")
	manager := exec.Command(filepath.Join(lib, "elogind"))
	manager.Env = append(os.Environ(), "LD_LIBRARY_PATH="+lib+":"+filepath.Join(root, "lib", "x86_64-linux-gnu")+":"+filepath.Join(root, "usr", "lib", "x86_64-linux-gnu"))
	if err := manager.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { manager.Process.Kill(); manager.Wait() }()
	conn, err := wstest.Dial(bus)
	if err != nil {
		t.Fatal(err)
	}
	object := conn.Object("org.freedesktop.login1", wstest.LoginPath)
	wstest.Await(t, "elogind", func() bool {
		return object.Call("org.freedesktop.login1.Manager.ListSessions", 0).Err == nil
	})
	m := machine(t)
	<-m.Watch(wantsOf(t, "logon", "unlock", "sleep", "resume"))
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
