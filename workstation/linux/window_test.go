//go:build linux

package linux_test

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/xproto"

	"timegate/core/coretest"
	"timegate/workstation"
	"timegate/workstation/linux"
	"timegate/workstation/rights"
	"timegate/workstation/window"
	"timegate/workstation/wstest"
)

// The test binary is also a program with windows, and the processes that
// stand between such a program and the display.
const clientKind = "TIMEGATE_TEST_CLIENT"

func TestMain(m *testing.M) {
	os.Args = append(os.Args[:1:1], rights.Become(os.Args[1:])...)
	if len(os.Args) > 1 && os.Args[1] == window.Helper {
		os.Exit(window.Main(os.Args[2:]))
	}
	if kind, ok := os.LookupEnv(clientKind); ok {
		client(kind == "hinted")
	}
	os.Exit(coretest.Main(m))
}

// client opens a window; when that is there, it takes the focus and opens a
// second one, and when it is there again, a third one. It prints what it is
// told.
func client(hinted bool) {
	fmt.Println(os.Getenv("DISPLAY"))
	conn, err := xgb.NewConn()
	if err != nil {
		fmt.Println("refused")
		os.Exit(1)
	}
	open := func(width, height uint16) xproto.Window {
		screen := xproto.Setup(conn).DefaultScreen(conn)
		id, _ := xproto.NewWindowId(conn)
		xproto.CreateWindow(conn, screen.RootDepth, id, screen.Root, 0, 0, 10, height, 0, xproto.WindowClassInputOutput, screen.RootVisual,
			xproto.CwEventMask, []uint32{xproto.EventMaskStructureNotify | xproto.EventMaskExposure})
		if hinted { // flags: input and state; input; state: normal
			hints := append([]byte{3, 0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0}, make([]byte, 24)...)
			xproto.ChangeProperty(conn, xproto.PropModeReplace, id, xproto.AtomWmHints, xproto.AtomWmHints, 32, 9, hints)
		}
		xproto.ConfigureWindow(conn, id, xproto.ConfigWindowWidth, []uint32{uint32(width)})
		xproto.MapWindow(conn, id)
		return id
	}
	first, others := open(200, 100), map[xproto.Window]string{}
	for {
		ev, err := conn.WaitForEvent()
		switch ev := ev.(type) {
		case xproto.MapNotifyEvent:
			if ev.Window != first {
				fmt.Println(others[ev.Window])
				break
			}
			fmt.Println("mapped")
			xproto.SetInputFocus(conn, xproto.InputFocusParent, first, xproto.TimeCurrentTime)
			others[open(80, 40)] = []string{"second", "third"}[len(others)]
		case xproto.ExposeEvent:
			if ev.Window == first {
				fmt.Printf("exposed %dx%d\n", ev.Width, ev.Height)
			}
		case nil:
			fmt.Println("error:", err)
			if err == nil {
				os.Exit(2)
			}
		}
	}
}

// show starts a program on the display of the test.
func show(t *testing.T, mode, kind string, argv ...string) (p workstation.Process, output func() string, exit <-chan workstation.Exit) {
	t.Helper()
	out, done := &wstest.Printer{}, make(chan workstation.Exit, 1)
	env := []string{"DISPLAY=" + os.Getenv("DISPLAY"), "XAUTHORITY=" + os.Getenv("XAUTHORITY"), "PATH=/usr/local/bin:/usr/bin:/bin", clientKind + "=" + kind}
	o := workstation.Order{Mark: filepath.Base(t.Name()) + fmt.Sprint(os.Getpid()), Argv: argv, Folder: t.TempDir(), Env: env,
		Print: out.Print, Done: func(x workstation.Exit) { done <- x }}
	if len(argv) == 0 {
		o.Argv = []string{os.Args[0]}
	}
	if mode != "ordinary" {
		o.Window = &workstation.Window{Mode: mode, Vars: env[:2]}
	}
	p, err := linux.Starter{}.Start(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.End("KILL") })
	return p, out.String, done
}

