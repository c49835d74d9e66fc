package hub

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"sync"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/storage"
	"github.com/mochi-mqtt/server/v2/packets"
	"golang.org/x/time/rate"

	"timegate/estate"
)

// bounds are what one member may have at a time.
type bounds struct {
	connections, subscriptions int
	messages                   int   // that are kept
	bytes                      int64 // of them all
}

var (
	ofStation = bounds{connections: 4, subscriptions: 16, messages: 8, bytes: 12 << 20}
	ofDesk    = bounds{connections: deskPlaces, subscriptions: 64, messages: 4096, bytes: 64 << 20}
)

func boundsOf(m Member) bounds {
	if m.Desk {
		return ofDesk
	}
	return ofStation
}

// longestWill is how long a will may be, in bytes: it says that somebody has gone.
const longestWill = 1 << 10

// longestKeepAlive is how long a client may be silent, in seconds.
const longestKeepAlive = 20 * 60

// rules say who may do what, and keep what is to be kept.
type rules struct {
	mqtt.HookBase
	o      *Options
	server *mqtt.Server

	mu      sync.Mutex               // guards what follows
	rates   map[string]*rate.Limiter // of messages, by member
	members map[string]Member        // as they were read lately
	read    time.Time
	open    map[string]int              // connections, by member
	desks   int                         // of administrators, among them
	kept    map[string]map[string]int64 // bytes of what is kept, by who has written it and topic
}

func newRules(o *Options, server *mqtt.Server) *rules {
	return &rules{o: o, server: server, rates: map[string]*rate.Limiter{}, open: map[string]int{}, kept: map[string]map[string]int64{}}
}

// membersFor is how long somebody who was expelled may still be let in.
const membersFor = time.Second

// member returns somebody who may use the hub.
func (r *rules) member(name string) (Member, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.members == nil || time.Since(r.read) > membersFor {
		all, err := r.o.Store.Members()
		if err != nil {
			r.o.Log.Warn("who may use the hub cannot be read", "error", err)
			return Member{}, false
		}
		r.members, r.read = all, time.Now()
	}
	m, there := r.members[name]
	return m, there
}

// ID names the hook.
func (r *rules) ID() string { return "timegate" }

// Provides tells what the hook is asked.
func (r *rules) Provides(b byte) bool {
	switch b {
	case mqtt.OnConnect, mqtt.OnConnectAuthenticate, mqtt.OnSessionEstablished, mqtt.OnDisconnect, mqtt.OnACLCheck, mqtt.OnPublish, mqtt.OnRetainMessage, mqtt.StoredRetainedMessages:
		return true
	}
	return false
}

// known returns the member whose name and password somebody gives.
func (r *rules) known(pk *packets.Packet) (Member, bool) {
	m, there := r.member(string(pk.Connect.Username))
	sum := sha256.Sum256(pk.Connect.Password)
	return m, there && subtle.ConstantTimeCompare([]byte(hex.EncodeToString(sum[:])), []byte(m.Password)) == 1
}

// OnConnectAuthenticate lets those in who were admitted, with their passwords.
func (r *rules) OnConnectAuthenticate(_ *mqtt.Client, pk packets.Packet) bool {
	_, ok := r.known(&pk)
	return ok
}

// OnConnect refuses what a member may not: another's identifier, with which it would take
// their session, a will that speaks for another, and more than its share. Who is no member is
// refused afterwards.
func (r *rules) OnConnect(cl *mqtt.Client, pk packets.Packet) error {
	m, ok := r.known(&pk)
	if !ok {
		return nil
	}
	name, c := string(pk.Connect.Username), &pk.Connect
	why := packets.Code{}
	r.mu.Lock()
	open, total := r.open[name], 0
	for _, n := range r.open {
		total += n
	}
	total -= r.desks
	r.mu.Unlock()
	switch {
	case !estate.OwnsClient(name, c.ClientIdentifier):
		why = packets.ErrClientIdentifierNotValid
	case c.WillFlag && (!estate.MayUse(r.o.Shop, name, m.Desk, c.WillTopic, true) || len(c.WillPayload) > longestWill):
		why = packets.ErrNotAuthorized
	case open >= boundsOf(m).connections:
		why = packets.ErrQuotaExceeded
	case !m.Desk && total >= MostClients:
		why = packets.ErrServerBusy
	default:
		if c.Keepalive == 0 || c.Keepalive > longestKeepAlive {
			cl.State.Keepalive, cl.State.ServerKeepalive = longestKeepAlive, true
		}
		return nil
	}
	r.o.Log.Warn("somebody is refused", "name", name, "why", why.Reason)
	if err := r.server.SendConnack(cl, why, false, nil); err != nil {
		return err
	}
	return why
}

