package home

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"sync"
)

// Output is the file of what a run prints: the first and the last half of it.
// While the run goes on, the last half is in two files that take turns, so that
// what is kept can be read at any time and survives the keeper; at the end all
// becomes one file. Its methods may be called from any goroutine.
type Output struct {
	path string
	half int64

	mu      sync.Mutex // guards what follows
	head    *os.File   // nil until something was printed
	headLen int64
	tail    *os.File // the one being filled
	tailLen int64
	dropped int64
	total   int64
	final   bool
}

func tailName(path string) string    { return path + ".tail" }
func olderName(path string) string   { return path + ".older" }
func droppedName(path string) string { return path + ".dropped" }

// NewOutput begins the output of a new run, of which at most keep bytes are
// kept.
func (h Home) NewOutput(run, keep int64) *Output {
	o := &Output{path: h.Output(run), half: max(keep/2, 1)}
	for _, name := range []string{o.path, olderName(o.path), tailName(o.path), droppedName(o.path)} {
		os.Remove(name) // of a run of this number in an earlier journal
	}
	return o
}

// ResumeOutput goes on with the output of a run of an earlier keeper.
func (h Home) ResumeOutput(run, keep int64) *Output {
	o := &Output{path: h.Output(run), half: max(keep/2, 1)}
	o.headLen = sizeOf(o.path)
	if o.tailLen = sizeOf(tailName(o.path)); o.tailLen > 0 {
		o.tail, _ = openAppend(tailName(o.path))
	}
	if b, err := os.ReadFile(droppedName(o.path)); err == nil {
		o.dropped, _ = strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
	}
	o.total = o.headLen + o.tailLen + sizeOf(olderName(o.path)) + o.dropped
	return o
}

func openAppend(path string) (*os.File, error) {
	return os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
}

func sizeOf(path string) int64 {
	if info, err := os.Stat(path); err == nil {
		return info.Size()
	}
	return 0
}

// Received is how many bytes have come, those that were left out included.
func (o *Output) Received() int64 {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.total
}

// Skip notes that so many bytes were printed and are left out: what has come
// for the last half until now is none of it any more.
func (o *Output) Skip(n int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.final || n <= 0 {
		return
	}
	o.total += n
	if o.tail != nil {
		o.tail.Close()
		o.tail = nil
	}
	o.dropped += n + o.tailLen + sizeOf(olderName(o.path))
	o.tailLen = 0
	os.Remove(tailName(o.path))
	os.Remove(olderName(o.path))
	o.noteDropped()
}

func (o *Output) noteDropped() {
	os.WriteFile(droppedName(o.path), []byte(strconv.FormatInt(o.dropped, 10)), 0o600)
}

// Keep appends to the first half, then to the last. A write that fails loses
// what was printed, never the program.
func (o *Output) Keep(b []byte) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.final || len(b) == 0 {
		return
	}
	o.total += int64(len(b))
	if room := o.half - o.headLen; room > 0 {
		if !o.begin() {
			return
		}
		n, _ := o.head.Write(b[:min(int64(len(b)), room)])
		o.headLen += int64(n)
		b = b[n:]
	}
	for len(b) > 0 {
		if o.tail == nil || o.tailLen >= o.half {
			if !o.turn() {
				return
			}
		}
		n, err := o.tail.Write(b[:min(int64(len(b)), o.half-o.tailLen)])
		if err != nil {
			return
		}
		o.tailLen += int64(n)
		b = b[n:]
	}
}

// begin opens the head, once there is something to keep in it.
func (o *Output) begin() bool {
	if o.head == nil {
		o.head, _ = openAppend(o.path)
	}
	return o.head != nil
}

// turn begins a new tail file and lets the oldest go.
func (o *Output) turn() bool {
	if o.tail != nil {
		o.tail.Close()
		if old := sizeOf(olderName(o.path)); old > 0 {
			o.dropped += old
			o.noteDropped()
		}
		os.Rename(tailName(o.path), olderName(o.path))
		o.tailLen = 0
	}
	var err error
	o.tail, err = openAppend(tailName(o.path))
	return err == nil
}

// Leave lets the files go as they are, for the next keeper.
func (o *Output) Leave() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.final = true
	for _, f := range []*os.File{o.head, o.tail} {
		if f != nil {
			f.Close()
		}
	}
}

// End makes one file of all that is kept. It returns how many bytes came and
// how many of them were not kept.
func (o *Output) End() (total, dropped int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if !o.final && o.total > 0 && o.begin() {
		o.join()
		o.head.Close()
	}
	o.final = true
	return o.total, o.dropped
}

// join appends the last half of the tail files to the head.
func (o *Output) join() {
	if o.tail != nil {
		o.tail.Close()
	}
	older, newer := sizeOf(olderName(o.path)), sizeOf(tailName(o.path))
	if older+newer == 0 && o.dropped == 0 {
		return
	}
	if skip := older + newer - o.half; skip > 0 || o.dropped > 0 {
		o.dropped += max(skip, 0)
		fmt.Fprintf(o.head, "\n[%d bytes left out]\n", o.dropped)
	}
	appendTail(o.head, olderName(o.path), min(older, max(o.half-newer, 0)))
	appendTail(o.head, tailName(o.path), min(newer, o.half))
	for _, name := range []string{olderName(o.path), tailName(o.path), droppedName(o.path)} {
		os.Remove(name)
	}
}

// appendTail copies the last n bytes of a file.
func appendTail(w io.Writer, path string, n int64) {
	if n <= 0 {
		return
	}
	f, err := os.Open(path)
	if err != nil {
		return
	}
	defer f.Close()
	if _, err := f.Seek(-n, io.SeekEnd); err == nil {
		io.Copy(w, f)
	}
}

// lastLineRead is how much of the end of an output is read for its last line, in bytes.
const lastLineRead = 4 << 10

// LastLine returns the last line of what a run has printed that is not empty, as it was
// printed; "" where nothing is kept.
func (h Home) LastLine(run int64) string {
	path := h.Output(run)
	for _, name := range []string{tailName(path), olderName(path), path} {
		f, err := os.Open(name)
		if err != nil {
			continue
		}
		text := make([]byte, lastLineRead)
		at := max(sizeOf(name)-lastLineRead, 0)
		n, err := f.ReadAt(text, at)
		f.Close()
		if err != nil && !errors.Is(err, io.EOF) {
			continue
		}
		lines := strings.FieldsFunc(string(text[:n]), func(c rune) bool { return c == '\n' || c == '\r' })
		for i := len(lines) - 1; i >= 0; i-- {
			if line := strings.TrimSpace(lines[i]); line != "" {
				return line
			}
		}
	}
	return ""
}

// ReadOutput returns what is kept of a run's output, also while it runs: nothing
// where it has printed nothing.
func (h Home) ReadOutput(run int64) ([]byte, error) {
	path := h.Output(run)
	out, err := os.ReadFile(path)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
		return nil, err
	}
	if b, err := os.ReadFile(droppedName(path)); err == nil {
		out = fmt.Appendf(out, "\n[%s bytes left out]\n", b)
	}
	for _, name := range []string{olderName(path), tailName(path)} {
		if more, err := os.ReadFile(name); err == nil {
			out = append(out, more...)
		}
	}
	return out, nil
}