// TestWindows: windows that are not to be seen never appear, not even for a
// moment, and their program notices nothing; minimised ones come as icons, and
// once the person has restored one, the program is left alone.
func TestWindows(t *testing.T) {
	if !wstest.Alone(t, 0) {
		return
	}
	d := wstest.StartDesktop(t)
	for _, kind := range []string{"plain", "hinted"} {
		t.Run("ordinary "+kind, func(t *testing.T) {
			d.Await(t)
			p, _, exit := show(t, "ordinary", kind)
			wstest.Await(t, "both windows", func() bool { return len(d.Managed()) == 2 })
			if n := d.Appeared(); n == 0 {
				t.Error("the witness has seen nothing")
			}
			p.End("TERM")
			<-exit
		})
	}
	d.Await(t)
	const often = 10
	for i := range often {
		kind := []string{"plain", "hinted"}[i%2]
		t.Run(fmt.Sprint("none ", kind, i), func(t *testing.T) {
			d.Appeared()
			p, output, exit := show(t, "none", kind)
			wstest.Await(t, "the second window", func() bool { return strings.HasSuffix(output(), "second\n") })
			if _, text, _ := strings.Cut(output(), "\n"); text != "mapped\nexposed 200x100\nsecond\n" {
				t.Errorf("the program was told:\n%s", text)
			}
			if n := d.Appeared(); n > 0 || len(d.Managed()) > 0 || p.Note() != "" {
				t.Errorf("%d windows appeared, %v are managed; note %q", n, d.Managed(), p.Note())
			}
			checkEnd(t, p, output(), exit)
		})
		t.Run(fmt.Sprint("minimised ", kind, i), func(t *testing.T) {
			d.Appeared()
			p, output, exit := show(t, "minimised", kind)
			wstest.Await(t, "the second window", func() bool { return strings.HasSuffix(output(), "second\n") })
			wstest.Await(t, "both icons", func() bool { return len(d.Managed()) == 2 })
			icons := d.Managed()
			if n := d.Appeared(); n > 0 || p.Note() != "" {
				t.Errorf("%d windows appeared; note %q", n, p.Note())
			}
			first := slices.Min(slices.Collect(maps.Keys(icons)))
			if icons[first] != 3 {
				t.Errorf("the windows come as %v", icons)
			}
			d.Restore(first)
			wstest.Await(t, "the third window", func() bool { m := d.Managed(); return len(m) == 3 && m[first] == 1 })
			for w, state := range d.Managed() {
				if was, ok := icons[w]; !ok && state != 1 || ok && w != first && state != was {
					t.Errorf("after the program was restored, its windows are %v", d.Managed())
				}
			}
			wstest.Await(t, "its word", func() bool { return strings.Contains(output(), "third\n") })
			if _, text, _ := strings.Cut(output(), "\n"); !strings.HasPrefix(text, "mapped\nexposed 200x100\nsecond\nmapped\n") || strings.Contains(text, "error") {
				t.Errorf("the program was told:\n%s", text)
			}
			checkEnd(t, p, output(), exit)
			d.Await(t)
		})
	}
	for _, mode := range []string{"none", "minimised"} {
		t.Run("a terminal emulator "+mode, func(t *testing.T) {
			emulator := wstest.Need(t, "xterm", "xterm")
			up := filepath.Join(t.TempDir(), "up")
			d.Appeared()
			p, _, exit := show(t, mode, "", emulator, "-e", "sh", "-c", `touch "`+up+`"; sleep 60`)
			wstest.Await(t, "its program", func() bool { _, err := os.Stat(up); return err == nil })
			if n := d.Appeared(); n > 0 {
				t.Errorf("%d windows appeared", n)
			}
			p.End("TERM")
			<-exit
		})
	}
}

// checkEnd ends a program on a display of its own: that goes with it.
func checkEnd(t *testing.T, p workstation.Process, output string, exit <-chan workstation.Exit) {
	t.Helper()
	number, _, _ := strings.Cut(output, "\n")
	socket := "/tmp/.X11-unix/X" + strings.TrimPrefix(number, ":")
	made, err := os.Stat(socket)
	if err != nil {
		t.Fatal(err)
	}
	p.End("TERM")
	if x := <-exit; x.Signal != "TERM" {
		t.Errorf("it ended with %+v", x)
	}
	wstest.Await(t, "the relay's end", func() bool { now, err := os.Stat(socket); return err != nil || !os.SameFile(made, now) })
}

