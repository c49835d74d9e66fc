//go:build linux

package estate

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"timegate/core/estate"
	"timegate/workstation/wstest"
)

func keyOf(word string) ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed(fmt.Appendf(nil, "%-32s", word))
}

func publicOf(word string) ed25519.PublicKey { return keyOf(word).Public().(ed25519.PublicKey) }

// fakeKeeper is a keeper that does as it is told.
type fakeKeeper struct {
	mu      sync.Mutex // guards what follows
	inForce error
	refuse  string // a code
	dead    bool   // it does not come up
	busy    int    // so often it does not say how it does
	failed  int
	applied []int64
	last    map[string][]byte // the content that was applied last
	back    int
	asked   []string
}

func (k *fakeKeeper) Apply(b *estate.Bundle) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.refuse != "" {
		return &ApplyError{k.refuse, errors.New("it cannot be")}
	}
	k.applied, k.last = append(k.applied, b.Number), b.Content
	return nil
}

func (k *fakeKeeper) content() map[string][]byte {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.last
}

func (k *fakeKeeper) InForce(context.Context, map[string]string) error { return k.inForce }

func (k *fakeKeeper) Confirm(context.Context, map[string]string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.dead {
		return errors.New("no keeper answers")
	}
	return nil
}

func (k *fakeKeeper) Back(time.Time) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.back++
	return nil
}

func (k *fakeKeeper) Forecast(_ context.Context, b *estate.Bundle, f *estate.Forecast) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.refuse != "" {
		return errors.New("it cannot be")
	}
	f.Days = 7
	for range b.Content {
		f.Gates = append(f.Gates, estate.GateForecast{Gate: "vault-copy", Change: "added", New: 21})
	}
	return nil
}

func (k *fakeKeeper) Answer(_ context.Context, r *estate.Request, a *estate.Answer) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.refuse != "" {
		return errors.New("it cannot be")
	}
	k.asked = append(k.asked, string(r.Do)+" "+r.Of)
	a.Text = "52 %"
	return nil
}

func (k *fakeKeeper) Gates(context.Context) ([]string, int, error) { return nil, 0, nil }

func (k *fakeKeeper) Look(_ context.Context, r *estate.Report, _ time.Time, _ []string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.busy > 0 {
		k.busy--
		return errors.New("no keeper answers")
	}
	r.Gates, r.Failed, r.Worse = 8, k.failed, min(k.failed, 1)
	return nil
}

func (k *fakeKeeper) has() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return fmt.Sprint(k.applied, k.back)
}

// memory is a store that survives its station.
type memory struct {
	mu   sync.Mutex // guards what follows
	data []byte
	told []byte
	kept map[string][]byte
	full bool // the disk is
	// saved is called with what lies on the disk from then on.
	saved func(data []byte)
}

func (m *memory) Keep(name string, bundle []byte) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.kept == nil {
		m.kept = map[string][]byte{}
	}
	m.kept[name] = bundle
	return nil
}

func (m *memory) Kept(name string) ([]byte, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.kept[name], nil
}

func (m *memory) Load(s *State) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.data == nil {
		return nil
	}
	return json.Unmarshal(m.data, s)
}

func (m *memory) Save(s *State) (err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.full {
		return errors.New("no space left on device")
	}
	if m.data, err = json.Marshal(s); m.saved != nil {
		m.saved(m.data)
	}
	return err
}

func (m *memory) Told(report []byte) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.told = report
	return nil
}

func station(host string, k *fakeKeeper, m *memory, publish func(string, []byte, bool)) *Station {
	return &Station{Shop: "larkspur", Host: host, Version: "1", Trust: []ed25519.PublicKey{publicOf("maren")}, Key: keyOf(host), Keeper: k, Store: m, Publish: publish,
		Log: slog.New(slog.DiscardHandler), Times: Times{Gather: 10 * time.Millisecond, Pause: 10 * time.Millisecond, Beat: time.Hour, Answer: time.Second}}
}

// bundleOf is a bundle, sealed.
func bundleOf(t testing.TB, number int64, key string, change func(b *estate.Bundle)) []byte {
	t.Helper()
	b := &estate.Bundle{Manifest: estate.Manifest{Shop: "larkspur", Number: number, Made: time.Now(), Expires: time.Now().Add(time.Hour), Plan: estate.Plan{Waves: []estate.Wave{{Rest: true}}}},
		Content: map[string][]byte{"gates/vault-copy.toml": []byte("run = [\"/bin/true\"]\n")}}
	change(b)
	body, err := b.Pack()
	if err != nil {
		t.Fatal(err)
	}
	return sealed(t, estate.ForBundle, body, key)
}

