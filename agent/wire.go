package agent

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/home"
	"timegate/workstation"
)

// protocol is the version of what is spoken. Agents of another one are renewed.
const protocol = 1

// A frame is its kind in one byte, its length in four bytes, the highest first,
// and so many bytes: JSON, or the number of a run in eight bytes and what it
// has printed.
const (
	frameJSON    = 'j'
	frameOutput  = 'o'
	frameHeader  = 5
	outputHeader = 8
)

// What a frame may have at most, in bytes: one from an agent, and one to it.
const (
	mostReport  = 1 << 20
	mostRequest = 16 << 20
)

// request is what a keeper tells an agent, one of the fields at a time.
type request struct {
	Hello   *hello   `json:"hello,omitempty"`
	Watch   *wants   `json:"watch,omitempty"`
	Prepare *Job     `json:"prepare,omitempty"`
	Start   int64    `json:"start,omitempty"`  // a run that was prepared
	Drop    int64    `json:"drop,omitempty"`   // one that is not started after all
	Adopt   *Alive   `json:"adopt,omitempty"`  // a run that an earlier agent has started
	End     *ending  `json:"end,omitempty"`    // send a signal to a run's processes
	Forget  int64    `json:"forget,omitempty"` // the end of a run is recorded
	Read    *read    `json:"read,omitempty"`   // a file
	Have    *printed `json:"have,omitempty"`   // so much of what a run has printed has arrived
	Leave   bool     `json:"leave,omitempty"`  // end when nothing runs any more
}

// hello begins a conversation.
type hello struct {
	Protocol int       `json:"protocol"`
	Home     home.Home `json:"home"`
	// Have is how much of what runs have printed is there already.
	Have map[int64]int64 `json:"have,omitempty"`
}

// wants is what the account's gates depend on.
type wants struct {
	Watches []workstation.Watch `json:"watches,omitempty"`
	Places  []workstation.Place `json:"places,omitempty"`
}

// A Job is a run that is to be started.
type Job struct {
	Run      int64                 `json:"run"`
	Mark     string                `json:"mark"`
	Gate     gate.Gate             `json:"gate"` // what of it concerns the start
	Days     []string              `json:"days,omitempty"`
	Decision engine.Decision       `json:"decision"`
	Files    []string              `json:"files,omitempty"` // that have changed
	Sessions []workstation.Session `json:"sessions,omitempty"`
	Rest     time.Duration         `json:"rest,omitempty"` // [workstation.Order.Rest]
	// Longest is what it may take, 0 for any time, and Grace what it has to end then; they
	// count while no keeper is there.
	Longest time.Duration `json:"longest,omitempty"`
	Grace   time.Duration `json:"grace,omitempty"`
	Told    bool          `json:"told,omitempty"` // Sessions are all that there are; else they are looked for
}

// Alive is a run that another agent has started.
type Alive struct {
	Run      int64    `json:"run"`
	Mark     string   `json:"mark"`
	PID      int      `json:"pid,omitempty"` // 0 where it was never told
	Born     int64    `json:"born,omitempty"`
	Keep     int64    `json:"keep"` // bytes of output
	Readings []string `json:"readings,omitempty"`
	// Signal was sent to it last, by an earlier keeper; "" for none.
	Signal string        `json:"-"`
	Rest   time.Duration `json:"rest,omitempty"`
}

type ending struct {
	Run    int64  `json:"run"`
	Signal string `json:"signal"`
}

// read asks for a file of the account's.
type read struct {
	ID   int64  `json:"id"`
	Path string `json:"path"`
	Most int64  `json:"most"`
}

// report is what an agent tells, one of the fields at a time.
type report struct {
	Hello    *greeting             `json:"hello,omitempty"`
	Started  *started              `json:"started,omitempty"`
	Failed   *engine.StartFailed   `json:"failed,omitempty"`
	Unsafe   *engine.StartUnsafe   `json:"unsafe,omitempty"`
	Skipped  *printed              `json:"skipped,omitempty"` // output that is left out
	Ended    *ended                `json:"ended,omitempty"`
	Lost     *lost                 `json:"lost,omitempty"`
	Notice   *notice               `json:"notice,omitempty"`
	Places   *places               `json:"places,omitempty"`
	Troubles []workstation.Trouble `json:"troubles,omitempty"`
	Content  *content              `json:"content,omitempty"`
}

