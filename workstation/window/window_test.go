//go:build linux

package window

import (
	"bytes"
	"encoding/binary"
	"testing"
)

// words writes a request or a packet.
func words(numbers ...uint32) []byte {
	var out []byte
	for _, n := range numbers {
		out = order.AppendUint32(out, n)
	}
	return out
}

// request writes a request's first word and what follows.
func request(op, data byte, rest ...uint32) []byte {
	first := uint32(op) | uint32(data)<<8 | uint32(len(rest)+1)<<16
	return append(words(first), words(rest...)...)
}

const root, other, win, child = 7, 8, 0x400001, 0x400002

func talk(mode Mode) *dialogue {
	return &dialogue{mode: mode, roots: map[uint32]bool{root: true}, tops: &tops{all: map[uint32]*window{}}, restored: func() bool { return false }}
}

// requestTests are requests and what a server is to get of the last one.
var requestTests = []struct {
	name string
	mode Mode
	in   [][]byte
	want []byte
}{
	{"a top-level window is asked about in place of being mapped", None, [][]byte{
		request(opCreateWindow, 24, win, root, 0, 100|50<<16, 0, 0, 0), request(opMapWindow, 0, win)}, request(opGetWindowAttributes, 0, win)},
	{"a child is mapped", None, [][]byte{
		request(opCreateWindow, 24, win, root, 0, 0, 0, 0, 0), request(opCreateWindow, 24, child, win, 0, 0, 0, 0, 0), request(opMapWindow, 0, child)},
		request(opMapWindow, 0, child)},
	{"another program's window is mapped", None, [][]byte{request(opMapWindow, 0, win)}, request(opMapWindow, 0, win)},
	{"a window that is taken out of another one", None, [][]byte{request(opCreateWindow, 24, win, other, 0, 0, 0, 0, 0), request(opReparentWindow, 0, win, root, 0)},
		request(opReparentWindow, 0, win, root, 0)},
	{"a child that moves to the top", None, [][]byte{
		request(opCreateWindow, 24, win, other, 0, 0, 0, 0, 0), request(opReparentWindow, 0, win, root, 0), request(opMapWindow, 0, win)},
		request(opGetWindowAttributes, 0, win)},
	{"a window that becomes a child", None, [][]byte{
		request(opCreateWindow, 24, win, root, 0, 0, 0, 0, 0), request(opReparentWindow, 0, win, other, 0), request(opMapWindow, 0, win)}, request(opMapWindow, 0, win)},
	{"a window that is no more", None, [][]byte{
		request(opCreateWindow, 24, win, root, 0, 0, 0, 0, 0), request(opDestroyWindow, 0, win), request(opMapWindow, 0, win)}, request(opMapWindow, 0, win)},
	{"the focus, where a window is thought to be there", None, [][]byte{request(opSetInputFocus, 1, win, 0)}, request(opNoOperation, 1, win, 0)},
	{"no focus", None, [][]byte{request(opSetInputFocus, 1, pointerRoot, 0)}, request(opSetInputFocus, 1, pointerRoot, 0)},
	{"a window is mapped again", Minimised, [][]byte{
		request(opCreateWindow, 24, win, root, 0, 0, 0, 0, 0), request(opMapWindow, 0, win), request(opMapWindow, 0, win)}, request(opMapWindow, 0, win)},
	{"hints", Minimised, [][]byte{
		request(opCreateWindow, 24, win, root, 0, 0, 0, 0, 0), request(opChangeProperty, 0, win, atomWMHints, atomWMHints, 32, 9, 1, 1, 1, 0, 0, 0, 0, 0, 0)},
		request(opChangeProperty, 0, win, atomWMHints, atomWMHints, 32, 9, 3, 1, 3, 0, 0, 0, 0, 0, 0)},
	{"hints of an unseen window", None, [][]byte{
		request(opCreateWindow, 24, win, root, 0, 0, 0, 0, 0), request(opChangeProperty, 0, win, atomWMHints, atomWMHints, 32, 9, 1, 1, 1, 0, 0, 0, 0, 0, 0)},
		request(opChangeProperty, 0, win, atomWMHints, atomWMHints, 32, 9, 1, 1, 1, 0, 0, 0, 0, 0, 0)},
	{"after a big request", None, [][]byte{
		request(opCreateWindow, 24, win, root, 0, 0, 0, 0, 0), words(72, 4, win, opMapWindow|2<<16), request(opMapWindow, 0, win)}, request(opGetWindowAttributes, 0, win)},
}

func TestRequests(t *testing.T) {
	for _, tt := range requestTests {
		in := bytes.Join(tt.in, nil)
		r := &requests{dialogue: talk(tt.mode)}
		r.tops.pretended = true // as after the first window
		if n := r.take(in); n != len(in) || !bytes.HasSuffix(in, tt.want) {
			t.Errorf("%s: %d of %d bytes, at the end % x, want % x", tt.name, n, len(in), in[len(in)-len(tt.want):], tt.want)
		}
		if r.seq != uint16(len(tt.in)) {
			t.Errorf("%s: %d requests were counted, want %d", tt.name, r.seq, len(tt.in))
		}
	}
}

