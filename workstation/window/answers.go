//go:build linux

package window

// What a server sends (X Window System Protocol, appendix B): an error, a
// reply, or an event, of 32 bytes; replies and generic events may have more.
const (
	packetSize   = 32
	kindError    = 0
	kindReply    = 1
	kindGeneric  = 35
	kindMask     = 0x7f
	evExpose     = 12
	evVisibility = 15
	evUnmap      = 18
	evMap        = 19

	attributesSize = 44 // of the reply to GetWindowAttributes

	structureNotifyMask  = 1 << 17
	visibilityChangeMask = 1 << 16
	exposureMask         = 1 << 15

	fullyObscured = 2
)

// answers follows what a server sends to a client.
type answers struct {
	*dialogue
	// place maps a window as an icon, in the client's stead, and reports
	// whether it maps it as it is after all.
	place func(id uint32, override bool) bool
	// mapped tells that a window has been mapped.
	mapped func(id uint32)

	begun bool
	skip  int64
}

// take appends to out what the client is to get of b, and returns how much of
// b that was made from. The rest must come again with more behind it.
func (a *answers) take(b, out []byte) (int, []byte) {
	done := 0
	for done < len(b) {
		rest := b[done:]
		if a.skip > 0 {
			n := int(min(a.skip, int64(len(rest))))
			out = append(out, rest[:n]...)
			a.skip -= int64(n)
			done += n
			continue
		}
		if !a.begun { // the answer to the connection setup
			const head = 8
			if len(rest) < head {
				break
			}
			a.skip = head + int64(order.Uint16(rest[6:]))*wordSize
			a.begun = true
			continue
		}
		if len(rest) < packetSize {
			break
		}
		size := int64(packetSize)
		if kind := rest[0] & kindMask; kind == kindReply || kind == kindGeneric {
			size += int64(order.Uint32(rest[4:])) * wordSize
		}
		q, ours := a.question(rest)
		switch {
		case ours && rest[0] == kindReply && len(rest) < attributesSize:
			return done, out
		case ours && rest[0] == kindReply:
			out = a.answer(q, rest[:attributesSize], out)
			done += attributesSize
			a.answered()
		case ours:
			// There is no such window: as if MapWindow had said so.
			rest[10] = opMapWindow
			a.skip = packetSize
			a.answered()
		default:
			if rest[0] == evMap {
				a.appeared(order.Uint32(rest[8:]))
			}
			a.skip = size
		}
	}
	return done, out
}

// question returns the one that a packet answers, if it does.
func (a *answers) question(packet []byte) (question, bool) {
	if packet[0] != kindReply && packet[0] != kindError {
		return question{}, false
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.asked) == 0 || a.asked[0].seq != order.Uint16(packet[2:]) {
		return question{}, false
	}
	return a.asked[0], true
}

func (a *answers) answered() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.asked = a.asked[1:]
}

// appeared notes that a window has appeared: the person has restored it.
func (a *answers) appeared(id uint32) {
	a.tops.mu.Lock()
	a.tops.appeared = a.tops.appeared || a.tops.all[id] != nil
	a.tops.mu.Unlock()
	a.mapped(id)
}

// answer does what is to be done in place of mapping a window, and appends
// what the client hears of it: that it has appeared, as some programs wait for
// that, and, of an icon, that it is gone again.
func (a *answers) answer(q question, reply, out []byte) []byte {
	override, wants := reply[27] != 0, order.Uint32(reply[36:])
	if a.mode == Minimised && a.place(q.id, override) {
		return out // it appears, and the server tells of that
	}
	if a.mode == None || wants&structureNotifyMask != 0 {
		a.tops.mu.Lock()
		a.tops.pretended = true // until the server tells otherwise, which it does to who asked for it
		a.tops.mu.Unlock()
	}
	event := func(kind byte) []byte {
		out = append(out, make([]byte, packetSize)...)
		e := out[len(out)-packetSize:]
		e[0] = kind
		order.PutUint16(e[2:], q.seq)
		order.PutUint32(e[4:], q.id)
		return e
	}
	if wants&structureNotifyMask != 0 {
		e := event(evMap)
		order.PutUint32(e[8:], q.id)
		e[12] = reply[27]
	}
	if wants&visibilityChangeMask != 0 {
		event(evVisibility)[8] = fullyObscured
	}
	if wants&exposureMask != 0 {
		e := event(evExpose)
		order.PutUint16(e[12:], q.window.width)
		order.PutUint16(e[14:], q.window.height)
	}
	if a.mode == Minimised && wants&structureNotifyMask != 0 {
		order.PutUint32(event(evUnmap)[8:], q.id)
	}
	return out
}