// greeting answers hello: the runs that the agent holds follow, each as it
// stands, and then what is watched.
type greeting struct {
	Protocol int     `json:"protocol"`
	Runs     []int64 `json:"runs,omitempty"`
}

type started struct {
	Run      int64              `json:"run"`
	PID      int                `json:"pid"`
	Born     int64              `json:"born"`
	Over     bool               `json:"over,omitempty"` // it has ended already, which is told next
	Ago      int64              `json:"ago_ms"`
	Note     string             `json:"note,omitempty"`
	Readings map[string]float64 `json:"readings,omitempty"`
}

// printed is about so many bytes of what a run has printed.
type printed struct {
	Run   int64 `json:"run"`
	Bytes int64 `json:"bytes"`
}

type ended struct {
	Run      int64              `json:"run"`
	Ago      int64              `json:"ago_ms"`
	Exit     int                `json:"exit"`
	Signal   string             `json:"signal,omitempty"`
	Usage    engine.Usage       `json:"usage"`
	Readings map[string]float64 `json:"readings,omitempty"`
	Overran  bool               `json:"overran,omitempty"` // it took longer than it may, and the agent ended it
	Unfound  string             `json:"unfound,omitempty"` // a command of which a shell said that it was not found
}

type lost struct {
	Run   int64           `json:"run"`
	Why   engine.LossCode `json:"why"`
	Usage engine.Usage    `json:"usage"`
}

type notice struct {
	Key     string   `json:"key"`
	Subject string   `json:"subject,omitempty"`
	Text    string   `json:"text,omitempty"`
	Count   int64    `json:"count,omitempty"`
	Files   []string `json:"files,omitempty"`
	// Missed is the latest of changes that came while nobody watched.
	Missed time.Time `json:"missed,omitzero"`
}

// places are the paths that are there, of those that matter.
type places struct {
	There []string `json:"there"`
	Known bool     `json:"known"` // all that is wanted was looked at
}

type content struct {
	ID    int64  `json:"id"`
	Mode  uint32 `json:"mode,omitempty"` // permissions (inode(7))
	Data  []byte `json:"data,omitempty"`
	Error string `json:"error,omitempty"`
}

// errRule is what an agent is ended for that does not keep to the protocol.
var errRule = errors.New("it does not keep to what agents say")

// writeFrame writes one frame.
func writeFrame(w *bufio.Writer, kind byte, parts ...[]byte) error {
	n := 0
	for _, p := range parts {
		n += len(p)
	}
	var head [frameHeader]byte
	head[0] = kind
	binary.BigEndian.PutUint32(head[1:], uint32(n))
	w.Write(head[:])
	var err error
	for _, p := range parts {
		_, err = w.Write(p)
	}
	return err
}

// writeJSON writes a frame of JSON.
func writeJSON(w *bufio.Writer, v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return writeFrame(w, frameJSON, text)
}

// readFrame reads one frame of at most so many bytes.
func readFrame(r *bufio.Reader, most int) (kind byte, body []byte, err error) {
	var head [frameHeader]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[1:])
	if kind = head[0]; kind != frameJSON && kind != frameOutput || int64(n) > int64(most) {
		return 0, nil, fmt.Errorf("%w: a frame %q of %d bytes", errRule, kind, n)
	}
	body = make([]byte, n)
	_, err = io.ReadFull(r, body)
	return kind, body, err
}

// readReport reads what an agent tells: a report, with its text, or what a run has printed.
func readReport(r *bufio.Reader) (rep report, run int64, text []byte, err error) {
	kind, body, err := readFrame(r, mostReport)
	switch {
	case err != nil:
	case kind == frameJSON:
		text = body
		if jsonErr := json.Unmarshal(body, &rep); jsonErr != nil {
			err = fmt.Errorf("%w: %w", errRule, jsonErr)
		}
	case len(body) < outputHeader:
		err = fmt.Errorf("%w: output of no run", errRule)
	default:
		run, text = int64(binary.BigEndian.Uint64(body)), body[outputHeader:]
	}
	return rep, run, text, err
}

// runHeader is how a frame of output begins.
func runHeader(run int64) []byte { return binary.BigEndian.AppendUint64(nil, uint64(run)) }
