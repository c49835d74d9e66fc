//go:build linux

package tell

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/godbus/dbus/v5"

	"timegate/core/coretest"
	"timegate/core/tell"
	"timegate/workstation/rights"
	"timegate/workstation/wstest"
)

func TestMain(m *testing.M) {
	os.Args = append(os.Args[:1:1], rights.Become(os.Args[1:])...)
	if status, ok := Help(os.Args[1:]); ok { // the tests' program is the helper, too
		os.Exit(status)
	}
	if len(os.Args) == 3 && os.Args[1] == "@serve" {
		os.Exit(serve(os.Args[2]))
	}
	os.Exit(coretest.Main(m))
}

// serve shows notifications on a bus, as a desktop would, and writes down what it shows,
// and as whom it was asked.
func serve(address string) int {
	conn, err := dbus.Connect(address)
	if err == nil {
		err = conn.Export(&askedBy{conn}, "/org/freedesktop/Notifications", "org.freedesktop.Notifications")
	}
	if err == nil {
		_, err = conn.RequestName("org.freedesktop.Notifications", 0)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	fmt.Println("ready")
	select {} // until it is killed
}

// askedBy tells who asks.
type askedBy struct{ conn *dbus.Conn }

func (s *askedBy) Notify(from dbus.Sender, _ string, _ uint32, _, title, _ string, _ []string, _ map[string]dbus.Variant, _ int32) (uint32, *dbus.Error) {
	var uid uint32
	if err := s.conn.BusObject().Call("org.freedesktop.DBus.GetConnectionUnixUser", 0, string(from)).Store(&uid); err != nil {
		return 0, dbus.MakeFailedError(err)
	}
	fmt.Printf("%d %s\n", uid, title)
	return 1, nil
}

// errLater lets a channel say that nobody is there.
var errLater = errors.New("later")

func later(err error) bool {
	_, is := errors.AsType[*LaterError](err)
	return is
}

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

// paper is a channel that writes down what it is told.
type paper struct {
	mu   sync.Mutex // guards what follows
	err  error
	said []string
}

func (*paper) Name() string { return "paper" }

func (p *paper) Tell(_ context.Context, m Message) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.err == errLater {
		return &LaterError{Left: m.Notices}
	}
	if p.err == nil {
		p.said = append(p.said, fmt.Sprintf("%d+%d %s", len(m.Notices), m.More, m.Notices[0].Gate))
	}
	return p.err
}

// nobody is a channel at whose end nobody ever is.
type nobody struct{}

func (nobody) Name() string { return "nobody" }

func (nobody) Tell(_ context.Context, m Message) error { return &LaterError{Left: m.Notices} }

func (p *paper) set(err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.err = err
}

func (p *paper) all() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return strings.Join(p.said, ", ")
}

// TestTeller: what comes together is told at once, messages are apart, what nobody could be
// told waits for somebody, over a restart too, and nothing is told twice.
func TestTeller(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := &paper{}
		o := Options{File: filepath.Join(t.TempDir(), "notices.json"), Host: "studio", Channels: []Channel{p, nobody{}}, Log: quiet, Gather: 5 * time.Second, Pause: time.Minute}
		begin := func(wantFresh bool) (*Teller, func()) {
			tr, fresh, err := New(o)
			if err != nil || fresh != wantFresh {
				t.Fatalf("it begins fresh %v, %v", fresh, err)
			}
			ctx, stop := context.WithCancel(t.Context())
			done := make(chan struct{})
			go func() { tr.Run(ctx); close(done) }()
			return tr, func() { stop(); <-done }
		}
		tr, end := begin(true)
		note := func(names ...string) {
			tr.Update(func(s *tell.State) []tell.Notice {
				s.After++
				var out []tell.Notice
				for _, n := range names {
					out = append(out, tell.Notice{Gate: n, Kind: tell.Failed})
				}
				return out
			})
		}
		expect := func(when, want string) {
			t.Helper()
			synctest.Wait()
			if got := p.all(); got != want {
				t.Errorf("%s: %q is told, want %q", when, got, want)
			}
		}
		note("a")
		time.Sleep(2 * time.Second)
		note("b", "c")
		expect("at once", "")
		time.Sleep(4 * time.Second)
		expect("after some seconds", "3+0 a")
		note("d")
		time.Sleep(30 * time.Second)
		expect("half a minute later", "3+0 a")
		time.Sleep(40 * time.Second)
		expect("a minute later", "3+0 a, 1+0 d")
		p.set(errLater)
		for i := range 130 {
			note(fmt.Sprint("n", i))
		}
		time.Sleep(10 * time.Minute)
		expect("nobody there", "3+0 a, 1+0 d")
		end()
		p.set(nil)
		tr, end = begin(false)
		if tr.After() != 133 {
			t.Errorf("it goes on after event %d", tr.After())
		}
		time.Sleep(10 * time.Second)
		expect("after a restart", "3+0 a, 1+0 d, 100+30 n30")
		p.set(errLater)
		note("e")
		time.Sleep(time.Hour)
		p.set(nil)
		tr.Wake()
		time.Sleep(10 * time.Second)
		expect("somebody came", "3+0 a, 1+0 d, 100+30 n30, 1+0 e")
		p.set(errLater)
		note("g")
		time.Sleep(time.Hour)
		p.set(nil)
		time.Sleep(6 * time.Minute)
		expect("somebody came, and nobody told", "3+0 a, 1+0 d, 100+30 n30, 1+0 e, 1+0 g")
		p.set(errors.New("no"))
		note("f")
		time.Sleep(3 * time.Minute)
		p.set(nil)
		time.Sleep(2 * time.Minute)
		expect("after a fault", "3+0 a, 1+0 d, 100+30 n30, 1+0 e, 1+0 g, 1+0 f")
		end()
		_, end = begin(false)
		time.Sleep(time.Hour)
		expect("once more", "3+0 a, 1+0 d, 100+30 n30, 1+0 e, 1+0 g, 1+0 f")
		end()
	})
}

