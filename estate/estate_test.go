//go:build linux

package estate

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"timegate/core/estate"
	"timegate/workstation/wstest"
)

// running is a workstation with its network's process.
type running struct {
	keeper *fakeKeeper
	store  *memory
	change chan struct{}
	stop   func()
}

func run(t *testing.T, r *realBroker, host string, k *fakeKeeper, m *memory) *running {
	t.Helper()
	return runFrom(t, r.reached(host), host, k, m, startNetwork)
}

// runFrom runs a workstation whose network's process is started by a function.
func runFrom(t *testing.T, b Broker, host string, k *fakeKeeper, m *memory, start func(string, []*os.File) (*os.Process, error)) *running {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	link := &Link{Start: start}
	b.Host, b.Client, b.Topics = host, "timegate-"+host, stationTopics(host)
	out := &running{k, m, make(chan struct{}, 1), nil}
	messages := make(chan Message, 16)
	var both sync.WaitGroup
	both.Go(func() {
		link.Run(ctx, b, func(m Message) {
			select {
			case messages <- m:
			case <-ctx.Done():
			}
		})
	})
	both.Go(func() {
		s := station(host, k, m, link.Publish)
		if host == "press-room" {
			s.May = []string{"open"}
		}
		if err := s.Run(ctx, messages, out.change); err != nil {
			t.Error(err)
		}
	})
	out.stop = func() { cancel(); both.Wait() }
	t.Cleanup(out.stop)
	return out
}