func sealed(t testing.TB, purpose estate.Purpose, body []byte, key string) []byte {
	t.Helper()
	raw, err := estate.Seal(purpose, body, keyOf(key))
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

func releaseOf(t testing.TB, number, order int64, key string) []byte {
	t.Helper()
	body, err := json.Marshal(&estate.Release{Shop: "larkspur", Number: number, Order: order, Reach: ^uint64(0), Began: time.Now()})
	if err != nil {
		t.Fatal(err)
	}
	return sealed(t, estate.ForRelease, body, key)
}

// TestAttacks: what a hostile broker, or somebody with a stolen password, shows a workstation
// is not taken; what the shop's key has signed is, once.
func TestAttacks(t *testing.T) {
	t.Parallel()
	same := func(*estate.Bundle) {}
	good, release := bundleOf(t, 7, "maren", same), releaseOf(t, 7, 3, "maren")
	type shown struct {
		topic string
		raw   []byte
	}
	for _, tt := range []struct {
		name  string
		shown []shown
		want  string // numbers that were applied, and how often was gone back
		fault bool   // something is said of it
	}{
		{"as it should be", []shown{{bundleTopic, good}, {releaseTopic, release}}, "[7] 0", false},
		{"the release first", []shown{{releaseTopic, release}, {bundleTopic, good}}, "[7] 0", false},
		{"not released", []shown{{bundleTopic, good}}, "[] 0", false},
		{"released is another", []shown{{bundleTopic, good}, {releaseTopic, releaseOf(t, 6, 3, "maren")}}, "[] 0", false},
		{"shown again", []shown{{bundleTopic, good}, {releaseTopic, release}, {bundleTopic, good}, {releaseTopic, release}}, "[7] 0", false},
		{"an old one again", []shown{{bundleTopic, good}, {releaseTopic, release}, {bundleTopic, bundleOf(t, 6, "maren", same)}, {releaseTopic, releaseOf(t, 6, 4, "maren")}}, "[7] 0", false},
		{"an old one while one waits", []shown{{bundleTopic, good}, {bundleTopic, bundleOf(t, 6, "maren", same)}, {releaseTopic, release}}, "[7] 0", true},
		{"an old release again", []shown{{bundleTopic, good}, {releaseTopic, releaseOf(t, 6, 5, "maren")}, {releaseTopic, release}}, "[] 0", false},
		{"forged", []shown{{bundleTopic, bundleOf(t, 8, "stranger", same)}, {releaseTopic, releaseOf(t, 8, 3, "stranger")}}, "[] 0", true},
		{"a forged release", []shown{{bundleTopic, good}, {releaseTopic, releaseOf(t, 7, 3, "stranger")}}, "[] 0", true},
		{"another shop's", []shown{{bundleTopic, bundleOf(t, 7, "maren", func(b *estate.Bundle) { b.Shop = "foxglove" })}, {releaseTopic, release}}, "[] 0", true},
		{"for others", []shown{{bundleTopic, bundleOf(t, 7, "maren", func(b *estate.Bundle) { b.Hosts = []string{"front-*"} })}, {releaseTopic, release}}, "[] 0", false},
		{"expired", []shown{{bundleTopic, bundleOf(t, 7, "maren", func(b *estate.Bundle) {
			b.Made, b.Expires = time.Now().Add(-2*time.Hour), time.Now().Add(-time.Hour)
		})}, {releaseTopic, release}}, "[] 0", true},
		{"a release as a bundle", []shown{{bundleTopic, release}, {releaseTopic, good}}, "[] 0", true},
		{"cut", []shown{{bundleTopic, good[:len(good)-1]}, {releaseTopic, release}}, "[] 0", true},
		{"bent", []shown{{bundleTopic, append(bytes.Clone(good[:len(good)-1]), good[len(good)-1]^1)}, {releaseTopic, release}}, "[] 0", true},
		{"empty", []shown{{bundleTopic, nil}, {releaseTopic, nil}}, "[] 0", true},
		{"signed, and no bundle", []shown{{bundleTopic, sealed(t, estate.ForBundle, []byte("x"), "maren")}, {releaseTopic, sealed(t, estate.ForRelease, []byte("x"), "maren")}}, "[] 0", true},
		{"another topic", []shown{{"other", good}}, "[] 0", true},
	} {
		k := &fakeKeeper{}
		s := station("press-room", k, &memory{}, func(string, []byte, bool) {})
		fault := false
		for _, m := range tt.shown {
			_, err := s.message(t.Context(), Message{Topic: m.topic, Payload: m.raw})
			fault = fault || err != nil
		}
		if k.has() != tt.want || fault != tt.fault {
			t.Errorf("%s: %s and fault %v, want %s and %v", tt.name, k.has(), fault, tt.want, tt.fault)
		}
	}
}

// TestTwoKeys: where two must have signed, one alone gets nothing taken or done, and lets a wave
// begin of what both have signed.
func TestTwoKeys(t *testing.T) {
	t.Parallel()
	one := bundleOf(t, 7, "maren", func(*estate.Bundle) {})
	both, err := estate.SignToo(estate.ForBundle, one, keyOf("ines"))
	if err != nil {
		t.Fatal(err)
	}
	k := &fakeKeeper{}
	s := station("press-room", k, &memory{}, func(string, []byte, bool) {})
	s.Trust, s.Need, s.May, s.asks = append(s.Trust, publicOf("ines")), 2, []string{"open"}, make(chan *ask, 1)
	for _, step := range []struct {
		topic string
		raw   []byte
		want  string
	}{{bundleTopic, one, "[] 0"}, {releaseTopic, releaseOf(t, 7, 3, "ines"), "[] 0"}, {bundleTopic, both, "[7] 0"}} {
		_, err := s.message(t.Context(), Message{Topic: step.topic, Payload: step.raw})
		if k.has() != step.want {
			t.Errorf("after %s: %s, want %s (%v)", step.topic, k.has(), step.want, err)
		}
	}
	_, raw, _ := asks(t, "maren", func(*estate.Request) {})
	if err := s.request(raw); err == nil || len(s.asks) > 0 {
		t.Errorf("a request that one has signed: %v", err)
	}
}

// TestKilledWhileTaking: whenever a workstation dies while it takes a bundle, the next keeper
// has the bundle's gates in force, or tells that it has not taken it.
func TestKilledWhileTaking(t *testing.T) {
	t.Parallel()
	good, release := bundleOf(t, 7, "maren", func(*estate.Bundle) {}), releaseOf(t, 7, 3, "maren")
	var disk [][]byte // what lay on it after each time that the state was saved
	m := &memory{saved: func(data []byte) { disk = append(disk, bytes.Clone(data)) }}
	s := station("press-room", &fakeKeeper{}, m, func(string, []byte, bool) {})
	for _, message := range []Message{{Topic: bundleTopic, Payload: good}, {Topic: releaseTopic, Payload: release}} {
		if _, err := s.message(t.Context(), message); err != nil {
			t.Fatal(err)
		}
	}
	if len(disk) < 4 {
		t.Fatalf("the state was saved %d times", len(disk))
	}
	for i, data := range disk {
		k, m := &fakeKeeper{}, &memory{data: data} // whose gates are the old ones
		s := station("press-room", k, m, func(string, []byte, bool) {})
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan error, 1)
		messages := make(chan Message, 2)
		messages <- Message{Topic: bundleTopic, Payload: good} // the broker has kept both
		messages <- Message{Topic: releaseTopic, Payload: release}
		go func() { done <- s.Run(ctx, messages, nil) }()
		state := func() (out State) {
			if err := m.Load(&out); err != nil {
				t.Error(err)
			}
			return out
		}
		settled := func() bool { st := state(); return st.Bundle.State == estate.Taken }
		wstest.Await(t, "the bundle to be settled", settled)
		cancel()
		<-done
		if last := i == len(disk)-1; !last && k.has() != "[7] 0" || last && k.has() != "[] 0" {
			t.Errorf("killed after it was saved for the %d. time: it says %s, and has applied %s", i+1, state().Bundle.State, k.has())
		}
	}
}

