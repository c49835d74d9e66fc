package estate

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"timegate/core/estate"
)

// A frame is what the network's process and the one that it works for tell each other: its
// kind, and a topic and a payload of bounded length.
type frame struct {
	kind    byte
	topic   string
	payload []byte
}

// The kinds of frames.
const (
	frameBroker  = 'b' // to the network: a [Broker], as JSON
	framePublish = 'p' // to the network: to be published, and kept by the broker
	frameSay     = 's' // to the network: to be published, and kept by nobody
	frameMessage = 'm' // from it: a message
	frameUp      = 'u' // from it: the connection is there
	frameTrouble = 't' // from it: it is not; the payload says why
)

const (
	mostTopic   = 512
	mostTrouble = 1 << 10
	frameHead   = 7
)

var errFrame = errors.New("a frame is not as it should be")

func writeFrame(w io.Writer, f frame) error {
	if len(f.topic) > mostTopic || len(f.payload) > estate.MostBytes {
		return fmt.Errorf("%w: a topic of %d bytes, a payload of %d", errFrame, len(f.topic), len(f.payload))
	}
	b := make([]byte, frameHead, frameHead+len(f.topic)+len(f.payload))
	b[0] = f.kind
	binary.BigEndian.PutUint16(b[1:], uint16(len(f.topic)))
	binary.BigEndian.PutUint32(b[3:], uint32(len(f.payload)))
	b = append(append(b, f.topic...), f.payload...)
	_, err := w.Write(b)
	return err
}

// readFrame reads a frame of one of some kinds. What the other one says of its length is not
// believed: no more room is taken than what has come.
func readFrame(r io.Reader, kinds string) (frame, error) {
	var head [frameHead]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return frame{}, err
	}
	topic, payload := int64(binary.BigEndian.Uint16(head[1:])), int64(binary.BigEndian.Uint32(head[3:]))
	known := false
	for i := range len(kinds) {
		known = known || kinds[i] == head[0]
	}
	if !known || topic > mostTopic || payload > estate.MostBytes || head[0] == frameTrouble && payload > mostTrouble {
		return frame{}, errFrame
	}
	data, err := io.ReadAll(io.LimitReader(r, topic+payload))
	if err != nil {
		return frame{}, err
	}
	if int64(len(data)) < topic+payload {
		return frame{}, io.ErrUnexpectedEOF
	}
	return frame{head[0], string(data[:topic]), data[topic:]}, nil
}
