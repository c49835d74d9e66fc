//go:build linux

package estate

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"sync"
	"testing"
	"time"

	"timegate/core/estate"
	"timegate/workstation/wstest"
)

// deskAt opens a desk with what it knows.
func deskAt(t *testing.T, r *realBroker, known *Known) *Desk {
	t.Helper()
	ctx, enough := context.WithTimeout(t.Context(), 20*time.Second)
	defer enough()
	d, err := Open(ctx, r.reached("maren"), []ed25519.PublicKey{publicOf("maren")}, 1, known)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Close)
	return d
}

func hostAt(d *Desk, name string) Host {
	for _, h := range d.Hosts() {
		if h.Host == name {
			return h
		}
	}
	return Host{}
}

func folderOf(about string) *estate.Bundle {
	return &estate.Bundle{Manifest: estate.Manifest{Expires: time.Now().Add(time.Hour), Plan: estate.Plan{Waves: []estate.Wave{{Rest: true}}}},
		Content: map[string][]byte{"gates/vault-copy.toml": fmt.Appendf(nil, "about = %q\nrun = [\"/bin/true\"]\n", about)}}
}

// TestTwoDesks: desks that publish at the same moment give no number twice: the one who comes
// second is told, numbers again, and the last that is released is what all have in the end.
func TestTwoDesks(t *testing.T) {
	t.Parallel()
	r := startBroker(t)
	k := &fakeKeeper{}
	run(t, r, "press-room", k, &memory{})
	known := &Known{}
	first := deskAt(t, r, known)
	wstest.Await(t, "the press room asks to be let in", func() bool { return hostAt(first, "press-room").Key != nil })
	if _, err := first.Accept("press-room"); err != nil {
		t.Fatal(err)
	}
	maren := []ed25519.PrivateKey{keyOf("maren")}
	const desks = 4
	var wait sync.WaitGroup
	var mu sync.Mutex
	released := map[int64]string{}
	overtaken := 0
	start := make(chan struct{})
	for i := range desks {
		d := deskAt(t, r, &Known{Hosts: known.Hosts})
		wait.Go(func() {
			<-start
			about := fmt.Sprint("by desk ", i)
			for {
				raw, err := d.Make(folderOf(about), time.Now(), maren)
				if err != nil {
					t.Error(err)
					return
				}
				release, err := d.Publish(t.Context(), raw, time.Now(), maren)
				if _, lost := errors.AsType[*OvertakenError](err); lost {
					mu.Lock()
					overtaken++
					mu.Unlock()
					continue
				}
				mu.Lock()
				if other := released[release.Number]; err != nil || other != "" {
					t.Errorf("bundle %d is %s's, and %s's: %v", release.Number, about, other, err)
				}
				released[release.Number] = about
				mu.Unlock()
				return
			}
		})
	}
	close(start)
	wait.Wait()
	last := int64(0)
	for n := range released {
		last = max(last, n)
	}
	t.Logf("%d numbers, %d times overtaken", len(released), overtaken)
	wstest.Await(t, "the press room to have the last one", func() bool {
		h := hostAt(first, "press-room")
		return h.Last != nil && h.Last.Bundle.Number == last && h.Last.Bundle.State == estate.Taken
	})
	if text := string(k.content()["gates/vault-copy.toml"]); len(released) != desks || !strings.Contains(text, released[last]) {
		t.Errorf("it has %q, and bundle %d is %s", text, last, released[last])
	}
	if !first.Released() {
		t.Error("the broker shows another bundle than the one that is released")
	}
	// Two that hold at once, and one that goes on: each has its order.
	for range 3 {
		wait.Go(func() {
			d := deskAt(t, r, &Known{Hosts: known.Hosts})
			if _, err := d.Hold(t.Context(), "the vault is being moved", time.Now(), maren); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	wstest.Await(t, "it is held", func() bool { _, release := first.Bundle(); return release.Held })
	if _, err := deskAt(t, r, &Known{Hosts: known.Hosts}).GoOn(t.Context(), "", time.Now(), maren); err != nil {
		t.Error(err)
	}
	wstest.Await(t, "it goes on", func() bool { _, release := first.Bundle(); return !release.Held })
}

// TestDeskRemembers: a desk knows its workstations also where the broker has forgotten them;
// one that was set up anew is let in with both fingerprints seen, one that is forgotten counts
// no more, and a report that was seen is not outdone by an older one.
func TestDeskRemembers(t *testing.T) {
	t.Parallel()
	r := startBroker(t)
	known := &Known{Hosts: map[string]ed25519.PublicKey{"press-room": publicOf("another"), "studio-laptop": publicOf("studio-laptop")}, Told: map[string]int64{"front-desk": 1 << 40}}
	d := deskAt(t, r, known)
	if h := hostAt(d, "studio-laptop"); !h.In || h.Last != nil {
		t.Errorf("one that the broker has forgotten: %+v", h)
	}
	run(t, r, "press-room", &fakeKeeper{}, &memory{})
	run(t, r, "front-desk", &fakeKeeper{}, &memory{})
	wstest.Await(t, "the press room asks with another key", func() bool { return hostAt(d, "press-room").Other != nil })
	wstest.Await(t, "what it says meanwhile is kept", func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.raw[hostTopic+"press-room"+reportOf] != nil
	})
	if h := hostAt(d, "press-room"); !strings.Contains(h.Wrong, "timegate estate accept press-room") {
		t.Errorf("what is wrong is told as %q", h.Wrong)
	}
	if h := hostAt(d, "press-room"); !h.In || !h.Key.Equal(publicOf("another")) || !h.Other.Equal(publicOf("press-room")) || h.Last != nil {
		t.Errorf("one that was set up anew: %+v", h)
	}
	if key, err := d.Accept("press-room"); err != nil || !key.Equal(publicOf("press-room")) || !known.Hosts["press-room"].Equal(publicOf("press-room")) {
		t.Fatalf("accepted with %v, %v", key, err)
	}
	wstest.Await(t, "its report is believed", func() bool { h := hostAt(d, "press-room"); return h.Last != nil && h.Wrong == "" })
	wstest.Await(t, "the front desk asks", func() bool { return hostAt(d, "front-desk").Key != nil })
	if _, err := d.Accept("front-desk"); err != nil {
		t.Fatal(err)
	}
	wstest.Await(t, "an older report is not believed", func() bool { return strings.Contains(hostAt(d, "front-desk").Wrong, "an older one is shown again") })
	if err := d.Forget("studio-laptop"); err != nil || hostAt(d, "studio-laptop").In {
		t.Error(err)
	}
	if err := d.Forget("nobody"); err == nil {
		t.Error("nobody is forgotten")
	}
	if _, in := known.Hosts["studio-laptop"]; in {
		t.Error("one that was forgotten is known")
	}
}

// TestFarAhead: an order or a number that would make every later one look old is not followed,
// and the next that comes in its turn is.
func TestFarAhead(t *testing.T) {
	t.Parallel()
	k, m := &fakeKeeper{}, &memory{}
	s := station("press-room", k, m, func(string, []byte, bool) {})
	seal := func(purpose estate.Purpose, what any) []byte {
		body, err := json.Marshal(what)
		if err != nil {
			t.Fatal(err)
		}
		raw, err := estate.Seal(purpose, body, keyOf("maren"))
		if err != nil {
			t.Fatal(err)
		}
		return raw
	}
	release := func(order int64) error {
		_, err := s.release(t.Context(), seal(estate.ForRelease, &estate.Release{Shop: "larkspur", Number: 7, Order: order, Reach: math.MaxUint64, Began: time.Now()}))
		return err
	}
	if err := release(math.MaxInt64); err == nil || s.state.Order != 0 {
		t.Errorf("the last of all orders is followed: %v, %d", err, s.state.Order)
	}
	if err := release(12); err != nil || s.state.Order != 12 {
		t.Errorf("%v, %d", err, s.state.Order)
	}
	b := folderOf("far ahead")
	b.Shop, b.Number, b.Made = "larkspur", math.MaxInt64, time.Now().UTC()
	body, err := b.Pack()
	if err != nil {
		t.Fatal(err)
	}
	raw, err := estate.Seal(estate.ForBundle, body, keyOf("maren"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.bundle(t.Context(), raw); err == nil || s.state.Waiting != nil {
		t.Errorf("the last of all numbers waits: %v", err)
	}
}

// TestGoBack: each workstation goes back to what it had before, whatever group it was given that
// for; one that does not have the bundle keeps what it has, one that knows no more what it had
// refuses, and there is no way back from a way back.
func TestGoBack(t *testing.T) {
	t.Parallel()
	maren := keyOf("maren")
	seal := func(number, back int64, about string) []byte {
		b := folderOf(about)
		b.Shop, b.Number, b.Made, b.Back = "larkspur", number, time.Now().UTC(), back
		if back != 0 {
			b.Content = nil
		}
		body, err := b.Pack()
		if err != nil {
			t.Fatal(err)
		}
		raw, err := estate.Seal(estate.ForBundle, body, maren)
		if err != nil {
			t.Fatal(err)
		}
		return raw
	}
	for _, tt := range []struct {
		name  string
		given []int64 // numbers of bundles; below 0, that one is refused
		lost  bool    // what is kept of the one before
		to    string  // what it has in the end
		state estate.BundleState
	}{
		{"two", []int64{1, 2}, false, "bundle 1", estate.Taken},
		{"one alone", []int64{2}, false, "", estate.Taken},
		{"other numbers", []int64{1, 3}, false, "bundle 3", estate.Taken},
		{"refused", []int64{1, -2}, false, "bundle 1", estate.Taken},
		{"three", []int64{1, 5, 7}, false, "bundle 5", estate.Taken},
		{"what it had is lost", []int64{1, 2}, true, "bundle 2", estate.Refused},
		{"none", nil, false, "", estate.Taken},
	} {
		k, m := &fakeKeeper{}, &memory{}
		s := station("press-room", k, m, func(string, []byte, bool) {})
		s.state.InForce = new(int64)
		last, order := int64(2), int64(0)
		give := func(number, back int64, about string) {
			t.Helper()
			order++
			if _, err := s.release(t.Context(), releaseOf(t, number, order, "maren")); err != nil {
				t.Fatal(err)
			}
			if _, err := s.bundle(t.Context(), seal(number, back, about)); err != nil {
				t.Fatal(err)
			}
		}
		for _, n := range tt.given {
			k.refuse = ""
			if n < 0 {
				k.refuse, n = "gates", -n
			}
			give(n, 0, fmt.Sprint("bundle ", n))
			k.refuse, last = "", max(last, n)
		}
		if tt.name == "other numbers" {
			last = 2 // taken back is one that it never had
		}
		if tt.lost {
			m.kept[keptBefore] = []byte("damaged")
		}
		give(9, last, "")
		text := string(k.content()["gates/vault-copy.toml"])
		if s.state.Bundle.State != tt.state || s.state.Bundle.Number != 9 || (tt.to == "") != (text == "") || !strings.Contains(text, tt.to) {
			t.Errorf("%s: %+v, with %q, want %q", tt.name, s.state.Bundle, text, tt.to)
		}
		if tt.to != "" && s.state.Bundle.State == estate.Taken {
			if sum := s.state.Files["vault-copy"]; sum != estate.TextSum([]byte(text)) {
				t.Errorf("%s: what is said to be in force is not", tt.name)
			}
		}
		if s.state.Prior != nil && tt.name == "two" {
			t.Errorf("%s: there is a way back from a way back, to %d", tt.name, *s.state.Prior)
		}
	}
}

// TestFor: whom a bundle is for is looked up, and a name or a group to which nobody belongs is not
// taken for one that somebody has; a group is not judged while somebody's are not known.
func TestFor(t *testing.T) {
	t.Parallel()
	in := func(name string, last *estate.Report, groups ...string) *Host {
		return &Host{Seen: estate.Seen{Host: name, Last: last}, In: true, Groups: groups}
	}
	told := &estate.Report{}
	all := []*Host{in("front-desk", told), in("press-room", told, "printing"), {Seen: estate.Seen{Host: "bench-1"}, Groups: []string{"asking"}}}
	for _, tt := range []struct {
		hosts         []*Host
		names, groups []string
		want          string
	}{
		{all, nil, nil, "[front-desk press-room]"},
		{all, []string{"press-*"}, nil, "[press-room]"},
		{all, nil, []string{"printing"}, "[press-room]"},
		{all, []string{"front-*"}, []string{"printing"}, "no workstation that was let in has one of these names"},
		{all, []string{"press-room", "perss-room"}, nil, `is called "perss-room"`},
		{all, []string{"bench-1"}, nil, `is called "bench-1"`},
		{all, nil, []string{"asking"}, `the group "asking"`},
		{append(all, in("studio-laptop", nil)), nil, []string{"binding"}, "[]"},
		{nil, nil, nil, "[]"},
		{nil, nil, []string{"printing"}, `the group "printing"`},
	} {
		d := &Desk{hosts: map[string]*Host{}}
		for _, h := range tt.hosts {
			d.hosts[h.Host] = h
		}
		names, err := d.For(&estate.Manifest{Hosts: tt.names, Groups: tt.groups})
		if got := fmt.Sprint(names, err); !strings.Contains(got, tt.want) {
			t.Errorf("%v, %v: %s, want %s", tt.names, tt.groups, got, tt.want)
		}
	}
}