// TestEstate: three workstations and a real broker, with TLS, passwords and rules: they are let
// in, a bundle comes in waves, one that was off gets it later, a wave stops by itself; the
// broker dies and comes back; one workstation cannot speak for another.
func TestEstate(t *testing.T) {
	t.Parallel()
	r := startBroker(t)
	hosts := map[string]*running{}
	for _, host := range []string{"press-room", "front-desk"} {
		hosts[host] = run(t, r, host, &fakeKeeper{}, &memory{})
	}
	maren := []ed25519.PrivateKey{keyOf("maren")}
	known := &Known{}
	open := func() *Desk { return deskAt(t, r, known) }
	d := open()
	host := func(name string) *Host {
		for _, h := range d.Hosts() {
			if h.Host == name {
				return &h
			}
		}
		return &Host{}
	}
	for name := range hosts {
		wstest.Await(t, name+" asks to be let in", func() bool { return host(name).Key != nil })
		if key, err := d.Accept(name); err != nil || !key.Equal(publicOf(name)) {
			t.Fatalf("%s: %v, %v", name, key, err)
		}
		wstest.Await(t, name+" reports", func() bool { h := host(name); return h.On && h.Last != nil && h.Last.Gates == 8 })
	}
	if _, err := d.Accept("studio-laptop"); err == nil {
		t.Error("one that does not ask is let in")
	}
	// A trial changes nothing, and is tried out once by each.
	trial := &estate.Bundle{Manifest: estate.Manifest{Expires: time.Now().Add(time.Hour), Plan: estate.Plan{Waves: []estate.Wave{{Rest: true}}}}, Content: map[string][]byte{"gates/vault-copy.toml": []byte("run = [\"/bin/true\"]\n")}}
	if err := d.Try(t.Context(), trial, time.Now(), maren); err != nil {
		t.Fatal(err)
	}
	wstest.Await(t, "both to have tried it", func() bool { said, on, all := d.Tried(&trial.Manifest); return len(said) == 2 && on == 2 && all == 2 })
	said, _, _ := d.Tried(&trial.Manifest)
	if sum := estate.Sum(said); len(sum) != 1 || sum[0].Text != "3 more starts a day" || len(sum[0].Hosts) != 2 {
		t.Errorf("the trial says %+v", sum)
	}
	// One is asked for something, and does it; the other one permits nothing.
	for name, want := range map[string]string{"press-room": "", "front-desk": estate.NotPermitted} {
		wait, enough := context.WithTimeout(t.Context(), 20*time.Second)
		a, err := d.Ask(wait, name, estate.AskOpen, "humidity-log", time.Now(), maren)
		if enough(); err != nil || a.Code != want || a.Host != name || want == "" && a.Text != "52 %" {
			t.Errorf("%s answers %+v, %v; want %q", name, a, err, want)
		}
	}
	if _, err := d.Ask(t.Context(), "studio-laptop", estate.AskWhy, "humidity-log", time.Now(), maren); err == nil || !strings.Contains(err.Error(), "was not let in") {
		t.Errorf("one that was not let in is asked: %v", err)
	}
	// What another one says in its name is no answer.
	d.asking = &asking{Request: &estate.Request{Shop: "larkspur", Host: "press-room", ID: "x"}}
	forgedAnswer := sealed(t, estate.ForAnswer, []byte("x"), "front-desk")
	if d.take(Message{Topic: hostTopic + "press-room" + answerOf + d.me, Payload: forgedAnswer}); d.asking.answer != nil || d.asking.wrong == nil {
		t.Errorf("a forged answer is taken: %+v", d.asking.answer)
	}
	plan := estate.Plan{Waves: []estate.Wave{{Count: 1}, {Rest: true}}, After: time.Hour, Limits: []estate.Limit{{Of: estate.Failed}, {Of: estate.Broken}}}
	publish := func(plan estate.Plan) *estate.Release {
		t.Helper()
		b := &estate.Bundle{Manifest: estate.Manifest{Expires: time.Now().Add(time.Hour), Plan: plan}, Content: map[string][]byte{"gates/vault-copy.toml": []byte("run = [\"/bin/true\"]\n")}}
		raw, err := d.Make(b, time.Now(), maren)
		if err != nil {
			t.Fatal(err)
		}
		rel, err := d.Publish(t.Context(), raw, time.Now(), maren)
		if err != nil {
			t.Fatal(err)
		}
		return rel
	}
	first := publish(plan)
	one, other := "press-room", "front-desk"
	if first.Reaches(other) {
		one, other = other, one
	}
	if first.Reaches(other) {
		t.Fatal("a wave of one reaches two")
	}
	wstest.Await(t, "the first wave", func() bool { l := host(one).Last; return l.Bundle.Number == 1 && l.Bundle.State == estate.Taken })
	if v, err := d.Step(t.Context(), time.Now(), maren); err != nil || v.Do != estate.Wait || hosts[other].keeper.has() != "[] 0" {
		t.Errorf("%+v, %v; the other has %s", v, err, hosts[other].keeper.has())
	}
	// The broker is killed, and comes back with what it has kept.
	r.kill()
	r.begin(t)
	wstest.Await(t, "both are there again", func() bool { return host(one).On && host(other).On })
	if v, err := d.Step(t.Context(), time.Now().Add(2*time.Hour), maren); err != nil || v.Do != estate.Next {
		t.Errorf("%+v, %v", v, err)
	}
	wstest.Await(t, "the second wave", func() bool { l := host(other).Last; return l.Bundle.Number == 1 && l.Bundle.State == estate.Taken })
	// What the broker has forgotten, the next administrator reminds it of.
	d.Close()
	d = open()
	// One was off all the time: it gets the bundle as soon as it is there.
	hosts["studio-laptop"] = run(t, r, "studio-laptop", &fakeKeeper{}, &memory{})
	wstest.Await(t, "the one that was off", func() bool { return hosts["studio-laptop"].keeper.has() == "[1] 0" })
	if _, err := d.Accept("studio-laptop"); err != nil {
		wstest.Await(t, "it asks", func() bool { _, err = d.Accept("studio-laptop"); return err == nil })
	}
	// The next bundle fails where it comes first, and goes no further.
	for _, h := range hosts {
		h.keeper.mu.Lock()
		h.keeper.failed = 2
		h.keeper.mu.Unlock()
	}
	wstest.Await(t, "the desk to know all three", func() bool {
		known := 0
		for _, h := range d.Hosts() {
			if h.On && h.Last != nil {
				known++
			}
		}
		return known == len(hosts)
	})
	second := publish(plan)
	wstest.Await(t, "the wave that fails", func() bool {
		for name := range hosts {
			if l := host(name).Last; second.Reaches(name) && l != nil && l.Bundle.Number == 2 && l.Failed == 2 {
				return true
			}
		}
		return false
	})
	v, err := d.Step(t.Context(), time.Now(), maren)
	if _, rel := d.Bundle(); err != nil || v.Do != estate.Stop || !rel.Held || !strings.HasPrefix(rel.Why, "failed on 1 of 1 workstations") {
		t.Errorf("%+v, %v, %+v", v, err, rel)
	}
	if v, err := d.Step(t.Context(), time.Now().Add(9*time.Hour), maren); err != nil || v.Do != estate.Stop {
		t.Errorf("it goes on: %+v, %v", v, err)
	}
	taken := 0
	for _, h := range hosts {
		if strings.HasPrefix(h.keeper.has(), "[1 2]") {
			taken++
		}
	}
	if taken != 1 {
		t.Errorf("%d have the bundle that stopped", taken)
	}
	// One that goes is seen to be off, by the broker's word.
	hosts[one].stop()
	wstest.Await(t, one+" is off", func() bool { return !host(one).On })
	// A workstation whose password was stolen cannot speak for another: the broker's rules
	// forbid it, and the administrator does not believe it.
	forged, err := json.Marshal(&estate.Report{Shop: "larkspur", Host: other, Number: 1000, At: time.Now(), Failed: 99})
	if err != nil {
		t.Fatal(err)
	}
	d.take(Message{Topic: hostTopic + other + reportOf, Payload: sealed(t, estate.ForReport, forged, one)})
	d.busy.Wait()
	if h := host(other); h.Last.Failed == 99 || !strings.Contains(h.Wrong, "not signed with the key") {
		t.Errorf("a forged report is believed: %+v", h)
	}
	// An administrator who comes later sees the same, and gives no number again.
	d = open()
	wstest.Await(t, "the next administrator to see the same", func() bool {
		b, rel := d.Bundle()
		return b != nil && b.Number == 2 && rel.Held && len(d.Hosts()) == 3
	})
	known.Number, known.Order = 40, 50 // the broker shows an older state
	if rel := publish(plan); rel.Number != 41 || rel.Order != 51 {
		t.Errorf("the next bundle is %+v", rel)
	}
}