// TestChanged: a bundle is told as changed where a gate of it is not in force any more, and
// not where nobody knows.
func TestChanged(t *testing.T) {
	t.Parallel()
	for _, tt := range []struct {
		inForce error
		want    estate.BundleState // "" for no report
	}{{nil, estate.Taken}, {&DiffersError{"vault-copy", "its file is gone"}, estate.Changed}, {errors.New("no keeper answers"), ""}} {
		m := &memory{}
		s := station("press-room", &fakeKeeper{inForce: tt.inForce}, m, func(string, []byte, bool) {})
		s.state.Bundle = estate.BundleReport{Number: 7, State: estate.Taken}
		err := s.report(t.Context())
		var told estate.Report
		if len(m.told) > 0 {
			if err := json.Unmarshal(m.told, &told); err != nil {
				t.Fatal(err)
			}
		}
		if told.Bundle.State != tt.want || (err != nil) != (tt.want == "") {
			t.Errorf("%v: told %q, %v", tt.inForce, told.Bundle.State, err)
		}
	}
}

// TestTaken: what becomes of a bundle, over deaths of the keeper and full disks.
func TestTaken(t *testing.T) {
	t.Parallel()
	good, release := bundleOf(t, 7, "maren", func(*estate.Bundle) {}), releaseOf(t, 7, 3, "maren")
	show := func(s *Station) {
		for _, m := range []Message{{Topic: bundleTopic, Payload: good}, {Topic: releaseTopic, Payload: release}} {
			s.message(t.Context(), m) // what is wrong, the state says
		}
	}
	quiet := func(string, []byte, bool) {}
	k, m := &fakeKeeper{refuse: "path-hazard"}, &memory{}
	s := station("press-room", k, m, quiet)
	if show(s); s.state.Bundle.State != estate.Refused || s.state.Bundle.Code != "path-hazard" || s.state.Number != 7 || k.has() != "[] 0" {
		t.Errorf("refused: %+v, %s", s.state, k.has())
	}
	k, m = &fakeKeeper{dead: true}, &memory{}
	s = station("press-room", k, m, quiet)
	if show(s); s.state.Bundle.State != estate.Back || k.has() != "[7] 1" {
		t.Errorf("a keeper that does not come up: %+v, %s", s.state, k.has())
	}
	if show(s); k.has() != "[7] 1" {
		t.Errorf("it is taken again: %s", k.has())
	}
	k, m = &fakeKeeper{}, &memory{full: true}
	s = station("press-room", k, m, quiet)
	if show(s); k.has() != "[] 0" {
		t.Errorf("on a full disk it is taken, and could be again: %s", k.has())
	}
	m.full = false
	if s = station("press-room", k, m, quiet); s.Store.Load(&s.state) != nil {
		t.Fatal("nothing can be loaded")
	}
	if show(s); k.has() != "[7] 0" || s.state.Bundle.State != estate.Taken {
		t.Errorf("once there is room: %s, %+v", k.has(), s.state)
	}
	// The keeper dies with the bundle, each time that it begins.
	k, m = &fakeKeeper{dead: true}, &memory{}
	if err := m.Save(&State{Number: 7, Trial: mostTrials, Bundle: estate.BundleReport{Number: 7, At: new(time.Now())}}); err != nil {
		t.Fatal(err)
	}
	s = station("press-room", k, m, quiet)
	if err := s.Store.Load(&s.state); err != nil {
		t.Fatal(err)
	}
	if s.tryAgain(t.Context()); k.has() != "[] 1" || s.state.Bundle.State != estate.Back || s.state.Trial != 0 {
		t.Errorf("a keeper that dies again and again: %s, %+v", k.has(), s.state)
	}
}

