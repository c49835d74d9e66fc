package estate

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"time"

	"github.com/eclipse/paho.golang/autopaho"
	"github.com/eclipse/paho.golang/paho"

	"timegate/core/estate"
)

// Broker is how a broker is reached. It is told whole, so that who reaches it needs no
// files.
type Broker struct {
	URL       string `json:"url"` // mqtts://HOST[:PORT], or mqtt:// on the loopback network
	Shop      string `json:"shop"`
	Client    string `json:"client"`              // the identifier of the session
	Authority []byte `json:"authority,omitempty"` // PEM: who may have signed the broker's certificate; else those of the system
	Cert      []byte `json:"cert,omitempty"`      // PEM: the client's certificate
	Key       []byte `json:"key,omitempty"`       // PEM
	User      string `json:"user,omitempty"`
	Password  []byte `json:"password,omitempty"`
	// Host is the workstation that the connection is of; "" for an administrator's. It is
	// said to be on while it is connected.
	Host string `json:"host,omitempty"`
	// Topics below the shop's that are wanted.
	Topics []string `json:"topics"`
}

// How a connection is kept.
const (
	keepAlive     = 15 * time.Minute    // a word to the broker
	sessionAway   = 30 * 24 * time.Hour // the broker keeps a session while its workstation is off
	publishWithin = 2 * time.Minute
	slowest       = 5 * time.Minute // between two attempts
	ownPacket     = 64 << 10        // beside a message
)

// Message is what a connection brings. One without a topic is about the connection itself.
type Message struct {
	Topic   string // below the shop's
	Payload []byte
	Up      bool   // it is there now
	Trouble string // it is not, and why
}

// BrokerError says what is wrong with how a broker is said to be reached.
type BrokerError struct{ Problem string }

func (e *BrokerError) Error() string { return e.Problem }

// Check reports what is wrong with how a broker is said to be reached. Its error is a
// [*BrokerError].
func (b *Broker) Check() error {
	_, err := b.address()
	if err == nil {
		_, err = b.tls()
	}
	if err == nil && !estate.ValidShop(b.Shop) {
		err = &BrokerError{fmt.Sprintf("%q is no name of a shop: small letters, digits and hyphens", b.Shop)}
	}
	return err
}

func (b *Broker) address() (*url.URL, error) {
	u, err := url.Parse(b.URL)
	if err != nil || u.Host == "" || u.User != nil || u.Path != "" && u.Path != "/" {
		return nil, &BrokerError{fmt.Sprintf("%q is no address of a broker; write mqtts://HOST or mqtts://HOST:PORT", b.URL)}
	}
	port := "8883"
	switch u.Scheme {
	case "mqtts":
	case "mqtt":
		port = "1883"
		if ip := net.ParseIP(u.Hostname()); u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return nil, &BrokerError{"mqtt:// is not encrypted, and allowed on this machine alone (127.0.0.1): write mqtts://" + u.Host}
		}
	default:
		return nil, &BrokerError{fmt.Sprintf("%q is no scheme of a broker; write mqtts://%s", u.Scheme, u.Host)}
	}
	if u.Port() == "" {
		u.Host = net.JoinHostPort(u.Hostname(), port)
	}
	return u, nil
}

// tls returns how the broker is known; nil where the connection is not encrypted.
func (b *Broker) tls() (*tls.Config, error) {
	u, err := b.address()
	if err != nil || u.Scheme == "mqtt" {
		return nil, err
	}
	c := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: u.Hostname()}
	if b.Authority != nil {
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM(b.Authority) {
			return nil, &BrokerError{"the file of the authority holds no certificate (PEM)"}
		}
	}
	if b.Cert != nil {
		pair, err := tls.X509KeyPair(b.Cert, b.Key)
		if err != nil {
			return nil, &BrokerError{"the client's certificate or its key cannot be used: " + err.Error()}
		}
		c.Certificates = []tls.Certificate{pair}
	}
	return c, nil
}

// Conn is a connection to a broker, which is made anew when it breaks.
type Conn struct {
	root    string
	off     *paho.Publish // says that the workstation is not there; nil for an administrator's
	manager *autopaho.ConnectionManager
}

