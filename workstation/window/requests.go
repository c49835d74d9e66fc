package window

import (
	"encoding/binary"
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

	atomWMHints  = 35      // predefined
	stateHint    = 1 << 1  // in the flags of WM_HINTS (ICCCM 4.1.2.4)
	iconicState  = 3       // as initial_state, and as WM_STATE
	longestHead  = 36      // bytes of a request that are looked at
	configWidth  = 1 << 2  // in the mask of ConfigureWindow
	configHeight = 1 << 3  //
	wordSize     = 4       // requests are counted in these
	noHintsOf    = 36 / 4  // words of a ChangeProperty that reach initial_state
	maxWindows   = 1 << 16 // of one program; one with more is passed on as it is
)

// order is how numbers are written: clients of the same machine have its own
// byte order, others are refused.
var order = binary.NativeEndian

// window is one that the client made.
type window struct {
	parent        uint32
	width, height uint16
	placed        bool // it was mapped once
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
	restored func() bool // the person has brought a window of the program back

	mu    sync.Mutex // guards what follows
	asked []question // in the order of their replies
}

// requests follows what a client asks of the server. Its windows belong to
// the goroutine that reads the client.
type requests struct {
	*dialogue
	windows map[uint32]*window
	seq     uint16
	skip    int64 // bytes of the current request that are still to pass
	blind   bool  // what came was no X: all passes as it is
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
	word := func(at int) uint32 {
		if len(b) < at+wordSize {
			return 0
		}
		return order.Uint32(b[at:])
	}
	id := word(4)
	switch b[0] {
	case opCreateWindow:
		if len(r.windows) < maxWindows && len(b) >= 20 {
			r.windows[id] = &window{parent: word(8), width: order.Uint16(b[16:]), height: order.Uint16(b[18:])}
		}
	case opDestroyWindow:
		delete(r.windows, id)
	case opReparentWindow:
		if w := r.windows[id]; w != nil {
			w.parent = word(8)
		}
	case opConfigureWindow:
		if w := r.windows[id]; w != nil && len(b) >= 12 {
			w.configure(order.Uint16(b[8:]), b[12:])
		}
	case opChangeProperty:
		r.hint(b, id)
	case opMapWindow:
		r.mapWindow(b, id)
	case opSetInputFocus:
		// A window that is not to be seen cannot have the focus; the error
		// would end most programs.
		if r.mode == None && r.windows[id] != nil {
			b[0] = opNoOperation
		}
	}
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

// top returns a window that is to be looked at when it is mapped, or nil.
func (r *requests) top(id uint32) *window {
	w := r.windows[id]
	if w == nil || !r.roots[w.parent] || r.mode == Minimised && (w.placed || r.restored()) {
		return nil
	}
	return w
}

// hint lets WM_HINTS say that the window begins as an icon.
func (r *requests) hint(b []byte, id uint32) {
	if r.mode != Minimised || len(b) < noHintsOf*wordSize || order.Uint32(b[8:]) != atomWMHints || b[16] != 32 {
		return
	}
	if w := r.windows[id]; w != nil && !w.placed && !r.restored() {
		flags := b[24:]
		order.PutUint32(flags, order.Uint32(flags)|stateHint)
		order.PutUint32(b[32:], iconicState)
	}
}

func (r *requests) mapWindow(b []byte, id uint32) {
	w := r.top(id)
	if w == nil {
		return
	}
	b[0] = opGetWindowAttributes
	r.mu.Lock()
	r.asked = append(r.asked, question{seq: r.seq, id: id, window: *w})
	r.mu.Unlock()
	w.placed = true
}