// TestTelling: a report comes soon after the connection and after a first failure, later ones
// not before a pause, one by one where nothing happens; what cannot be told is tried again.
func TestTelling(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		k := &fakeKeeper{busy: 1}
		began := time.Now()
		var told []time.Duration
		s := station("press-room", k, &memory{}, func(topic string, _ []byte, _ bool) {
			if strings.HasSuffix(topic, reportOf) {
				told = append(told, time.Since(began))
			}
		})
		s.Times = UsualTimes
		ctx, stop := context.WithCancel(t.Context())
		messages, changed := make(chan Message), make(chan struct{})
		ended := make(chan error)
		go func() { ended <- s.Run(ctx, messages, changed) }()
		at := func(after time.Duration, do func()) {
			time.Sleep(after - time.Since(began))
			do()
		}
		fail := func() {
			k.mu.Lock()
			k.failed++
			k.mu.Unlock()
			changed <- struct{}{}
		}
		at(time.Minute, func() { messages <- Message{Up: true} })
		at(time.Hour, fail)
		at(time.Hour+20*time.Second, fail)
		at(time.Hour+30*time.Second, fail)
		at(20*time.Hour, func() {})
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
		// At first no keeper answers; it is tried again, as the connection comes.
		want := []time.Duration{63 * time.Second, time.Hour + 3*time.Second, time.Hour + 5*time.Minute + 3*time.Second, 13*time.Hour + 5*time.Minute + 3*time.Second}
		if !slices.Equal(told, want) {
			t.Errorf("told at %v, want %v", told, want)
		}
	})
}