// message has one of each, with what somebody hostile might write.
var message = Message{Host: "studio", Notices: []tell.Notice{
	{At: 1_800_000_000_000, Gate: "vault-copy", Kind: tell.Failed, Run: 12, Text: "exit status 4 \x1b[2J<b>naïve</b>\nBcc: x@example.org"}, {Gate: "glue-warm", Well: true}}}

// TestSyslog sends to a socket as a log service would have it, and reads what came by the
// grammar of RFC 5424, section 6.
func TestSyslog(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "log")
	conn, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path})
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	c := &Syslog{Socket: path, Root: true, Now: func() time.Time { return time.Date(2026, 11, 30, 7, 0, 0, 5e6, time.UTC) }}
	if err := c.Tell(t.Context(), message); err != nil {
		t.Fatal(err)
	}
	grammar := regexp.MustCompile(`^<(\d{1,3})>1 (\S+) (\S{1,255}) timegate (\d+) (\S{1,32}) - (.*)$`)
	for _, want := range []string{`27 2026-11-30T07:00:00.005Z studio failed`, `29 2026-11-30T07:00:00.005Z studio well`} {
		buf := make([]byte, 4096)
		n, err := conn.Read(buf)
		if err != nil {
			t.Fatal(err)
		}
		parts := grammar.FindStringSubmatch(string(buf[:n]))
		if parts == nil || strings.Join([]string{parts[1], parts[2], parts[3], parts[5]}, " ") != want || strings.ContainsAny(parts[6], "\x1b\n") {
			t.Errorf("the log is sent %q, want %s", buf[:n], want)
		}
		if parts[5] == "failed" && !strings.HasPrefix(parts[6], "\ufeffvault-copy failed: exit status 4") {
			t.Errorf("the message is %q", parts[6])
		}
	}
	if err := (&Syslog{Socket: path + "x", Now: time.Now}).Tell(t.Context(), message); err == nil {
		t.Error("a log that is not there is told")
	}
}