// FuzzRelay: whatever is said, and however it is cut in pieces, nothing is
// added to requests and nothing is left out, and both directions come out as
// if they had come at once.
func FuzzRelay(f *testing.F) {
	for _, tt := range requestTests {
		f.Add(bytes.Join(tt.in, nil), bytes.Repeat([]byte{1, 0, 2, 0, 3, 0, 0, 0}, 12), uint8(5))
	}
	f.Fuzz(func(t *testing.T, asked, said []byte, size uint8) {
		for _, mode := range []Mode{None, Minimised} {
			whole, whole2 := run(mode, asked, said, len(asked)+len(said)+1)
			cut, cut2 := run(mode, asked, said, int(size)+1)
			if !bytes.Equal(whole, cut) || !bytes.Equal(whole2, cut2) {
				t.Errorf("in pieces of %d bytes:\n% x\n% x\nwant\n% x\n% x", size+1, cut, cut2, whole, whole2)
			}
			if len(asked)-len(whole) >= longestHead || len(whole) > len(asked) {
				t.Errorf("%d of %d bytes of requests were passed on", len(whole), len(asked))
			}
		}
	})
}

// run passes on both directions of a connection, in pieces.
func run(mode Mode, asked, said []byte, size int) (toServer, toClient []byte) {
	d := talk(mode)
	req := &requests{dialogue: d}
	ans := &answers{dialogue: d, place: func(uint32, bool) bool { return false }, mapped: func(uint32) {}, begun: true}
	var held []byte
	for b := bytes.Clone(asked); len(b) > 0; {
		n := min(size, len(b))
		held, b = append(held, b[:n]...), b[n:]
		done := req.take(held)
		toServer, held = append(toServer, held[:done]...), held[done:]
	}
	held = nil
	for b := bytes.Clone(said); len(b) > 0; {
		n := min(size, len(b))
		held, b = append(held, b[:n]...), b[n:]
		var done int
		done, toClient = ans.take(held, toClient)
		held = held[done:]
	}
	return toServer, toClient
}

func TestAnswers(t *testing.T) {
	reply := make([]byte, attributesSize)
	reply[0], reply[2], reply[4] = kindReply, 9, 3
	order.PutUint32(reply[36:], structureNotifyMask|exposureMask|visibilityChangeMask)
	deaf := append(bytes.Clone(reply[:36]), make([]byte, 8)...) // it wants to hear of nothing
	fault := make([]byte, packetSize)
	fault[1], fault[2], fault[10] = 3, 9, opGetWindowAttributes
	event := append([]byte{22, 0, 9}, make([]byte, packetSize-3)...)
	for _, tt := range []struct {
		name    string
		mode    Mode
		in      []byte
		kinds   []byte // of what the client gets
		place   int
		appears bool
	}{
		{"not to be seen", None, reply, []byte{evMap, evVisibility, evExpose}, 0, false},
		{"an icon", Minimised, reply, []byte{evMap, evVisibility, evExpose, evUnmap}, 1, false},
		{"an icon whose program does not listen", Minimised, deaf, nil, 1, false},
		{"one that appears after all", Minimised, reply, nil, 1, true},
		{"no such window", Minimised, fault, []byte{kindError}, 0, false},
		{"what else is told", None, event, []byte{22}, 0, false},
	} {
		d := talk(tt.mode)
		d.asked = []question{{seq: 9, id: win, window: window{width: 100, height: 50}}}
		placed := 0
		a := &answers{dialogue: d, begun: true, place: func(uint32, bool) bool { placed++; return tt.appears }, mapped: func(uint32) {}}
		n, out := a.take(bytes.Clone(tt.in), nil)
		var kinds []byte
		for i := 0; i+packetSize <= len(out); i += packetSize {
			kinds = append(kinds, out[i])
			if op := out[i+10]; out[i] == kindError && op != opMapWindow {
				t.Errorf("%s: the error is of request %d", tt.name, op)
			}
			if out[i] == evExpose && (order.Uint16(out[i+12:]) != 100 || order.Uint16(out[i+14:]) != 50) {
				t.Errorf("%s: exposed % x", tt.name, out[i:])
			}
		}
		// Who is told of nothing must be let have the focus.
		if heard := len(kinds) > 0 && kinds[0] == evMap; d.tops.pretended != heard {
			t.Errorf("%s: pretended %v", tt.name, d.tops.pretended)
		}
		if n != len(tt.in) || !bytes.Equal(kinds, tt.kinds) || placed != tt.place {
			t.Errorf("%s: %d of %d bytes, packets %v, placed %d", tt.name, n, len(tt.in), kinds, placed)
		}
	}
}

func TestCookie(t *testing.T) {
	entry := func(family uint16, fields ...string) (out []byte) {
		out = binary.BigEndian.AppendUint16(out, family)
		for _, f := range fields {
			out = append(binary.BigEndian.AppendUint16(out, uint16(len(f))), f...)
		}
		return out
	}
	const kind = "MIT-MAGIC-COOKIE-1"
	file := bytes.Join([][]byte{
		entry(familyLocal, "press-room", "0", kind, "another machine's"), entry(familyLocal, "front-desk", "1", kind, "another display's"),
		entry(familyLocal, "front-desk", "0", "XDM-AUTHORIZATION-1", "another kind"), entry(familyLocal, "front-desk", "0", kind, "this one"),
		entry(familyWild, "", "", kind, "any"),
	}, nil)
	for _, tt := range []struct {
		data   []byte
		number int
		want   string
	}{{file, 0, "this one"}, {file, 1, "another display's"}, {file, 2, "any"}, {file[:len(file)-1], 2, ""}, {[]byte{1}, 0, ""}, {nil, 0, ""}} {
		if got := findCookie(tt.data, "front-desk", tt.number); string(got.data) != tt.want {
			t.Errorf("display %d of %d bytes: %q, want %q", tt.number, len(tt.data), got.data, tt.want)
		}
	}
}
