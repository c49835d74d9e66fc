//go:build linux

package hub

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"timegate/estate"
	"timegate/workstation/wstest"
)

// open starts a hub on a store, with TLS.
func open(t *testing.T, s Store) *Hub {
	t.Helper()
	secure, err := s.TLS([]string{"localhost", "127.0.0.1"}, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	h, err := Start(Options{Shop: "larkspur", Store: s, TLS: secure, Address: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.server.Close() })
	return h
}

// client is somebody at the hub.
type client struct {
	*estate.Conn
	messages chan estate.Message
}

func connect(t *testing.T, h *Hub, name, password, host string, topics ...string) *client {
	t.Helper()
	authority, err := os.ReadFile(h.o.Store.AuthorityFile())
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	c := &client{messages: make(chan estate.Message, 100)}
	c.Conn, err = estate.Connect(ctx, estate.Broker{URL: fmt.Sprintf("mqtts://%s", h.Address()), Shop: "larkspur", Client: name + ":" + host + "c", Authority: authority, User: name, Password: []byte(password), Host: host, Topics: topics},
		func(m estate.Message) { c.messages <- m })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close(); stop() })
	return c
}

// next waits for a message that a function knows.
func (c *client) next(t *testing.T, what string, is func(m estate.Message) bool) estate.Message {
	t.Helper()
	for enough := time.After(20 * time.Second); ; {
		select {
		case m := <-c.messages:
			if is(m) {
				return m
			}
		case <-enough:
			t.Fatalf("waited in vain for %s", what)
		}
	}
}

func up(m estate.Message) bool      { return m.Up }
func trouble(m estate.Message) bool { return m.Trouble != "" }

// TestHub: those who were admitted get in, with their passwords; each writes its own topics
// alone; what is kept is there after the hub has died.
func TestHub(t *testing.T) {
	s := Store{t.TempDir()}
	passwords := map[string]string{}
	for _, name := range []string{"maren", "press-room", "front-desk"} {
		password, err := s.Admit(name, name == "maren")
		if err != nil {
			t.Fatal(err)
		}
		passwords[name] = password
	}
	h := open(t, s)
	maren := connect(t, h, "maren", passwords["maren"], "", "host/+/report", "host/+/on")
	maren.next(t, "maren to be in", up)
	press := connect(t, h, "press-room", passwords["press-room"], "press-room", "bundle")
	press.next(t, "the press room to be in", up)
	maren.next(t, "the press room to be on", func(m estate.Message) bool { return m.Topic == "host/press-room/on" && string(m.Payload) == "on" })
	for name, password := range map[string]string{"press-room": passwords["front-desk"], "stranger": "", "maren": ""} {
		if m := connect(t, h, name, password, "").next(t, "a refusal", func(m estate.Message) bool { return m.Up || trouble(m) }); m.Up {
			t.Errorf("%s is let in with the password %q", name, password)
		}
	}
	if err := maren.Publish(t.Context(), "bundle", []byte("seven"), true); err != nil {
		t.Fatal(err)
	}
	press.next(t, "the bundle", func(m estate.Message) bool { return m.Topic == "bundle" && string(m.Payload) == "seven" })
	if err := press.Publish(t.Context(), "host/press-room/report", []byte("fine"), true); err != nil {
		t.Error(err)
	}
	maren.next(t, "the report", func(m estate.Message) bool { return string(m.Payload) == "fine" })
	for _, topic := range []string{"host/front-desk/report", "bundle", "release", "host/press-room/other", "other"} {
		press.Publish(t.Context(), topic, []byte("forged"), true) // whatever the hub answers, nobody hears it
	}
	if kept, err := s.Kept(); err != nil || string(kept["timegate/larkspur/bundle"]) != "seven" || len(kept) != 3 {
		t.Errorf("kept is %q, %v", kept, err)
	}
	for i := range perMinute + 50 {
		if err := press.Publish(t.Context(), "host/press-room/report", fmt.Append(nil, i), true); err != nil {
			break // it was refused
		}
	}
	if kept, err := s.Kept(); err != nil || string(kept["timegate/larkspur/host/press-room/report"]) == fmt.Sprint(perMinute+49) {
		t.Errorf("whatever comes is taken, however fast: %q, %v", kept, err)
	}
	// It dies, without a word; another one takes its place.
	h = open(t, s)
	front := connect(t, h, "front-desk", passwords["front-desk"], "front-desk", "bundle")
	front.next(t, "what was kept", func(m estate.Message) bool { return m.Topic == "bundle" && string(m.Payload) == "seven" })
	if there, err := s.Expel("front-desk"); err != nil || !there {
		t.Error(there, err)
	}
	wstest.Await(t, "that the one who was expelled is refused", func() bool {
		m := connect(t, h, "front-desk", passwords["front-desk"], "").next(t, "an answer", func(m estate.Message) bool { return m.Up || trouble(m) })
		return !m.Up
	})
}

// TestStore: what is damaged is not taken, names that are none are refused, and a certificate
// is made anew before it ends.
func TestStore(t *testing.T) {
	s := Store{t.TempDir()}
	for _, name := range []string{"", "a/b", "+", "../x"} {
		if _, err := s.Admit(name, false); err == nil {
			t.Errorf("%q is admitted", name)
		}
	}
	if err := s.Keep("timegate/larkspur/bundle", []byte("x")); err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string]string{"half.json": `{"topic":`, "other.json": `{"topic":"timegate/larkspur/release","payload":"eA=="}`} {
		if err := os.WriteFile(filepath.Join(s.kept(), name), []byte(data), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if kept, err := s.Kept(); err != nil || len(kept) != 1 {
		t.Errorf("kept is %q, %v", kept, err)
	}
	if err := s.Keep("timegate/larkspur/bundle", nil); err != nil {
		t.Error(err)
	}
	if kept, err := s.Kept(); err != nil || len(kept) != 0 {
		t.Errorf("what was taken back is kept: %q, %v", kept, err)
	}
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	serial := func(at time.Time, names ...string) string {
		t.Helper()
		c, err := s.TLS(names, at)
		if err != nil {
			t.Fatal(err)
		}
		cert, _, err := s.pair("hub", nil, nil, nil, at)
		if err != nil || c.GetCertificate == nil {
			t.Fatal(err)
		}
		return cert.SerialNumber.String()
	}
	first := serial(now, "hub.larkspur.example")
	if serial(now.AddDate(0, 6, 0), "hub.larkspur.example") != first {
		t.Error("a certificate that is good is made anew")
	}
	if serial(now.AddDate(0, 11, 0), "hub.larkspur.example") == first || serial(now, "other.larkspur.example") == first {
		t.Error("a certificate that ends soon, or is for another name, stays")
	}
	if err := os.WriteFile(filepath.Join(s.Folder, "authority.key.pem"), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := s.TLS(nil, now); err == nil || !strings.Contains(err.Error(), "authority.key.pem") {
		t.Errorf("a damaged authority: %v", err)
	}
	if err := os.WriteFile(s.members(), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Admit("press-room", false); err == nil {
		t.Error("a damaged list of members is written over")
	}
}
