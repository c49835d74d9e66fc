//go:build linux

package window

import (
	"io"
	"maps"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/xproto"
)

// Words of WM_HINTS (ICCCM 4.1.2.4), and what WM_STATE says of a window that is
// to be seen (4.1.3.1).
const (
	hintsFlags  = 0
	hintsState  = 2 * wordSize
	hintsSize   = 9 * wordSize
	normalState = 1
)

// placing is the relay's own connection to the server, by which it maps
// windows in their program's stead and sees whether the person has restored
// one.
type placing struct {
	conn     *xgb.Conn
	wmState  xproto.Atom
	restored atomic.Bool

	mu     sync.Mutex      // guards what follows
	placed map[uint32]bool // the icons; true where the program has been told that one was mapped
}

func connect() (*placing, error) {
	xgb.Logger.SetOutput(io.Discard) // it would print that there is no cookie
	conn, err := xgb.NewConn()
	if err != nil {
		return nil, err
	}
	return &placing{conn: conn, wmState: atom(conn, "WM_STATE"), placed: map[uint32]bool{}}, nil
}

func atom(conn *xgb.Conn, name string) xproto.Atom {
	reply, err := xproto.InternAtom(conn, false, uint16(len(name)), name).Reply()
	if err != nil {
		return xproto.AtomNone
	}
	return reply.Atom
}

func (p *placing) roots() map[uint32]bool {
	out := map[uint32]bool{}
	for _, screen := range xproto.Setup(p.conn).Roots {
		out[uint32(screen.Root)] = true
	}
	return out
}

// managed reports whether a window manager tells that it runs (EWMH,
// _NET_SUPPORTING_WM_CHECK).
func (p *placing) managed() bool {
	root := xproto.Setup(p.conn).DefaultScreen(p.conn).Root
	check := atom(p.conn, "_NET_SUPPORTING_WM_CHECK")
	reply, err := xproto.GetProperty(p.conn, false, root, check, xproto.AtomWindow, 0, 1).Reply()
	if err != nil || len(reply.Value) < wordSize {
		return false
	}
	_, err = xproto.GetWindowAttributes(p.conn, xproto.Window(order.Uint32(reply.Value))).Reply()
	return err == nil
}

// place maps a window as an icon, or as it is when the person has restored
// another one of the program. One that the window manager has nothing to do
// with, such as a tooltip, is mapped as it is. It reports whether it appears.
func (p *placing) place(id uint32, override bool) (appears bool) {
	win := xproto.Window(id)
	appears = override
	if !override {
		state := uint32(iconicState)
		if appears = p.seen(); appears {
			state = normalState
		}
		hints := p.property(win, xproto.AtomWmHints)
		hints = append(hints, make([]byte, max(hintsSize-len(hints), 0))...)
		order.PutUint32(hints[hintsFlags:], order.Uint32(hints[hintsFlags:])|stateHint)
		order.PutUint32(hints[hintsState:], state)
		xproto.ChangeProperty(p.conn, xproto.PropModeReplace, win, xproto.AtomWmHints, xproto.AtomWmHints, 32, uint32(len(hints)/wordSize), hints)
		p.mu.Lock()
		p.placed[id] = false
		p.mu.Unlock()
	}
	xproto.MapWindowChecked(p.conn, win).Check()
	return appears
}

func (p *placing) property(w xproto.Window, name xproto.Atom) []byte {
	reply, err := xproto.GetProperty(p.conn, false, w, name, xproto.GetPropertyTypeAny, 0, hintsSize/wordSize).Reply()
	if err != nil || reply.Format != 32 {
		return nil
	}
	return reply.Value
}

// mapped notes that a program was told that a window has been mapped.
func (p *placing) mapped(id uint32) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if _, ok := p.placed[id]; ok {
		p.placed[id] = true
	}
}

// seen reports whether the person has restored a window. A program may hear of
// that before the window manager has done all that belongs to it, and open
// the next one at once: then it is looked at again.
func (p *placing) seen() bool {
	const tries, pause = 6, 20 * time.Millisecond
	for range tries {
		if p.restored.Load() {
			return true
		}
		p.mu.Lock()
		icons := maps.Clone(p.placed)
		p.mu.Unlock()
		again := false
		for id, told := range icons {
			switch viewable, there := p.viewable(xproto.Window(id)); {
			case !there:
				p.mu.Lock()
				delete(p.placed, id)
				p.mu.Unlock()
			case viewable:
				p.restored.Store(true)
				return true
			default:
				again = again || told
			}
		}
		if !again {
			return false
		}
		time.Sleep(pause)
	}
	return false
}

// viewable reports whether a window is to be seen, here or on another workspace.
func (p *placing) viewable(w xproto.Window) (seen, there bool) {
	attributes, err := xproto.GetWindowAttributes(p.conn, w).Reply()
	if err != nil {
		return false, false
	}
	state := p.property(w, p.wmState)
	return attributes.MapState == xproto.MapStateViewable || len(state) >= wordSize && order.Uint32(state) == normalState, true
}
