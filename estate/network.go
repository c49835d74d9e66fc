package estate

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"os"
	"slices"
	"sync"
	"time"
)

// helpArgument makes the program the one that speaks to the network.
const helpArgument = "@network"

// The descriptors that the network's process is given: what it reads from the one that it
// works for, and what it writes to it.
const readFile, writeFile = 3, 4

// pipes are both directions of what two processes tell each other.
type pipes struct{ r, w *os.File }

func (p pipes) Read(b []byte) (int, error)  { return p.r.Read(b) }
func (p pipes) Write(b []byte) (int, error) { return p.w.Write(b) }
func (p pipes) Close() error                { return errors.Join(p.r.Close(), p.w.Close()) }

// Help is the process that speaks to the network: it has no files but the pipes to the one
// that it works for, looks at no message, and ends with that one. It returns its exit
// status, and false where the program is not called for that.
func Help(args []string) (status int, ok bool) {
	if len(args) != 1 || args[0] != helpArgument {
		return 0, false
	}
	if err := serve(context.Background(), pipes{os.NewFile(readFile, "in"), os.NewFile(writeFile, "out")}); err != nil {
		return 1, true
	}
	return 0, true
}

// serve speaks to the broker that it is told of, until the other one has gone.
func serve(ctx context.Context, conn io.ReadWriteCloser) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	defer conn.Close()
	first, err := readFrame(conn, string(rune(frameBroker)))
	if err != nil {
		return err
	}
	var b Broker
	if err := json.Unmarshal(first.payload, &b); err != nil {
		return err
	}
	var writing sync.Mutex // of frames
	send := func(f frame) {
		writing.Lock()
		defer writing.Unlock()
		if writeFrame(conn, f) != nil {
			conn.Close() // and the reader ends
		}
	}
	out := newOutbox()
	c, err := Connect(ctx, b, func(m Message) {
		switch {
		case m.Up:
			send(frame{kind: frameUp})
			out.wake()
		case m.Trouble != "":
			send(frame{kind: frameTrouble, payload: []byte(m.Trouble[:min(len(m.Trouble), mostTrouble)])})
		case len(m.Topic) <= mostTopic:
			send(frame{frameMessage, m.Topic, m.Payload})
		}
	})
	if err != nil {
		send(frame{kind: frameTrouble, payload: []byte(err.Error())})
		return err
	}
	defer c.Close()
	var publishing sync.WaitGroup
	publishing.Go(func() { out.run(ctx, c.Publish) })
	defer publishing.Wait()
	defer stop()
	for {
		f, err := readFrame(conn, string([]byte{framePublish, frameSay}))
		if err != nil {
			return nil // the other one has gone
		}
		out.put(f.topic, f.payload, f.kind == framePublish)
	}
}

// outbox holds what is to be published: of each topic the newest.
type outbox struct {
	news chan struct{}

	mu   sync.Mutex // guards what follows
	left map[string]letter
}

// letter is what is to be published.
type letter struct {
	payload []byte
	keep    bool // by the broker
}

// mostTopics is of how many topics something can wait.
const mostTopics = 16

func newOutbox() *outbox { return &outbox{news: make(chan struct{}, 1), left: map[string]letter{}} }

func (o *outbox) put(topic string, payload []byte, keep bool) {
	o.mu.Lock()
	if _, there := o.left[topic]; there || len(o.left) < mostTopics {
		o.left[topic] = letter{payload, keep}
	}
	o.mu.Unlock()
	o.wake()
}

func (o *outbox) wake() {
	select {
	case o.news <- struct{}{}:
	default: // it is awake
	}
}

// outAgain is when what could not be published is tried again; a new connection does so at
// once.
const outAgain = time.Minute

