//go:build linux

package wstest

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/xproto"
)

// Display starts an X server that asks for a cookie, and names both in the
// environment of the test.
func Display(t testing.TB) {
	t.Helper()
	program := Need(t, "Xvfb", "xvfb")
	// One entry: of any family, for any display (Xau(3)).
	const name, secret = "MIT-MAGIC-COOKIE-1", "larkspur-bindery"
	entry := "\xff\xff\x00\x00\x00\x00\x00\x12" + name + "\x00\x10" + secret
	authority := filepath.Join(t.TempDir(), "authority")
	if err := os.WriteFile(authority, []byte(entry), 0o600); err != nil {
		t.Fatal(err)
	}
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	cmd := exec.Command(program, "-displayfd", "3", "-auth", authority, "-screen", "0", "1280x800x24", "-nolisten", "tcp", "-noreset")
	cmd.ExtraFiles = []*os.File{w}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	w.Close()
	var number int
	if _, err := fmt.Fscan(r, &number); err != nil {
		t.Fatal(err)
	}
	t.Setenv("DISPLAY", fmt.Sprintf(":%d", number))
	t.Setenv("XAUTHORITY", authority)
}

// Desktop is a display with a window manager, and a witness of what appears
// on it.
type Desktop struct {
	t    testing.TB
	conn *xgb.Conn
	root xproto.Window
	seen chan xproto.Window // what appeared at the top
}

// StartDesktop starts a display and a window manager.
func StartDesktop(t *testing.T) *Desktop {
	t.Helper()
	manager := Need(t, "openbox", "openbox")
	Display(t)
	xgb.Logger.SetOutput(io.Discard) // it would tell of the server's end
	conn, err := xgb.NewConn()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(conn.Close)
	d := &Desktop{t: t, conn: conn, root: xproto.Setup(conn).DefaultScreen(conn).Root, seen: make(chan xproto.Window, 100)}
	cmd := exec.Command(manager)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	Await(t, "the window manager", func() bool { return len(d.property(d.root, "_NET_SUPPORTING_WM_CHECK")) > 0 })
	d.probe()
	mask := []uint32{xproto.EventMaskSubstructureNotify}
	if err := xproto.ChangeWindowAttributesChecked(conn, d.root, xproto.CwEventMask, mask).Check(); err != nil {
		t.Fatal(err)
	}
	go func() {
		for {
			ev, err := conn.WaitForEvent()
			if ev == nil && err == nil {
				return
			}
			if mapped, ok := ev.(xproto.MapNotifyEvent); ok {
				d.seen <- mapped.Window
			}
		}
	}()
	return d
}

// probe opens windows and takes them away again until one was managed: a
// window manager that begins may overlook the first.
func (d *Desktop) probe() {
	id, tries := xproto.Window(0), 0
	Await(d.t, "a managed window", func() bool {
		const patience = 50 // looks
		if tries%patience == 0 {
			if id != 0 {
				xproto.DestroyWindow(d.conn, id)
			}
			id, _ = xproto.NewWindowId(d.conn)
			xproto.CreateWindow(d.conn, 0, id, d.root, 0, 0, 20, 20, 0, xproto.WindowClassInputOutput, 0, 0, nil)
			xproto.MapWindow(d.conn, id)
		}
		tries++
		return len(d.Managed()) == 1
	})
	xproto.DestroyWindow(d.conn, id)
	d.Await(d.t)
}

// Await waits until the window manager has let all windows go. The server
// gives their numbers to the next program, whose windows it would take for
// those of the last.
func (d *Desktop) Await(t testing.TB) {
	t.Helper()
	Await(t, "an empty desktop", func() bool { return len(d.Managed()) == 0 })
}

// Appeared returns how many windows have appeared at the top since it was
// last asked, frames of the window manager included.
func (d *Desktop) Appeared() int {
	d.property(d.root, "WM_STATE") // all that happened before is told before this is answered
	n := 0
	for {
		select {
		case <-d.seen:
			n++
		default:
			return n
		}
	}
}

func (d *Desktop) atom(name string) xproto.Atom {
	reply, err := xproto.InternAtom(d.conn, false, uint16(len(name)), name).Reply()
	if err != nil {
		d.t.Fatal(err)
	}
	return reply.Atom
}

// property returns a property of a window as 32-bit numbers.
func (d *Desktop) property(w xproto.Window, name string) []uint32 {
	reply, err := xproto.GetProperty(d.conn, false, w, d.atom(name), xproto.GetPropertyTypeAny, 0, 1000).Reply()
	if err != nil || reply.Format != 32 {
		return nil
	}
	var out []uint32
	for b := reply.Value; len(b) >= 4; b = b[4:] {
		out = append(out, xgb.Get32(b))
	}
	return out
}

// Managed lists the windows in the task list, by WM_STATE (ICCCM 4.1.3.1):
// 1 for one that is to be seen, 3 for an icon.
func (d *Desktop) Managed() map[xproto.Window]uint32 {
	out := map[xproto.Window]uint32{}
	for _, w := range d.property(d.root, "_NET_CLIENT_LIST") {
		if state := d.property(xproto.Window(w), "WM_STATE"); len(state) > 0 {
			out[xproto.Window(w)] = state[0]
		}
	}
	return out
}

// Restore does what a click in the task list does (EWMH, _NET_ACTIVE_WINDOW).
func (d *Desktop) Restore(w xproto.Window) {
	ev := xproto.ClientMessageEvent{Format: 32, Window: w, Type: d.atom("_NET_ACTIVE_WINDOW"), Data: xproto.ClientMessageDataUnionData32New([]uint32{2, 0, 0, 0, 0})}
	xproto.SendEvent(d.conn, false, d.root, xproto.EventMaskSubstructureNotify|xproto.EventMaskSubstructureRedirect, string(ev.Bytes()))
}