// TestRelayRefuses: a relay serves the person at the display and nobody else;
// one that cannot reach the display says so before the program is started.
func TestRelayRefuses(t *testing.T) {
	if !wstest.Alone(t, 0) {
		return
	}
	wstest.Root(t)
	wstest.Display(t)
	p, output, exit := show(t, "none", "")
	wstest.Await(t, "the program", func() bool { return strings.Contains(output(), "second") })
	number, _, _ := strings.Cut(output(), "\n")
	stranger := exec.Command(rights.Self)
	stranger.Env = []string{"DISPLAY=" + number, clientKind + "="}
	stranger.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	if out, err := stranger.CombinedOutput(); err == nil || string(out) != number+"\nrefused\n" {
		t.Errorf("another account: %q, %v", out, err)
	}
	checkEnd(t, p, output(), exit)
	for display, want := range map[string]string{"DISPLAY=:9998": "does not answer", "DISPLAY=press-room:0": "not one of this machine"} {
		_, err := linux.Starter{}.Start(workstation.Order{Argv: []string{"/bin/true"}, Window: &workstation.Window{Mode: "none", Vars: []string{display}}})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", display, err)
		}
	}
	// No window manager tells of itself here.
	p, _, exit = show(t, "minimised", "")
	if !strings.Contains(p.Note(), "no window manager") {
		t.Errorf("without a window manager: %q", p.Note())
	}
	p.End("KILL")
	<-exit
}

// TestTerminal: a console program in a terminal emulator has a terminal; what
// it prints is kept, and it ends as it would without.
func TestTerminal(t *testing.T) {
	if !wstest.Alone(t, 0) {
		return
	}
	wstest.Need(t, "xterm", "xterm")
	for _, tt := range []struct {
		name, script string
		end          func(p workstation.Process)
		status       int
		signal, want string
	}{
		{"exit status", `tty; stty size; echo "$TERM"; exit 3`, nil, 3, "", "/dev/pts/"},
		{"signal", `kill -KILL $$`, nil, 0, "KILL", ""},
		{"asked to end", `trap "echo bye; exit 5" TERM; echo up; while :; do sleep 0.05; done`, func(p workstation.Process) { p.End("TERM") }, 5, "", "bye"},
		{"killed", `echo up; sleep 60`, func(p workstation.Process) { p.End("KILL") }, 0, "KILL", "up"},
		{"window closed", `echo up; sleep 60`, func(p workstation.Process) {
			wstest.Do(t, "pkill", "-P", fmt.Sprint(p.PID())) // the emulator is what it has started
		}, 0, "HUP", "up"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			// Each on a desktop of its own: a server gives the numbers of one emulator's windows to
			// the next, which a busy window manager may then take for those of the last.
			d := wstest.StartDesktop(t)
			p, output, exit := show(t, "terminal", "", "/bin/sh", "-c", tt.script)
			if tt.end != nil {
				wstest.Await(t, "the program", func() bool { return strings.Contains(output(), "up") })
				wstest.Await(t, "its window", func() bool { return d.Appeared() > 0 })
				tt.end(p)
			}
			if x := <-exit; x.Status != tt.status || x.Signal != tt.signal {
				t.Errorf("ended with %+v, want status %d and signal %q; output %q", x, tt.status, tt.signal, output())
			}
			if !strings.Contains(output(), tt.want) {
				t.Errorf("output %q, want …%s…", output(), tt.want)
			}
		})
	}
	_, err := linux.Starter{}.Start(workstation.Order{Argv: []string{"/bin/true"}, Env: []string{"PATH=/nowhere"}, Window: &workstation.Window{Mode: "terminal"}})
	if err == nil || !strings.Contains(err.Error(), "no terminal emulator is installed") {
		t.Errorf("without an emulator: %v", err)
	}
}

// BenchmarkRelay compares what an X program waits for, an answer of the
// server, through a relay and without; and a relay's start with a bare fork and
// exec.
func BenchmarkRelay(b *testing.B) {
	wstest.Display(b)
	vars := []string{"DISPLAY=" + os.Getenv("DISPLAY"), "XAUTHORITY=" + os.Getenv("XAUTHORITY")}
	ask := func(b *testing.B, display string) {
		conn, err := xgb.NewConnDisplay(display)
		if err != nil {
			b.Fatal(err)
		}
		defer conn.Close()
		for b.Loop() {
			if _, err := xproto.GetInputFocus(conn).Reply(); err != nil {
				b.Fatal(err)
			}
		}
	}
	b.Run("floor: answer", func(b *testing.B) { ask(b, os.Getenv("DISPLAY")) })
	b.Run("answer through a relay", func(b *testing.B) {
		relay, err := window.StartRelay(window.None, nil, vars)
		if err != nil {
			b.Fatal(err)
		}
		relay.Serve(os.Getpid())
		ask(b, relay.Display)
	})
	b.Run("floor: fork and exec", func(b *testing.B) {
		for b.Loop() {
			if err := exec.Command("/bin/true").Run(); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("start of a relay", func(b *testing.B) {
		for b.Loop() {
			relay, err := window.StartRelay(window.None, nil, vars)
			if err != nil {
				b.Fatal(err)
			}
			relay.Serve(0)
		}
	})
}
