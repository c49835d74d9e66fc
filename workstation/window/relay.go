//go:build linux

package window

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"strconv"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"timegate/workstation/peer"
)

// The descriptor by which a relay speaks with whoever started it.
const starterFD = 3

// Numbers of the displays that relays make: well above those of real ones, and
// so many that nobody can take them all. One is chosen by chance.
const (
	firstNumber = 10_000
	lastNumber  = 1_000_000_000
	numberTries = 100
)

// idleTimeout is how long a relay waits for its program to connect where the
// keeper went away before it could say which that is.
const idleTimeout = 30 * time.Second

// relay stands between a program and an X server.
type relay struct {
	mode    Mode
	display display
	cookie  cookie
	placing *placing
	roots   map[uint32]bool
	tops    *tops

	mu    sync.Mutex // guards what follows
	conns int
	over  bool          // the program has ended
	empty chan struct{} // closed when it has, and nothing of it is connected
}

// relayMain is the relay's process. It tells the number of its display, or
// why there is none, and is then told the program's process number.
func relayMain(mode Mode) error {
	outlive()
	starter := os.NewFile(starterFD, "starter")
	defer starter.Close()
	r, l, number, err := newRelay(mode)
	if err != nil {
		fmt.Fprintf(starter, "error %v\n", err)
		return err
	}
	defer os.Remove(socketOf(number))
	note := ""
	if mode == Minimised && !r.placing.managed() {
		note = "no window manager tells that it runs, so its windows may not be minimised"
	}
	fmt.Fprintf(starter, ":%d%s %s\n", number, r.display.screen, note)
	go r.follow(starter)
	go r.accept(l)
	<-r.empty
	return nil
}

func newRelay(mode Mode) (*relay, *net.UnixListener, int, error) {
	d, err := parseDisplay(os.Getenv("DISPLAY"))
	if err != nil {
		return nil, nil, 0, err
	}
	r := &relay{mode: mode, display: d, cookie: cookieFor(d), tops: &tops{all: map[uint32]*window{}}, empty: make(chan struct{})}
	if r.placing, err = connect(); err != nil {
		return nil, nil, 0, fmt.Errorf("the display :%d does not answer: %w", d.number, err)
	}
	r.roots = r.placing.roots()
	l, number, err := listen()
	return r, l, number, err
}

// listen makes a display of its own.
func listen() (*net.UnixListener, int, error) {
	for range numberTries {
		number := firstNumber + rand.IntN(lastNumber-firstNumber)
		l, err := net.ListenUnix("unix", &net.UnixAddr{Name: socketOf(number), Net: "unix"})
		if err == nil {
			return l, number, nil
		}
		if !errors.Is(err, syscall.EADDRINUSE) {
			return nil, 0, err
		}
	}
	return nil, 0, errors.New("no number is left for a display")
}

// follow learns which program it is for, and waits for its end.
func (r *relay) follow(starter *os.File) {
	defer r.programOver()
	buf := make([]byte, 32)
	n, _ := starter.Read(buf)
	pid, err := strconv.Atoi(string(buf[:n]))
	if err != nil {
		time.Sleep(idleTimeout)
		return
	}
	fd, err := unix.PidfdOpen(pid, 0)
	if err != nil {
		return
	}
	defer unix.Close(fd)
	for {
		if _, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, -1); !errors.Is(err, unix.EINTR) {
			return
		}
	}
}

func (r *relay) programOver() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.over = true
	if r.conns == 0 {
		close(r.empty)
	}
}

func (r *relay) count(change int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.conns += change
	if r.over && r.conns == 0 {
		select {
		case <-r.empty:
		default:
			close(r.empty)
		}
	}
}

// accept serves the program's connections until the process ends.
func (r *relay) accept(l *net.UnixListener) {
	for {
		c, err := l.AcceptUnix()
		if err != nil {
			if errors.Is(err, syscall.EMFILE) {
				time.Sleep(time.Second)
				continue
			}
			return
		}
		r.count(1)
		go func() {
			defer r.count(-1)
			defer c.Close()
			r.serve(c)
		}()
	}
}

// serve joins a client to the server, until one of them goes.
func (r *relay) serve(client *net.UnixConn) {
	if !ours(client) {
		return
	}
	client.SetReadDeadline(time.Now().Add(idleTimeout))
	setup, err := r.cookie.setup(client)
	if err != nil {
		return
	}
	client.SetReadDeadline(time.Time{})
	server, err := r.display.dial()
	if err != nil {
		return
	}
	defer server.Close()
	if _, err := server.Write(setup); err != nil {
		return
	}
	d := &dialogue{mode: r.mode, roots: r.roots, tops: r.tops, restored: r.placing.restored.Load}
	req := &requests{dialogue: d}
	defer req.end()
	ans := &answers{dialogue: d, place: r.placing.place, mapped: r.placing.mapped}
	done := make(chan struct{})
	go func() {
		defer close(done)
		pass(client, server, ans.take)
		client.Close()
	}()
	pass(server, client, func(b, out []byte) (int, []byte) {
		n := req.take(b)
		return n, append(out, b[:n]...)
	})
	server.Close()
	<-done
}

// ours reports whether a client has the rights of the person at the display,
// or root's, by the kernel's word. The display is nobody else's.
func ours(c *net.UnixConn) bool {
	uid := peer.UID(c)
	return uid == 0 || uid == os.Getuid()
}

// pass sends on what one end says, as take makes it, with the descriptors
// that come along, until either end goes.
func pass(to, from *net.UnixConn, take func(b, out []byte) (int, []byte)) {
	const chunk, most = 64 << 10, 16 // descriptors in one message, as X servers and clients send
	in, out := make([]byte, 0, chunk+packetSize), []byte(nil)
	oob := make([]byte, unix.CmsgSpace(most*4))
	var fds []int
	defer func() { closeAll(fds) }()
	for {
		n, oobn, _, _, err := from.ReadMsgUnix(in[len(in):cap(in)], oob)
		fds = append(fds, descriptors(oob[:oobn])...)
		if n == 0 || err != nil {
			return
		}
		in = in[:len(in)+n]
		used, made := take(in, out[:0])
		out = made
		if len(out) > 0 {
			if err := send(to, out, fds); err != nil {
				return
			}
			closeAll(fds)
			fds = fds[:0]
		}
		in = in[:copy(in, in[used:])]
	}
}

// send writes b, with the descriptors at its beginning.
func send(to *net.UnixConn, b []byte, fds []int) error {
	if len(fds) > 0 {
		n, _, err := to.WriteMsgUnix(b, unix.UnixRights(fds...), nil)
		if err != nil {
			return err
		}
		if b = b[n:]; len(b) == 0 {
			return nil // an empty write would fail where the other end has all it wanted, and is gone
		}
	}
	_, err := to.Write(b)
	return err
}

// descriptors returns those that came with a message.
func descriptors(oob []byte) []int {
	msgs, err := unix.ParseSocketControlMessage(oob)
	if err != nil {
		return nil
	}
	var fds []int
	for i := range msgs {
		if got, err := unix.ParseUnixRights(&msgs[i]); err == nil {
			fds = append(fds, got...)
		}
	}
	return fds
}

func closeAll(fds []int) {
	for _, fd := range fds {
		unix.Close(fd)
	}
}
