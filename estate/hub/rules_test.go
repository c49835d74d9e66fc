//go:build linux

package hub

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"testing"
	"time"

	"github.com/eclipse/paho.golang/paho"
	"golang.org/x/sys/unix"

	"timegate/workstation/wstest"
)

// raw is somebody who speaks the protocol as they like.
type raw struct {
	*paho.Client
	conn net.Conn
	got  chan *paho.Publish
}

// code is what a broker answers to a connection or a message that it refuses.
const (
	badClient  = 0x85
	notAllowed = 0x87
	busy       = 0x89
	quota      = 0x97
	noPassword = 0x86
)

// speak connects, and returns the code of the answer; 0 for being let in.
func speak(t *testing.T, h *Hub, name, password, client string, more func(*paho.Connect)) (*raw, byte) {
	t.Helper()
	conn, err := net.Dial("tcp", h.Address().String())
	if err != nil {
		t.Fatal(err)
	}
	r := &raw{conn: conn, got: make(chan *paho.Publish, 100)}
	r.Client = paho.NewClient(paho.ClientConfig{Conn: conn, PacketTimeout: 10 * time.Second, OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(p paho.PublishReceived) (bool, error) {
		r.got <- p.Packet
		return true, nil
	}}})
	c := &paho.Connect{ClientID: client, KeepAlive: 60, CleanStart: true, Username: name, UsernameFlag: true, Password: []byte(password), PasswordFlag: true}
	if more != nil {
		more(c)
	}
	t.Cleanup(func() { conn.Close() })
	ack, err := r.Connect(t.Context(), c)
	if ack == nil {
		t.Fatalf("%s is not answered: %v", client, err)
	}
	return r, ack.ReasonCode
}

// put publishes a message, and returns the code of the answer.
func (r *raw) put(t *testing.T, topic string, size int, keep bool) byte {
	t.Helper()
	ack, err := r.Publish(t.Context(), &paho.Publish{Topic: topic, Payload: make([]byte, size), QoS: 1, Retain: keep})
	if ack == nil {
		t.Fatalf("%s is not answered: %v", topic, err)
	}
	return ack.ReasonCode
}

// plainHub is a hub without TLS, with a workstation, another one, and a desk.
func plainHub(t *testing.T) (h *Hub, passwords map[string]string) {
	t.Helper()
	s := Store{t.TempDir()}
	passwords = map[string]string{}
	for _, name := range []string{"maren", "press-room", "front-desk"} {
		password, err := s.Admit(name, name == "maren")
		if err != nil {
			t.Fatal(err)
		}
		passwords[name] = password
	}
	h, err := Start(Options{Shop: "larkspur", Store: s, Address: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler), within: 2 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.server.Close() })
	return h, passwords
}

