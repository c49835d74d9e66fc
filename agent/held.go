package agent

// held is what a run has printed and no keeper is known to have: nothing of the
// first half of what is kept is left out, and of the rest the last half stays.
// Positions count the bytes that were printed.
type held struct {
	half  int64
	total int64
	told  int64 // up to where the keeper at hand was told
	head  []byte
	from  int64 // position of the head
	tail  []byte
	after int64 // position of the tail
	// flying says that there will be a telling anyway.
	flying bool
}

func newHeld(keep int64) *held { return &held{half: max(keep/2, 1)} }

// add takes what was printed.
func (h *held) add(b []byte) {
	if room := h.half - h.total; room > 0 {
		n := min(int64(len(b)), room)
		h.head = append(h.head, b[:n]...)
		h.total += n
		b = b[n:]
	}
	if len(h.tail) == 0 {
		h.after = h.total
	}
	h.total += int64(len(b))
	if over := int64(len(b)) - h.half; over > 0 {
		h.after += int64(len(h.tail)) + over
		h.tail = append(h.tail[:0], b[over:]...)
		return
	}
	h.tail = append(h.tail, b...)
	// What is in front is dropped in large steps.
	if over := int64(len(h.tail)) - h.half; over > h.half {
		h.cutTail(over)
	}
}

// cutTail drops so many bytes of the tail's beginning.
func (h *held) cutTail(n int64) {
	h.tail = append(h.tail[:0], h.tail[n:]...)
	h.after += n
}

// resume says what a new keeper has already.
func (h *held) resume(has int64) { h.told = min(max(has, 0), h.total) }

// drop lets go what a keeper has.
func (h *held) drop(has int64) {
	has = min(has, h.total)
	if n := min(max(has-h.from, 0), int64(len(h.head))); n > 0 {
		h.head, h.from = h.head[n:], h.from+n
	}
	if n := min(max(has-h.after, 0), int64(len(h.tail))); n > 0 {
		h.cutTail(n)
	}
}

// fresh reports whether there is something to tell.
func (h *held) fresh() bool { return h.told < h.total }

// take returns what is to be told next. It stays until it is dropped.
func (h *held) take() (head []byte, gap int64, tail []byte) {
	if over := int64(len(h.tail)) - h.half; over > 0 {
		h.cutTail(over)
	}
	if n := h.told - h.from; n < int64(len(h.head)) {
		head = clone(h.head[max(n, 0):])
		gap = max(h.from-h.told, 0) // let go of, as another keeper had it
		h.told = h.from + int64(len(h.head))
	}
	if h.told < h.total {
		gap += max(h.after-h.told, 0)
		tail = clone(h.tail[max(h.told-h.after, 0):])
	}
	h.told = h.total
	return head, gap, tail
}

// clone copies what is told, as it is written without the lock.
func clone(b []byte) []byte { return append([]byte(nil), b...) }