// OnSessionEstablished counts a connection.
func (r *rules) OnSessionEstablished(cl *mqtt.Client, _ packets.Packet) { r.count(cl, 1) }

// OnDisconnect counts one that has ended.
func (r *rules) OnDisconnect(cl *mqtt.Client, _ error, _ bool) { r.count(cl, -1) }

func (r *rules) count(cl *mqtt.Client, by int) {
	name := string(cl.Properties.Username)
	m, there := r.member(name)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.open[name] += by; r.open[name] <= 0 {
		delete(r.open, name)
	}
	if there && m.Desk {
		r.desks = max(r.desks+by, 0)
	}
}

// OnACLCheck lets a workstation write what it says of itself and read what is for all, and a
// desk do the other half.
func (r *rules) OnACLCheck(cl *mqtt.Client, topic string, write bool) bool {
	name := string(cl.Properties.Username)
	m, there := r.member(name)
	if !there || !write && cl.State.Subscriptions.Len() >= boundsOf(m).subscriptions {
		return false
	}
	return estate.MayUse(r.o.Shop, name, m.Desk, topic, write)
}

// OnPublish refuses what comes too fast, is larger than what it is may be, or is more than
// is kept of one member.
func (r *rules) OnPublish(cl *mqtt.Client, pk packets.Packet) (packets.Packet, error) {
	name := string(cl.Properties.Username)
	m, there := r.member(name)
	size, retained := estate.SizeOf(r.o.Shop, pk.TopicName)
	if there && len(pk.Payload) <= size && (retained || !pk.FixedHeader.Retain) && r.within(name, m, &pk) {
		return pk, nil
	}
	if pk.FixedHeader.Qos == 0 { // there is no answer to it
		return pk, packets.ErrRejectPacket
	}
	return pk, packets.ErrQuotaExceeded
}

// within counts a message, and reports whether it is within a member's bounds.
func (r *rules) within(name string, m Member, pk *packets.Packet) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	one := r.rates[name]
	if one == nil {
		one = rate.NewLimiter(rate.Every(time.Minute/perMinute), perMinute)
		r.rates[name] = one
	}
	if !one.Allow() {
		return false
	}
	if !pk.FixedHeader.Retain {
		return true
	}
	kept := r.kept[name]
	if kept == nil {
		kept = map[string]int64{}
		r.kept[name] = kept
	}
	if len(pk.Payload) == 0 {
		delete(kept, pk.TopicName)
		return true
	}
	messages, bytes := 1, int64(len(pk.Payload))
	for topic, n := range kept {
		if topic != pk.TopicName {
			messages, bytes = messages+1, bytes+n
		}
	}
	if b := boundsOf(m); messages > b.messages || bytes > b.bytes {
		return false
	}
	kept[pk.TopicName] = int64(len(pk.Payload))
	return true
}

// OnRetainMessage keeps a message on the disk.
func (r *rules) OnRetainMessage(_ *mqtt.Client, pk packets.Packet, _ int64) {
	if err := r.o.Store.Keep(pk.TopicName, pk.Payload); err != nil {
		r.o.Log.Warn("a message cannot be kept on the disk", "topic", pk.TopicName, "error", err)
	}
}

// StoredRetainedMessages returns what is kept on the disk.
func (r *rules) StoredRetainedMessages() ([]storage.Message, error) {
	kept, err := r.o.Store.Kept()
	if err != nil {
		return nil, fmt.Errorf("what the hub has kept: %w", err)
	}
	var out []storage.Message
	for topic, payload := range kept {
		if name := estate.WriterOf(r.o.Shop, topic); name != "" {
			if r.kept[name] == nil {
				r.kept[name] = map[string]int64{}
			}
			r.kept[name][topic] = int64(len(payload))
		}
		out = append(out, storage.Message{T: storage.RetainedKey, ID: topic, TopicName: topic, Payload: payload, Created: time.Now().Unix(),
			FixedHeader: packets.FixedHeader{Type: packets.Publish, Retain: true, Qos: 1}})
	}
	return out, nil
}
