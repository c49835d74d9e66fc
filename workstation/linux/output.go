//go:build linux

package linux

import (
	"errors"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"timegate/workstation"
)

// collector reads what a program prints and passes it on.
type collector struct {
	take func([]byte) // may be nil
	pipe *os.File     // to read from; nil where it is not to be had any more

	mu    sync.Mutex // guards what follows, and that take is not called once the program is over
	total int64
	final bool

	drained chan struct{} // closed when all that the program had printed is passed on
	once    sync.Once
}

func newCollector(o workstation.Order, pipe *os.File) *collector {
	return &collector{take: o.Print, pipe: pipe, drained: make(chan struct{})}
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

// drainMost bounds what is taken out of the pipe of a program that has ended:
// more than a pipe holds, so that what a process it left behind goes on to
// print cannot keep it from being over.
const drainMost = 4 << 20

// drain reads what is in the pipe without waiting for more.
func (c *collector) drain(buf []byte) {
	raw, err := c.pipe.SyscallConn()
	if err != nil {
		return
	}
	raw.Control(func(fd uintptr) {
		for left := drainMost; left > 0; {
			n, err := unix.Read(int(fd), buf)
			if n <= 0 || err != nil {
				return
			}
			c.keep(buf[:n])
			left -= n
		}
	})
}

func (c *collector) keep(b []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.final || len(b) == 0 {
		return
	}
	c.total += int64(len(b))
	if c.take != nil {
		c.take(b)
	}
}

// ended waits until all that the program had printed is passed on, and returns
// how many bytes that was.
func (c *collector) ended() (total int64) {
	if c.pipe != nil {
		c.pipe.SetReadDeadline(time.Unix(1, 0))
		<-c.drained
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.final = true
	return c.total
}