// run publishes what waits.
func (o *outbox) run(ctx context.Context, publish func(context.Context, string, []byte, bool) error) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-o.news:
		}
		o.mu.Lock()
		now := maps.Clone(o.left)
		o.mu.Unlock()
		for _, topic := range slices.Sorted(maps.Keys(now)) {
			if publish(ctx, topic, now[topic].payload, now[topic].keep) != nil {
				time.AfterFunc(outAgain, o.wake)
				break
			}
			o.mu.Lock()
			if bytes.Equal(o.left[topic].payload, now[topic].payload) {
				delete(o.left, topic)
			}
			o.mu.Unlock()
		}
	}
}

// Link speaks to a broker through a process without rights, which it starts and, where that
// ends, starts again.
type Link struct {
	// Start starts this program once more, with an argument, and with files as its
	// descriptors from 3 on.
	Start func(argument string, files []*os.File) (*os.Process, error)

	mu   sync.Mutex // guards what follows
	conn *os.File   // to the process; nil while there is none
	last map[string][]byte
}

// patience is how long the process may take to read a frame.
const patience = 5 * time.Second

// againAfter is how long is waited before the process is started again.
const againAfter = 5 * time.Second

// Run keeps the process until the context ends. take is told of what comes, one message at a
// time; the process waits for it.
func (l *Link) Run(ctx context.Context, b Broker, take func(Message)) {
	for ctx.Err() == nil {
		if err := l.once(ctx, b, take); err != nil && ctx.Err() == nil {
			take(Message{Trouble: err.Error()})
		}
		select {
		case <-ctx.Done():
		case <-time.After(againAfter):
		}
	}
}

// once starts the process, and hands over what it brings until it ends.
func (l *Link) once(ctx context.Context, b Broker, take func(Message)) error {
	itsIn, out, err := os.Pipe()
	if err != nil {
		return err
	}
	in, itsOut, err := os.Pipe()
	if err != nil {
		return errors.Join(err, itsIn.Close(), out.Close())
	}
	ours := pipes{in, out}
	defer ours.Close()
	p, err := l.Start(helpArgument, []*os.File{itsIn, itsOut})
	itsIn.Close()
	itsOut.Close()
	if err != nil {
		return err
	}
	ended := context.AfterFunc(ctx, func() { ours.Close() })
	defer ended()
	defer p.Wait()
	defer p.Kill() // it has ended by itself, or is not to be believed any more
	data, err := json.Marshal(&b)
	if err != nil {
		return err
	}
	if err := writeFrame(ours, frame{kind: frameBroker, payload: data}); err != nil {
		return err
	}
	if err := l.begin(out); err != nil {
		return err
	}
	defer l.begin(nil)
	for {
		f, err := readFrame(ours, string([]byte{frameMessage, frameUp, frameTrouble}))
		if err != nil {
			return err
		}
		take(Message{Topic: f.topic, Payload: f.payload, Up: f.kind == frameUp, Trouble: f.trouble()})
	}
}

// trouble is what a frame says of the connection.
func (f *frame) trouble() string {
	if f.kind != frameTrouble {
		return ""
	}
	return string(f.payload)
}

// begin makes a process the one that publishes, and tells it what was last said of each
// topic; nil for none.
func (l *Link) begin(conn *os.File) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.conn = conn
	if conn == nil {
		return nil
	}
	conn.SetWriteDeadline(time.Now().Add(patience))
	defer conn.SetWriteDeadline(time.Time{})
	for topic, payload := range l.last {
		if err := writeFrame(conn, frame{framePublish, topic, payload}); err != nil {
			return err
		}
	}
	return nil
}

// Publish lets a message be published when that is possible, and be kept by the broker if it
// is to be. A later one of the same topic takes its place; one that is not kept is not
// published later either.
func (l *Link) Publish(topic string, payload []byte, keep bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	kind := byte(frameSay)
	if keep {
		kind = framePublish
		if l.last == nil {
			l.last = map[string][]byte{}
		}
		l.last[topic] = payload
	}
	if l.conn == nil {
		return
	}
	l.conn.SetWriteDeadline(time.Now().Add(patience))
	if writeFrame(l.conn, frame{kind, topic, payload}) != nil {
		l.conn.Close() // and it is started again
		return
	}
	l.conn.SetWriteDeadline(time.Time{})
}