// Connect begins to connect, until the context ends. take is told of what comes, and must
// not wait.
func Connect(ctx context.Context, b Broker, take func(Message)) (*Conn, error) {
	address, err := b.address()
	if err != nil {
		return nil, err
	}
	secure, err := b.tls()
	if err != nil {
		return nil, err
	}
	at := root(b.Shop)
	sub := &paho.Subscribe{}
	for _, t := range b.Topics {
		o := paho.SubscribeOptions{Topic: at + t, QoS: 1}
		if b.Host == "" { // what is kept of thousands would fill the broker's queue of a client
			o.QoS = 0
		}
		sub.Subscriptions = append(sub.Subscriptions, o)
	}
	config := autopaho.ClientConfig{
		ServerUrls: []*url.URL{address}, TlsCfg: secure, KeepAlive: uint16(keepAlive.Seconds()), SessionExpiryInterval: uint32(sessionAway.Seconds()),
		CleanStartOnInitialConnection: b.Host == "", ConnectUsername: b.User, ConnectPassword: b.Password,
		ReconnectBackoff: autopaho.NewExponentialBackoff(time.Second, slowest, 2*time.Second, 2),
		OnConnectionUp: func(m *autopaho.ConnectionManager, _ *paho.Connack) {
			go up(ctx, m, sub, b.onMessage(at, "on"), take)
		},
		OnConnectionDown: func() bool { return true },
		OnConnectError:   func(err error) { take(Message{Trouble: whyNot(err)}) },
		ConnectPacketBuilder: func(c *paho.Connect, _ *url.URL) (*paho.Connect, error) {
			most := uint32(estate.MostBytes + ownPacket) // what is larger, the broker keeps
			if c.Properties == nil {
				c.Properties = &paho.ConnectProperties{}
			}
			c.Properties.MaximumPacketSize = &most
			return c, nil
		},
		ClientConfig: paho.ClientConfig{ClientID: b.Client, PacketTimeout: publishWithin, // a bundle over a slow line takes a while
			OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(p paho.PublishReceived) (bool, error) {
				if topic := p.Packet.Topic; len(topic) > len(at) && topic[:len(at)] == at && len(p.Packet.Payload) <= estate.MostBytes {
					take(Message{Topic: topic[len(at):], Payload: p.Packet.Payload})
				}
				return true, nil
			}},
			OnClientError: func(err error) { take(Message{Trouble: err.Error()}) },
			OnServerDisconnect: func(d *paho.Disconnect) {
				take(Message{Trouble: fmt.Sprintf("the broker ends it: code %d", d.ReasonCode)})
			},
		},
	}
	off := b.onMessage(at, "off")
	if off != nil {
		// However the connection ends, the broker says so (MQTT 5, section 3.14.2.1).
		const withWill = 0x04
		config.DisconnectPacketBuilder = func() *paho.Disconnect { return &paho.Disconnect{ReasonCode: withWill} }
		config.WillMessage = &paho.WillMessage{Topic: off.Topic, Payload: off.Payload, QoS: 1, Retain: true}
	}
	if b.Host == "" {
		config.SessionExpiryInterval = 0 // an administrator reads all anew
	}
	m, err := autopaho.NewConnection(ctx, config)
	if err != nil {
		return nil, err
	}
	return &Conn{at, off, m}, nil
}

// whyNot says in words why a connection could not be made.
func whyNot(err error) string {
	refused, ok := errors.AsType[*autopaho.ConnackError](err)
	if !ok {
		return err.Error()
	}
	switch refused.ReasonCode { // MQTT 5, section 3.2.2.2
	case 0x86:
		return "the broker refuses the name or the password"
	case 0x87, 0x8A:
		return "the broker lets this one not in"
	case 0x84:
		return "the broker does not speak MQTT 5"
	case 0x88, 0x89, 0x97, 0x9F:
		return "the broker has too much to do"
	}
	return fmt.Sprintf("the broker refuses it (code 0x%02X %s)", refused.ReasonCode, refused.Reason)
}

// onMessage says that the workstation is there, or not; nil for an administrator's.
func (b *Broker) onMessage(at, payload string) *paho.Publish {
	if b.Host == "" {
		return nil
	}
	return &paho.Publish{Topic: at + hostTopic + b.Host + onOf, Payload: []byte(payload), QoS: 1, Retain: true}
}

// up asks for what is wanted once a connection is there.
func up(ctx context.Context, m *autopaho.ConnectionManager, sub *paho.Subscribe, on *paho.Publish, take func(Message)) {
	ctx, enough := context.WithTimeout(ctx, publishWithin)
	defer enough()
	var err error
	if on != nil {
		_, err = m.Publish(ctx, on)
	}
	if len(sub.Subscriptions) > 0 {
		_, subErr := m.Subscribe(ctx, sub)
		err = errors.Join(err, subErr)
	}
	if err != nil {
		take(Message{Trouble: err.Error()})
		return
	}
	take(Message{Up: true})
}

// Publish sends a message, and waits until the broker has it.
func (c *Conn) Publish(ctx context.Context, topic string, payload []byte, retain bool) error {
	return c.publish(ctx, &paho.Publish{Topic: topic, Payload: payload, QoS: 1, Retain: retain})
}

// Ask sends a message that the broker forgets after a while.
func (c *Conn) Ask(ctx context.Context, topic string, payload []byte, life time.Duration) error {
	seconds := uint32(life.Seconds())
	return c.publish(ctx, &paho.Publish{Topic: topic, Payload: payload, QoS: 1, Properties: &paho.PublishProperties{MessageExpiry: &seconds}})
}

func (c *Conn) publish(ctx context.Context, p *paho.Publish) error {
	ctx, enough := context.WithTimeout(ctx, publishWithin)
	defer enough()
	if err := c.manager.AwaitConnection(ctx); err != nil {
		return err
	}
	p.Topic = c.root + p.Topic
	_, err := c.manager.Publish(ctx, p)
	return err
}

// Close ends a connection in good order.
func (c *Conn) Close() {
	ctx, enough := context.WithTimeout(context.Background(), time.Second)
	defer enough()
	if c.off != nil {
		c.manager.Publish(ctx, c.off) // where the broker does not hear it, its will tells
	}
	c.manager.Disconnect(ctx)
}
