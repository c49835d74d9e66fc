//go:build linux

package window

import (
	"encoding/binary"
	"maps"
	"sync"
)

// The requests that matter (X Window System Protocol, appendix B).
const (
	opCreateWindow        = 1
	opGetWindowAttributes = 3
	opDestroyWindow       = 4
	opReparentWindow      = 7
	opMapWindow           = 8
	opConfigureWindow     = 12
	opChangeProperty      = 18
	opSetInputFocus       = 42
	opNoOperation         = 127

	atomWMHints  = 35     // predefined
	stateHint    = 1 << 1 // in the flags of WM_HINTS (ICCCM 4.1.2.4)
	iconicState  = 3      // as initial_state, and as WM_STATE
	pointerRoot  = 1      // where the focus is on no window; 0 is nowhere
	longestHead  = 36     // bytes of a request that are looked at
	configWidth  = 1 << 2 // in the mask of ConfigureWindow
	configHeight = 1 << 3
	wordSize     = 4      // requests are counted in these
	hintsReach   = 36 / 4 // words of a ChangeProperty, up to initial_state
)

// order is how numbers are written: clients of the same machine have its own
// byte order, others are refused.
var order = binary.NativeEndian

// window is a top-level window of the program.
type window struct {
	width, height uint16
	placed        bool      // it was mapped once
	of            *requests // the connection with which it goes
}

// tops are the top-level windows of a program, on all its connections.
type tops struct {
	mu        sync.Mutex // guards what follows
	all       map[uint32]*window
	pretended bool // the program was told that one has appeared, which has not
	appeared  bool // one has
}

// question is a MapWindow that was turned into GetWindowAttributes.
type question struct {
	seq    uint16
	id     uint32
	window window // as it was then
}

// dialogue is what the two directions of a connection share.
type dialogue struct {
	mode     Mode
	roots    map[uint32]bool
	tops     *tops
	restored func() bool // the person has brought a window of the program back

	mu    sync.Mutex // guards what follows
	asked []question // in the order of their replies
}

// requests follows what a client asks of the server.
type requests struct {
	*dialogue
	seq   uint16
	skip  int64 // bytes of the current request that are still to pass
	blind bool  // what came was no X: all passes as it is
}

// take rewrites in place what is whole at the beginning of b, and returns how
// much of b that is. The rest must come again with more behind it.
func (r *requests) take(b []byte) int {
	done := 0
	for done < len(b) {
		rest := b[done:]
		switch {
		case r.blind:
			return len(b)
		case r.skip > 0:
			n := min(r.skip, int64(len(rest)))
			r.skip -= n
			done += int(n)
			continue
		case len(rest) < wordSize:
			return done
		}
		size, plain := int64(order.Uint16(rest[2:]))*wordSize, true
		if size == 0 { // Big Requests Extension, version 2.0
			if len(rest) < 2*wordSize {
				return done
			}
			size, plain = int64(order.Uint32(rest[4:]))*wordSize, false
			if size < 2*wordSize {
				r.blind = true
				continue
			}
		}
		head := int(min(size, longestHead))
		if len(rest) < head {
			return done
		}
		r.seq++
		if plain {
			r.request(rest[:head])
		}
		r.skip = size
	}
	return done
}

// request looks at the head of a request and rewrites it where that is due.
func (r *requests) request(b []byte) {
	r.tops.mu.Lock()
	defer r.tops.mu.Unlock()
	word := func(at int) uint32 {
		if len(b) < at+wordSize {
			return 0
		}
		return order.Uint32(b[at:])
	}
	id := word(4)
	w := r.tops.all[id]
	switch b[0] {
	case opCreateWindow:
		if r.roots[word(8)] && len(b) >= 20 {
			r.tops.all[id] = &window{width: order.Uint16(b[16:]), height: order.Uint16(b[18:]), of: r}
		}
	case opDestroyWindow:
		delete(r.tops.all, id)
	case opReparentWindow:
		r.reparent(id, word(8))
	case opConfigureWindow:
		if w != nil && len(b) >= 12 {
			w.configure(order.Uint16(b[8:]), b[12:])
		}
	case opChangeProperty:
		r.hint(b, w)
	case opMapWindow:
		r.mapWindow(b, id, w)
	case opSetInputFocus:
		// A window that is not there cannot have the focus; the error would end
		// most programs.
		if r.tops.pretended && !r.tops.appeared && id > pointerRoot {
			b[0] = opNoOperation
		}
	}
}

// reparent follows a window that gets another parent. Some toolkits take a
// window out of another one in this way before they destroy both, so it must
// come to pass; they unmap it first.
func (r *requests) reparent(id, parent uint32) {
	if !r.roots[parent] {
		delete(r.tops.all, id)
	} else if r.tops.all[id] == nil {
		r.tops.all[id] = &window{of: r}
	}
}

// end forgets the windows that go with the connection.
func (r *requests) end() {
	r.tops.mu.Lock()
	defer r.tops.mu.Unlock()
	maps.DeleteFunc(r.tops.all, func(_ uint32, w *window) bool { return w.of == r })
}

// configure takes over a new size from the values of a ConfigureWindow.
func (w *window) configure(mask uint16, values []byte) {
	for bit := uint16(1); bit <= configHeight && len(values) >= wordSize; bit <<= 1 {
		if mask&bit == 0 {
			continue
		}
		switch v := uint16(order.Uint32(values)); bit {
		case configWidth:
			w.width = v
		case configHeight:
			w.height = v
		}
		values = values[wordSize:]
	}
}

// left reports whether the program is to do with a window as it likes.
func (r *requests) left(w *window) bool {
	return w == nil || r.mode == Minimised && (w.placed || r.restored())
}

// hint lets WM_HINTS say that the window begins as an icon.
func (r *requests) hint(b []byte, w *window) {
	if r.mode != Minimised || r.left(w) || len(b) < hintsReach*wordSize || order.Uint32(b[8:]) != atomWMHints || b[16] != 32 {
		return
	}
	flags := b[24:]
	order.PutUint32(flags, order.Uint32(flags)|stateHint)
	order.PutUint32(b[32:], iconicState)
}

func (r *requests) mapWindow(b []byte, id uint32, w *window) {
	if r.left(w) {
		return
	}
	b[0] = opGetWindowAttributes
	r.mu.Lock()
	r.asked = append(r.asked, question{seq: r.seq, id: id, window: *w})
	r.mu.Unlock()
	w.placed = true
}