// TestMembersApart: with its own password nobody speaks in another's name, be it by a will or
// by taking a session, and nobody takes more than their share of the hub.
func TestMembersApart(t *testing.T) {
	t.Parallel()
	h, passwords := plainHub(t)
	press := passwords["press-room"]
	const mine, theirs = "timegate/larkspur/host/press-room/", "timegate/larkspur/host/front-desk/"
	will := func(topic string, size int) func(*paho.Connect) {
		return func(c *paho.Connect) {
			c.WillMessage = &paho.WillMessage{Topic: topic, Payload: make([]byte, size), QoS: 1, Retain: true}
		}
	}
	for _, tt := range []struct {
		what, client string
		more         func(*paho.Connect)
		want         byte
	}{
		{"its own will", "press-room:1", will(mine+"on", 3), 0},
		{"another's end", "press-room:1", will(theirs+"on", 3), notAllowed},
		{"another's report", "press-room:1", will(theirs+"report", 3), notAllowed},
		{"another's request to be let in", "press-room:1", will(theirs+"joining", 3), notAllowed},
		{"the bundle", "press-room:1", will("timegate/larkspur/bundle", 3), notAllowed},
		{"a large will", "press-room:1", will(mine+"on", longestWill+1), notAllowed},
		{"another's session", "front-desk:1", nil, badClient},
		{"a session that begins as another's", "press-roomy:1", nil, badClient},
		{"nobody's session", "press-room", nil, badClient},
		{"an empty secret", "press-room:", nil, badClient},
	} {
		c, code := speak(t, h, "press-room", press, tt.client, tt.more)
		if code != tt.want {
			t.Errorf("%s: the answer is 0x%02x, want 0x%02x", tt.what, code, tt.want)
		}
		c.conn.Close()
	}
	if _, code := speak(t, h, "press-room", "guessed", "press-room:1", will(theirs+"on", 3)); code != noPassword {
		t.Errorf("without the password the answer is 0x%02x", code)
	}
	if kept, err := h.o.Store.Kept(); err != nil || kept[theirs+"on"] != nil || kept["timegate/larkspur/bundle"] != nil {
		t.Errorf("kept is %q, %v", kept, err)
	}

	one, code := speak(t, h, "press-room", press, "press-room:one", nil)
	if code != 0 {
		t.Fatalf("0x%02x", code)
	}
	for _, tt := range []struct {
		topic string
		size  int
		keep  bool
		want  byte
	}{
		{mine + "report", 1000, true, 0}, {mine + "report", 2 << 20, true, quota}, {mine + "on", 64 << 10, true, quota},
		{mine + "answer/x", 1000, false, 0}, {mine + "answer/x", 1000, true, quota}, {mine + "forecast", 7 << 20, true, 0}, {theirs + "report", 10, true, notAllowed},
	} {
		if code := one.put(t, tt.topic, tt.size, tt.keep); code != tt.want {
			t.Errorf("%d bytes of %s, kept %v: 0x%02x, want 0x%02x", tt.size, tt.topic, tt.keep, code, tt.want)
		}
	}
	for i := range perMinute + 50 { // nobody answers what is sent without a number
		one.Publish(t.Context(), &paho.Publish{Topic: mine + "report", Payload: fmt.Append(nil, "flood ", i), Retain: true})
	}
	one.put(t, mine+"answer/x", 10, false) // whose answer comes when the flood was looked at
	if kept, err := h.o.Store.Kept(); err != nil || string(kept[mine+"report"]) == fmt.Sprint("flood ", perMinute+49) {
		t.Errorf("a flood without numbers is kept to its end: %q, %v", kept[mine+"report"], err)
	}

	refused := 0
	for i := range ofStation.connections + 3 {
		if _, code := speak(t, h, "press-room", press, fmt.Sprint("press-room:more", i), nil); code == quota {
			refused++
		}
	}
	if refused < 3 {
		t.Errorf("%d of %d connections of one workstation are refused", refused, ofStation.connections+3)
	}
	maren, code := speak(t, h, "maren", passwords["maren"], "maren:1", nil)
	if code != 0 {
		t.Errorf("the desk is not let in beside them: 0x%02x", code)
	}
	sub, err := maren.Subscribe(t.Context(), &paho.Subscribe{Subscriptions: []paho.SubscribeOptions{{Topic: "timegate/larkspur/host/+/report", QoS: 1}, {Topic: "#", QoS: 1}}})
	if sub == nil || sub.Reasons[0] > 2 || sub.Reasons[1] < 0x80 {
		t.Errorf("the desk's subscriptions: %+v, %v", sub, err)
	}
}

// TestImpatient: who does not say who they are is let go, and many of them keep nobody out.
func TestImpatient(t *testing.T) {
	t.Parallel()
	const crowd, others = unknown + MostClients + deskPlaces, 200
	var files unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &files); err != nil || files.Cur < 2*crowd+others {
		wstest.Skip(t, "needs %d open files, and ulimit -n is %d", 2*crowd+others, files.Cur)
	}
	h, passwords := plainHub(t)
	var silent []net.Conn
	for range crowd {
		conn, err := net.Dial("tcp", h.Address().String())
		if err != nil {
			t.Fatal(err)
		}
		silent = append(silent, conn)
		defer conn.Close()
	}
	wstest.Await(t, "that the silent ones are let go", func() bool {
		silent[0].SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		_, err := silent[0].Read(make([]byte, 1))
		var late net.Error
		return err != nil && !(errors.As(err, &late) && late.Timeout())
	})
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	for code := byte(busy); code != 0; {
		if ctx.Err() != nil {
			t.Fatal("nobody is let in after them")
		}
		_, code = speak(t, h, "maren", passwords["maren"], "maren:1", nil)
	}
}

// TestRenewed: a certificate is made anew while the hub runs, and stays where that fails.
func TestRenewed(t *testing.T) {
	t.Parallel()
	s := Store{t.TempDir()}
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	c, err := s.TLS([]string{"hub.larkspur.example"}, now)
	if err != nil {
		t.Fatal(err)
	}
	first, err := c.GetCertificate(nil)
	if err != nil {
		t.Fatal(err)
	}
	r := &renewed{cert: first, looked: now, now: func() time.Time { return now }, shown: func(at time.Time) (*tls.Certificate, error) {
		fresh, err := s.TLS([]string{"hub.larkspur.example"}, at)
		if err != nil {
			return nil, err
		}
		return fresh.GetCertificate(nil)
	}}
	if r.get() != first {
		t.Error("another look within the hour")
	}
	now = now.AddDate(0, 6, 0)
	if got := r.get(); string(got.Certificate[0]) != string(first.Certificate[0]) {
		t.Error("a certificate that is good is made anew")
	}
	now = now.AddDate(0, 6, 0)
	if got := r.get(); string(got.Certificate[0]) == string(first.Certificate[0]) {
		t.Error("a certificate that has ended is shown")
	}
	before := r.get()
	r.shown = func(time.Time) (*tls.Certificate, error) { return nil, errors.New("the disk is full") }
	if now = now.AddDate(1, 0, 0); r.get() != before {
		t.Error("where no new one can be made, the old one goes")
	}
}
