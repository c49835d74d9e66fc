//go:build linux

package linux

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"timegate/workstation"
)

// collector keeps the first and the last half of what a program prints. While
// it runs, the last half is in two files that take turns, so that what is kept
// can be read at any time and survives the keeper; at the end all becomes one
// file.
type collector struct {
	path string
	half int64
	tee  io.Writer
	pipe *os.File // to read from; nil where it is not to be had any more

	mu      sync.Mutex // guards what follows, until the program has ended
	head    *os.File   // nil until something was printed
	headLen int64
	tail    *os.File // the one being filled
	tailLen int64
	dropped int64
	total   int64
	final   bool

	drained chan struct{} // closed when all that the program had printed is kept
	once    sync.Once
}

func tailName(path string) string    { return path + ".tail" }
func olderName(path string) string   { return path + ".older" }
func droppedName(path string) string { return path + ".dropped" }

// newCollector returns a collector for a new run, and the program's end of
// its pipe.
func newCollector(o workstation.Order) (*collector, *pipeEnd, error) {
	c := collect(o.Output)
	if dir := filepath.Dir(c.path); unix.Access(dir, unix.W_OK) != nil {
		return nil, nil, fmt.Errorf("%s is not there, or cannot be written", dir)
	}
	for _, name := range []string{c.path, olderName(c.path), tailName(c.path), droppedName(c.path)} {
		os.Remove(name) // of a run of this number in an earlier journal
	}
	read, end, err := newPipe()
	if err != nil {
		return nil, nil, err
	}
	c.pipe = read
	if a := o.As; a != nil {
		// Programs open it again by names such as /dev/stderr.
		if err := end.file.Chown(int(a.UID), int(a.GID)); err != nil {
			read.Close()
			end.file.Close()
			return nil, nil, err
		}
	}
	return c, end, nil
}

// resumeCollector goes on with a pipe of an earlier keeper's run. It is nil
// where nobody has it open any more.
func resumeCollector(o workstation.Output, pipe *os.File) *collector {
	c := collect(o)
	c.pipe = pipe
	c.headLen = sizeOf(c.path)
	c.tailLen = sizeOf(tailName(c.path))
	if c.tailLen > 0 {
		c.tail, _ = openAppend(tailName(c.path))
	}
	if b, err := os.ReadFile(droppedName(c.path)); err == nil {
		c.dropped, _ = strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
	}
	c.total = c.headLen + c.tailLen + sizeOf(olderName(c.path)) + c.dropped
	return c
}

func collect(o workstation.Output) *collector {
	return &collector{path: o.Path, half: max(o.Keep/2, 1), tee: o.Tee, drained: make(chan struct{})}
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

// run reads the pipe until no process has it open any more.
func (c *collector) run() {
	defer c.once.Do(func() { close(c.drained) })
	if c.pipe == nil {
		return
	}
	defer c.pipe.Close()
	buf := make([]byte, 32<<10)
	for {
		n, err := c.pipe.Read(buf)
		c.keep(buf[:n])
		switch {
		case err == nil:
		case errors.Is(err, os.ErrDeadlineExceeded):
			// The program has ended: take what is left in the pipe, then go on
			// for processes that it left behind.
			c.drain(buf)
			c.pipe.SetReadDeadline(time.Time{})
			c.once.Do(func() { close(c.drained) })
		default:
			return
		}
	}
}

// drain reads what is in the pipe without waiting for more.
func (c *collector) drain(buf []byte) {
	raw, err := c.pipe.SyscallConn()
	if err != nil {
		return
	}
	raw.Control(func(fd uintptr) {
		for {
			n, err := unix.Read(int(fd), buf)
			if n <= 0 || err != nil {
				return
			}
			c.keep(buf[:n])
		}
	})
}

// keep appends to the head, then to the tail. A write that fails loses what
// was printed, never the program.
func (c *collector) keep(b []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.final || len(b) == 0 {
		return
	}
	c.total += int64(len(b))
	if c.tee != nil {
		c.tee.Write(b)
	}
	if room := c.half - c.headLen; room > 0 {
		if !c.begin() {
			return
		}
		n, _ := c.head.Write(b[:min(int64(len(b)), room)])
		c.headLen += int64(n)
		b = b[n:]
	}
	for len(b) > 0 {
		if c.tail == nil || c.tailLen >= c.half {
			if !c.turn() {
				return
			}
		}
		n, err := c.tail.Write(b[:min(int64(len(b)), c.half-c.tailLen)])
		if err != nil {
			return
		}
		c.tailLen += int64(n)
		b = b[n:]
	}
}

// begin opens the head, once there is something to keep in it.
func (c *collector) begin() bool {
	if c.head == nil {
		c.head, _ = openAppend(c.path)
	}
	return c.head != nil
}

// turn begins a new tail file and lets the oldest go.
func (c *collector) turn() bool {
	if c.tail != nil {
		c.tail.Close()
		if old := sizeOf(olderName(c.path)); old > 0 {
			c.dropped += old
			os.WriteFile(droppedName(c.path), []byte(strconv.FormatInt(c.dropped, 10)), 0o600)
		}
		os.Rename(tailName(c.path), olderName(c.path))
		c.tailLen = 0
	}
	var err error
	c.tail, err = openAppend(tailName(c.path))
	return err == nil
}

// ended waits until all that the program had printed is kept, and makes one
// file of it. It returns how many bytes came and how many were not kept.
func (c *collector) ended() (total, dropped int64) {
	if c.pipe != nil {
		c.pipe.SetReadDeadline(time.Unix(1, 0))
		<-c.drained
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.final = true
	if c.total > 0 && c.begin() {
		c.join()
		c.head.Close()
	}
	return c.total, c.dropped
}

// join appends the last half of the tail files to the head.
func (c *collector) join() {
	if c.tail != nil {
		c.tail.Close()
	}
	older, newer := sizeOf(olderName(c.path)), sizeOf(tailName(c.path))
	if older+newer == 0 {
		return
	}
	if skip := older + newer - c.half; skip > 0 || c.dropped > 0 {
		c.dropped += max(skip, 0)
		fmt.Fprintf(c.head, "\n[%d bytes left out]\n", c.dropped)
	}
	appendTail(c.head, olderName(c.path), min(older, max(c.half-newer, 0)))
	appendTail(c.head, tailName(c.path), min(newer, c.half))
	for _, name := range []string{olderName(c.path), tailName(c.path), droppedName(c.path)} {
		os.Remove(name)
	}
}

// appendTail copies the last n bytes of a file.
func appendTail(w io.Writer, path string, n int64) {
	f, err := os.Open(path)
	if err != nil || n <= 0 {
		return
	}
	defer f.Close()
	if _, err := f.Seek(-n, io.SeekEnd); err == nil {
		io.Copy(w, f)
	}
}

// ReadOutput returns what is kept of a run's output, also while it runs. There
// is no file where nothing was printed.
func ReadOutput(path string) ([]byte, error) {
	out, err := os.ReadFile(path)
	if err != nil {
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
