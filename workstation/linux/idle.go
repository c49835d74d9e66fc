//go:build linux

package linux

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/xproto"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/workstation"
)

// The parts of the X Synchronization Extension (version 3.1) that tell of
// idleness: the server's counter IDLETIME, in milliseconds since the last
// input, and alarms on it.
const (
	syncExtension    = "SYNC"
	syncInitialize   = 0
	syncListCounters = 1
	syncQueryCounter = 5
	syncCreateAlarm  = 8
	syncAlarmNotify  = 1 // added to the extension's first event

	idleCounter = "IDLETIME"

	// Which values a new alarm is given: counter, kind of value, value, test,
	// delta, events.
	alarmValues        = 1<<0 | 1<<1 | 1<<2 | 1<<3 | 1<<4 | 1<<5
	absolute           = 0
	positiveTransition = 0
	negativeTransition = 1
)

// hasX reports whether an X server is named to this process.
func hasX() bool { return os.Getenv("DISPLAY") != "" }

// idleness listens to an X server.
type idleness struct {
	board   *workstation.Board
	conn    *xgb.Conn
	opcode  byte
	counter uint32
	rose    uint32 // the alarm that tells of idleness
	span    time.Duration
}

// alarmNotify is the extension's event.
type alarmNotify struct {
	data  []byte
	alarm uint32
	value int64
}

func newAlarmNotify(b []byte) xgb.Event {
	high, low := binary.LittleEndian.Uint32(b[8:]), binary.LittleEndian.Uint32(b[12:])
	return alarmNotify{b, binary.LittleEndian.Uint32(b[4:]), int64(high)<<32 | int64(low)}
}

func (e alarmNotify) Bytes() []byte  { return e.data }
func (e alarmNotify) String() string { return fmt.Sprintf("alarm %d at %d ms", e.alarm, e.value) }

// listenIdle tells when nobody has touched keyboard or mouse for a span, and
// when somebody does again.
func listenIdle(board *workstation.Board, span time.Duration) (*idleness, error) {
	xgb.Logger.SetOutput(io.Discard) // it would print that there is no cookie
	conn, err := xgb.NewConn()
	if err != nil {
		return nil, fmt.Errorf("the X server does not tell of idleness: %w", err)
	}
	x := &idleness{board: board, conn: conn, span: span}
	if err := x.begin(); err != nil {
		conn.Close()
		return nil, fmt.Errorf("the X server does not tell of idleness: %w", err)
	}
	go x.run()
	return x, nil
}

func (x *idleness) close() { x.conn.Close() }

func (x *idleness) begin() error {
	ext, err := xproto.QueryExtension(x.conn, uint16(len(syncExtension)), syncExtension).Reply()
	if err != nil {
		return err
	}
	if !ext.Present {
		return errors.New("it lacks the extension SYNC")
	}
	x.opcode = ext.MajorOpcode
	// The package's table is for all connections: it is left alone where an
	// earlier one has filled it.
	if event := int(ext.FirstEvent) + syncAlarmNotify; xgb.NewEventFuncs[event] == nil {
		xgb.NewEventFuncs[event] = newAlarmNotify
	}
	if _, err := x.ask(syncInitialize, 3|1<<8); err != nil {
		return err
	}
	if x.counter, err = x.findCounter(); err != nil {
		return err
	}
	if x.rose, err = x.alarm(positiveTransition, x.span); err != nil {
		return err
	}
	if _, err := x.alarm(negativeTransition, x.span-time.Millisecond); err != nil {
		return err
	}
	return x.post()
}

// ask sends a request of the extension and returns the reply.
func (x *idleness) ask(minor byte, words ...uint32) ([]byte, error) {
	cookie := x.conn.NewCookie(true, true)
	x.conn.NewRequest(x.request(minor, words), cookie)
	return cookie.Reply()
}

func (x *idleness) request(minor byte, words []uint32) []byte {
	buf := []byte{x.opcode, minor}
	buf = binary.LittleEndian.AppendUint16(buf, uint16(1+len(words)))
	for _, w := range words {
		buf = binary.LittleEndian.AppendUint32(buf, w)
	}
	return buf
}

// findCounter looks the idle counter up among the server's own.
func (x *idleness) findCounter() (uint32, error) {
	reply, err := x.ask(syncListCounters)
	if err != nil {
		return 0, err
	}
	const head, fixed = 32, 14
	if len(reply) < head {
		return 0, errors.New("its counters cannot be read")
	}
	at := head
	for range binary.LittleEndian.Uint32(reply[8:]) {
		if at+fixed > len(reply) {
			break
		}
		n := int(binary.LittleEndian.Uint16(reply[at+12:]))
		if at+fixed+n <= len(reply) && strings.EqualFold(string(reply[at+fixed:at+fixed+n]), idleCounter) {
			return binary.LittleEndian.Uint32(reply[at:]), nil
		}
		at += (fixed + n + 3) &^ 3
	}
	return 0, errors.New("it has no idle counter")
}

// alarm asks for an event whenever the counter passes a span in a direction.
func (x *idleness) alarm(test uint32, span time.Duration) (uint32, error) {
	id, err := x.conn.NewId()
	if err != nil {
		return 0, err
	}
	cookie := x.conn.NewCookie(true, false)
	x.conn.NewRequest(x.request(syncCreateAlarm, []uint32{id, alarmValues, x.counter, absolute,
		0, uint32(span.Milliseconds()), test, 0, 0, 1}), cookie)
	return id, cookie.Check()
}

func (x *idleness) run() {
	for {
		ev, err := x.conn.WaitForEvent()
		if ev == nil && err == nil {
			x.board.Learn(func(f *engine.Facts) { f.IdleSince = 0 }) // the server has gone, and the session with it
			return
		}
		switch ev, ok := ev.(alarmNotify); {
		case !ok:
		case ev.alarm == x.rose:
			x.post() // an error is the connection's, which ends then
		default:
			x.board.Learn(func(f *engine.Facts) { f.IdleSince = 0 })
		}
	}
}

// post tells since when nothing was touched, if that is for the span. The counter is
// read anew: an event may have lain about on a busy machine, and so may an answer, which
// is then asked for again.
func (x *idleness) post() error {
	const prompt, tries = 20 * time.Millisecond, 5
	for range tries {
		asked := time.Now()
		reply, err := x.ask(syncQueryCounter, x.counter)
		if err != nil || len(reply) < 16 {
			return errors.Join(err, errors.New("its idle counter cannot be read"))
		}
		now := time.Now()
		idle := time.Duration(binary.LittleEndian.Uint32(reply[12:])) * time.Millisecond
		if idle < x.span {
			return nil // it was touched, and the event of that follows
		}
		since := calendar.InstantOf(now.Add(-idle))
		x.board.Learn(func(f *engine.Facts) { f.IdleSince = since })
		if now.Sub(asked) < prompt {
			break
		}
	}
	return nil
}