// TestMail hands a letter to a program with sendmail's interface, and reads it as mail.
func TestMail(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	program := filepath.Join(dir, "sendmail")
	if err := os.WriteFile(program, []byte("#!/bin/sh\nprintf '%s\\n' \"$@\" > "+dir+"/args\ncat > "+dir+"/letter\n[ ! -f "+dir+"/fail ] || { echo 'no route'; exit 75; }\n"), 0o700); err != nil {
		t.Fatal(err)
	}
	c := &Mail{Program: program, To: "maren@example.org", Now: time.Now}
	if err := c.Tell(t.Context(), message); err != nil {
		t.Fatal(err)
	}
	args, _ := os.ReadFile(filepath.Join(dir, "args"))
	text, err := os.ReadFile(filepath.Join(dir, "letter"))
	if err != nil || string(args) != "-i\n--\nmaren@example.org\n" {
		t.Fatalf("it is called with %q, %v", args, err)
	}
	letter, err := mail.ReadMessage(strings.NewReader(string(text)))
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	body, _ := io.ReadAll(letter.Body)
	if letter.Header.Get("Subject") != "[studio] 2 notices of studio" || letter.Header.Get("Auto-Submitted") != "auto-generated" || letter.Header.Get("Bcc") != "" ||
		!strings.Contains(string(body), "timegate why vault-copy; timegate output 12") || !strings.Contains(string(body), "glue-warm is well again") || strings.Contains(string(body), "\nBcc") {
		t.Errorf("the letter is\n%s", text)
	}
	if err := os.WriteFile(filepath.Join(dir, "fail"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := c.Tell(t.Context(), message); err == nil || !strings.Contains(err.Error(), "no route") {
		t.Errorf("a program that fails: %v", err)
	}
}

// shown is what a desktop was asked to show.
type shown struct {
	app, title, body string
	urgency          byte
}

// desktopService is a stand-in for what shows notifications; the bus is a real one.
type desktopService struct{ got chan shown }

func (s *desktopService) Notify(app string, _ uint32, _, title, body string, _ []string, hints map[string]dbus.Variant, _ int32) (uint32, *dbus.Error) {
	u, _ := hints["urgency"].Value().(byte)
	s.got <- shown{app, title, body, u}
	return 1, nil
}

// TestDesktop shows a notification by a real session bus, in a process of its own.
func TestDesktop(t *testing.T) {
	daemon := wstest.Need(t, "dbus-daemon", "dbus-daemon")
	run := t.TempDir()
	own := filepath.Join(run, fmt.Sprint(os.Getuid()))
	c := &Desktop{Run: run}
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", "")
	if err := c.Tell(t.Context(), message); !later(err) {
		t.Errorf("nobody is there: %v", err)
	}
	if err := os.Mkdir(own, 0o700); err != nil {
		t.Fatal(err)
	}
	address := "unix:path=" + filepath.Join(own, "bus")
	bus := exec.Command(daemon, "--session", "--nofork", "--nopidfile", "--address="+address, "--print-address=1")
	ready, err := bus.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := bus.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { bus.Process.Kill(); bus.Wait() }()
	if _, err := ready.Read(make([]byte, 10)); err != nil {
		t.Fatal(err)
	}
	if err := c.Tell(t.Context(), message); err == nil || later(err) {
		t.Errorf("nobody shows notifications: %v", err)
	}
	conn, err := dbus.Connect(address)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	service := &desktopService{got: make(chan shown, 1)}
	if err := conn.Export(service, "/org/freedesktop/Notifications", "org.freedesktop.Notifications"); err != nil {
		t.Fatal(err)
	}
	if r, err := conn.RequestName("org.freedesktop.Notifications", 0); err != nil || r != dbus.RequestNameReplyPrimaryOwner {
		t.Fatal(r, err)
	}
	for _, tt := range []struct {
		m    Message
		want shown
	}{
		{message, shown{"Time Gate", "2 notices of studio", "vault-copy failed: exit status 4 \\x1b[2J&lt;b&gt;naïve&lt;/b&gt;\\nBcc: x@example.org\nglue-warm is well again", urgencyCritical}},
		{Message{Host: "studio", Notices: message.Notices[1:]}, shown{"Time Gate", "glue-warm is well again", "timegate why glue-warm", urgencyNormal}},
	} {
		if err := c.Tell(t.Context(), tt.m); err != nil {
			t.Fatal(err)
		}
		if got := <-service.got; got != tt.want {
			t.Errorf("shown is %+v, want %+v", got, tt.want)
		}
	}
}

// TestOthersDesktop: the system's keeper tells a person by a process with that person's
// rights, over a bus that lets nobody else in.
func TestOthersDesktop(t *testing.T) {
	t.Parallel()
	wstest.Root(t)
	daemon := wstest.Need(t, "dbus-daemon", "dbus-daemon")
	const uid, gid = 65534, 65534 // nobody
	run, err := os.MkdirTemp("/tmp", "tell")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(run)
	own := filepath.Join(run, fmt.Sprint(uid))
	program := filepath.Join(run, "helper") // which nobody may run
	data, err := os.ReadFile(os.Args[0])
	if err == nil {
		err = errors.Join(os.Chmod(run, 0o755), os.Mkdir(own, 0o700), os.Chown(own, uid, gid), os.WriteFile(program, data, 0o755))
	}
	if err != nil {
		t.Fatal(err)
	}
	address := "unix:path=" + filepath.Join(own, "bus")
	as := func(args ...string) *bufio.Reader {
		t.Helper()
		cmd := exec.Command(args[0], args[1:]...)
		cmd.SysProcAttr, cmd.Env, cmd.Dir = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: gid}}, []string{"PATH=/usr/bin:/bin"}, "/"
		out, err := cmd.StdoutPipe()
		if err == nil {
			err = cmd.Start()
		}
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
		lines := bufio.NewReader(out)
		if _, err := lines.ReadString('\n'); err != nil { // it is ready
			t.Fatal(err)
		}
		return lines
	}
	as(daemon, "--session", "--nofork", "--nopidfile", "--address="+address, "--print-address=1")
	said := as(program, "@serve", address)
	c := &Desktop{Root: true, Run: run}
	notices := []tell.Notice{{Gate: "glue-warm", Well: true, As: "nobody"}, {Gate: "vault-copy", Well: true, As: "maren"}, {Gate: "spool-reset", Well: true, As: "root"}, {Text: "something starts"}}
	err = c.Tell(t.Context(), Message{Host: "studio", Notices: notices})
	if left, is := errors.AsType[*LaterError](err); !is || len(left.Left) != 1 || left.Left[0].As != "maren" {
		t.Errorf("of others' gates: %v", err)
	}
	if line, err := said.ReadString('\n'); err != nil || line != fmt.Sprintf("%d glue-warm is well again\n", uid) {
		t.Errorf("it is shown %q, %v", line, err)
	}
}
