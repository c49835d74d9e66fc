//go:build linux

package estate

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"timegate/core/estate"
)

// asks is a request to the press room, sealed, and how its answer is opened.
func asks(t testing.TB, key string, change func(r *estate.Request)) (*estate.Request, []byte, func(raw []byte) (*estate.Answer, error)) {
	t.Helper()
	private, reply, err := estate.NewReply()
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	r := &estate.Request{Shop: "larkspur", Host: "press-room", ID: rand.Text(), Desk: rand.Text(), Reply: reply, Made: now, Expires: now.Add(estate.RequestLife), Do: estate.AskOpen, Of: "humidity-log"}
	change(r)
	body, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	return r, sealed(t, estate.ForRequest, body, key), func(raw []byte) (*estate.Answer, error) {
		return estate.OpenAnswer(raw, r, publicOf("press-room"), private)
	}
}

// TestRequests: what is asked for is done once, where the workstation permits it and the shop's
// key has signed it for this one and now; nobody but the one who asked reads the answer.
func TestRequests(t *testing.T) {
	t.Parallel()
	type asked = estate.Request
	same := func(*asked) {}
	for _, tt := range []struct {
		name   string
		key    string
		change func(*asked)
		may    []string
		times  int    // it is shown
		done   string // what the keeper has done
		code   string // of the answer; "none" for no answer
	}{
		{"permitted", "maren", same, []string{"open"}, 1, "[open humidity-log]", ""},
		{"shown again", "maren", same, []string{"open"}, 3, "[open humidity-log]", ""},
		{"not permitted", "maren", same, []string{"stop", "details"}, 1, "[]", estate.NotPermitted},
		{"why, which is always answered", "maren", func(r *asked) { r.Do = estate.AskWhy }, nil, 1, "[why humidity-log]", ""},
		{"resume is part of pause", "maren", func(r *asked) { r.Do, r.Of = estate.AskResume, "" }, []string{"pause"}, 1, "[resume ]", ""},
		{"forged", "stranger", same, []string{"open"}, 1, "[]", "none"},
		{"signed by a workstation", "press-room", same, []string{"open"}, 1, "[]", "none"},
		{"to another workstation", "maren", func(r *asked) { r.Host = "front-desk" }, []string{"open"}, 1, "[]", "none"},
		{"of another shop", "maren", func(r *asked) { r.Shop = "foxglove" }, []string{"open"}, 1, "[]", "none"},
		{"too old", "maren", func(r *asked) { r.Made, r.Expires = r.Made.Add(-time.Hour), r.Expires.Add(-time.Hour) }, []string{"open"}, 2, "[]", estate.Expired},
		{"of tomorrow", "maren", func(r *asked) { r.Made, r.Expires = r.Made.Add(24*time.Hour), r.Expires.Add(24*time.Hour) }, []string{"open"}, 1, "[]", estate.Expired},
		{"good for a year", "maren", func(r *asked) { r.Expires = r.Made.Add(8760 * time.Hour) }, []string{"open"}, 1, "[]", "none"},
		{"something else", "maren", func(r *asked) { r.Do = "erase" }, estate.Permissions(), 1, "[]", "none"},
		{"an option for a name", "maren", func(r *asked) { r.Of = "--home=/tmp" }, []string{"open"}, 1, "[]", "none"},
		{"a way out of a topic", "maren", func(r *asked) { r.Desk = "../../bundle/aaaaaaaaaaaaa" }, []string{"open"}, 1, "[]", "none"},
		{"no key for the answer", "maren", func(r *asked) { r.Reply = []byte("x") }, []string{"open"}, 1, "[]", "none"},
	} {
		k, m := &fakeKeeper{}, &memory{}
		answers := map[string][]byte{}
		s := station("press-room", k, m, func(topic string, raw []byte, keep bool) {
			if !keep {
				answers[topic] = raw
			}
		})
		s.May, s.asks = tt.may, make(chan *ask, mostAsks)
		r, raw, open := asks(t, tt.key, tt.change)
		for range tt.times {
			s.request(raw) // what is wrong, the answer says
		}
		for len(s.asks) > 0 {
			if err := s.answer(t.Context(), <-s.asks); err != nil {
				t.Error(err)
			}
		}
		if fmt.Sprint(k.asked) != tt.done {
			t.Errorf("%s: done is %q, want %s", tt.name, k.asked, tt.done)
		}
		got, there := answers[hostTopic+"press-room"+answerOf+r.Desk]
		a, err := open(got)
		switch {
		case !there && tt.code == "none":
		case err != nil || a.Code != tt.code || tt.code == "" && a.Text != "52 %":
			t.Errorf("%s: %+v, %v, want %q", tt.name, a, err, tt.code)
		case bytes.Contains(got, []byte("52 %")) || bytes.Contains(got, []byte("larkspur")):
			t.Errorf("%s: the answer can be read by everybody", tt.name)
		}
		// Another one who waits cannot open it, and it is no answer to another request.
		if _, _, other := asks(t, "maren", tt.change); there {
			if a, err := other(got); err == nil {
				t.Errorf("%s: somebody else reads %+v", tt.name, a)
			}
		}
		// A keeper that begins anew does not do it again, also where its clock was set back.
		again := station("press-room", k, m, func(string, []byte, bool) {})
		again.May, again.asks = tt.may, make(chan *ask, mostAsks)
		if err := m.Load(&again.state); err != nil {
			t.Fatal(err)
		}
		if again.request(raw); tt.done != "[]" && len(again.asks) > 0 {
			t.Errorf("%s: it is done once more after a restart", tt.name)
		}
	}
	// What has waited too long is not done any more, and more than can wait is refused at once.
	k, m := &fakeKeeper{}, &memory{}
	answers := map[string][]byte{}
	s := station("press-room", k, m, func(topic string, raw []byte, _ bool) { answers[topic] = raw })
	s.May, s.asks = []string{"open"}, make(chan *ask, 1)
	late, _, openLate := asks(t, "maren", func(r *asked) { r.Expires = r.Made })
	if err := s.answer(t.Context(), &ask{Request: late}); err != nil {
		t.Fatal(err)
	}
	if a, err := openLate(answers[hostTopic+"press-room"+answerOf+late.Desk]); err != nil || a.Code != estate.Expired {
		t.Errorf("what has waited too long: %+v, %v", a, err)
	}
	for i, want := range []string{"none", estate.Busy} {
		r, raw, open := asks(t, "maren", same)
		if err := s.request(raw); err != nil {
			t.Fatal(err)
		}
		got, there := answers[hostTopic+"press-room"+answerOf+r.Desk]
		if a, err := open(got); there != (want != "none") || there && (err != nil || a.Code != want) {
			t.Errorf("request %d: %+v, %v, want %s", i+1, a, err, want)
		}
	}
	if len(k.asked) > 0 {
		t.Errorf("done is %q", k.asked)
	}
	k, m = &fakeKeeper{}, &memory{full: true}
	s = station("press-room", k, m, func(string, []byte, bool) {})
	s.May, s.asks = []string{"open"}, make(chan *ask, mostAsks)
	_, raw, _ := asks(t, "maren", same)
	if err := s.request(raw); err == nil || len(s.asks) > 0 {
		t.Errorf("on a full disk it is done, and could be again: %v", err)
	}
}
