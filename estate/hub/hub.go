// Package hub is a broker for a small shop, which has none yet: MQTT 5 with TLS, passwords and
// rules by host, limits, and its data on disk. A shop that outgrows it takes another broker,
// and tells its workstations nothing but the address.
package hub

import (
	"cmp"
	"context"
	"crypto/tls"
	"io"
	"log/slog"
	"net"
	"sync"
	"sync/atomic"
	"time"

	mqtt "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"

	coreestate "timegate/core/estate"
)

// Options say how a hub is run.
type Options struct {
	Shop    string
	Store   Store
	TLS     *tls.Config // nil on the loopback network alone
	Address string      // such as :8883
	Log     *slog.Logger

	within time.Duration // [sayWithin] otherwise
}

// What a hub bears. A shop with more takes a broker that is made for it.
const (
	MostClients = 500                     // workstations that are connected
	deskPlaces  = 16                      // beside them, for administrators
	Many        = 400                     // from so many on it says so
	unknown     = 256                     // connections of those who have not said yet who they are
	sayWithin   = 10 * time.Second        // they say so
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
	caps.MaximumClients, caps.MaximumPacketSize = MostClients+deskPlaces, coreestate.MostBytes+64<<10
	caps.MaximumMessageExpiryInterval, caps.MaximumSessionExpiryInterval = forAges, uint32((30 * 24 * time.Hour).Seconds())
	caps.MinimumProtocolVersion, caps.MaximumInflight, caps.MaximumClientWritesPending = 5, 256, 1024
	server := mqtt.New(&mqtt.Options{Capabilities: caps, Logger: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err := server.AddHook(newRules(&o, server), nil); err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", o.Address)
	if err != nil {
		return nil, err
	}
	at := listener.Addr()
	listener = &impatient{Listener: listener, within: cmp.Or(o.within, sayWithin)}
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

// impatient is a listener whose callers must say soon who they are, and that bears so many.
type impatient struct {
	net.Listener
	within time.Duration
	open   atomic.Int64
}

// Accept implements [net.Listener].
func (l *impatient) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if l.open.Add(1) > MostClients+deskPlaces+unknown {
			l.open.Add(-1)
			conn.Close()
			continue
		}
		// Who was let in gets another limit, by what was agreed with them.
		conn.SetDeadline(time.Now().Add(l.within))
		return &counted{Conn: conn, gone: sync.OnceFunc(func() { l.open.Add(-1) })}, nil
	}
}

// counted is a connection that is counted until it is closed.
type counted struct {
	net.Conn
	gone func()
}

// Close implements [net.Conn].
func (c *counted) Close() error {
	c.gone()
	return c.Conn.Close()
}
