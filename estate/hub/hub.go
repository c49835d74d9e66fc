// Package hub is a broker for a small shop, which has none yet: MQTT 5 with TLS, passwords and
// rules by host, limits, and its data on disk. A shop that outgrows it takes another broker,
// and tells its workstations nothing but the address.
package hub

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"io"
	"log/slog"
	"net"
	"sync"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/storage"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	coreestate "timegate/core/estate"
	"timegate/estate"
)

// Options say how a hub is run.
type Options struct {
	Shop    string
	Store   Store
	TLS     *tls.Config // nil on the loopback network alone
	Address string      // such as :8883
	Log     *slog.Logger
}

// What a hub bears. A shop with more takes a broker that is made for it.
const (
	MostClients = 500
	Many        = 400                     // from so many on it says so
	perMinute   = 120                     // messages of a client
	maxOnDisk   = 4096                    // topics
	forAges     = 10 * 365 * 24 * 60 * 60 // seconds that a message is kept
)

// Hub is a broker that runs.
type Hub struct {
	o      Options
	server *mqtt.Server
	at     net.Addr
}

// Start begins to serve.
func Start(o Options) (*Hub, error) {
	caps := mqtt.NewDefaultServerCapabilities()
	caps.MaximumClients, caps.MaximumPacketSize = MostClients, coreestate.MostBytes+64<<10
	caps.MaximumMessageExpiryInterval, caps.MaximumSessionExpiryInterval = forAges, uint32((30 * 24 * time.Hour).Seconds())
	caps.MinimumProtocolVersion, caps.MaximumInflight, caps.MaximumClientWritesPending = 5, 256, 1024
	server := mqtt.New(&mqtt.Options{Capabilities: caps, Logger: slog.New(slog.NewTextHandler(io.Discard, nil))})
	rules := &rules{o: &o, rates: map[string]*rate{}}
	if err := server.AddHook(rules, nil); err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", o.Address)
	if err != nil {
		return nil, err
	}
	at := listener.Addr()
	if o.TLS != nil {
		listener = tls.NewListener(listener, o.TLS)
	}
	if err := server.AddListener(listeners.NewNet("hub", listener)); err != nil {
		listener.Close()
		return nil, err
	}
	if err := server.Serve(); err != nil {
		listener.Close()
		return nil, err
	}
	return &Hub{o, server, at}, nil
}

// Address is where the hub is reached.
func (h *Hub) Address() net.Addr { return h.at }

// Run serves until the context ends, and says where the shop has outgrown the hub.
func (h *Hub) Run(ctx context.Context) error {
	look := time.NewTicker(time.Minute)
	defer look.Stop()
	said := false
	for {
		select {
		case <-ctx.Done():
			return h.server.Close()
		case <-look.C:
			n := h.server.Info.Clone().ClientsConnected
			if n >= Many && !said {
				h.o.Log.Warn("the shop outgrows this hub; see \"Moving to another broker\" in docs/estate.md", "connected", n, "most", MostClients)
			}
			said = n >= Many
		}
	}
}

// rules say who may do what, and keep what is to be kept.
type rules struct {
	mqtt.HookBase
	o *Options

	mu      sync.Mutex // guards what follows
	rates   map[string]*rate
	members map[string]Member // as they were read lately
	read    time.Time
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

// rate counts the messages of a client in a minute.
type rate struct {
	minute int64
	n      int
}

// ID names the hook.
func (r *rules) ID() string { return "timegate" }

// Provides tells what the hook is asked.
func (r *rules) Provides(b byte) bool {
	switch b {
	case mqtt.OnConnectAuthenticate, mqtt.OnACLCheck, mqtt.OnPublish, mqtt.OnRetainMessage, mqtt.StoredRetainedMessages:
		return true
	}
	return false
}

// OnConnectAuthenticate lets those in who were admitted, with their passwords.
func (r *rules) OnConnectAuthenticate(cl *mqtt.Client, pk packets.Packet) bool {
	m, there := r.member(string(pk.Connect.Username))
	sum := sha256.Sum256(pk.Connect.Password)
	return there && subtle.ConstantTimeCompare([]byte(hex.EncodeToString(sum[:])), []byte(m.Password)) == 1
}

// OnACLCheck lets a workstation write what it says of itself and read what is for all, and a
// desk do the other half.
func (r *rules) OnACLCheck(cl *mqtt.Client, topic string, write bool) bool {
	name := string(cl.Properties.Username)
	m, there := r.member(name)
	return there && estate.MayUse(r.o.Shop, name, m.Desk, topic, write)
}

// OnPublish refuses what comes too fast.
func (r *rules) OnPublish(cl *mqtt.Client, pk packets.Packet) (packets.Packet, error) {
	name, minute := string(cl.Properties.Username), time.Now().Unix()/60
	r.mu.Lock()
	defer r.mu.Unlock()
	one := r.rates[name]
	if one == nil || one.minute != minute {
		one = &rate{minute: minute}
		r.rates[name] = one
	}
	if one.n++; one.n > perMinute {
		return pk, packets.ErrQuotaExceeded
	}
	return pk, nil
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
		out = append(out, storage.Message{T: storage.RetainedKey, ID: topic, TopicName: topic, Payload: payload, Created: time.Now().Unix(),
			FixedHeader: packets.FixedHeader{Type: packets.Publish, Retain: true, Qos: 1}})
	}
	return out, nil
}
