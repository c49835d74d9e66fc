//go:build linux

package estate

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"timegate/core/estate"
)

// shelf is a broker on a staged clock: it keeps the latest of each topic, and shows it to those
// that come.
type shelf struct {
	t    *testing.T
	kept map[string][]byte
	on   map[string]chan Message

	mu   sync.Mutex // guards what follows
	seen map[string]*estate.Seen
	told map[string]int // reports
}

// show keeps a message for all, and shows it to those that are there.
func (s *shelf) show(topic string, raw []byte) {
	s.kept[topic] = raw
	for _, to := range s.on {
		to <- Message{Topic: topic, Payload: raw}
	}
	synctest.Wait()
}

// starts lets a workstation be on; it returns what switches it off.
func (s *shelf) starts(host string, k *fakeKeeper, m *memory) (off func()) {
	ctx, stop := context.WithCancel(s.t.Context())
	messages := make(chan Message)
	station := station(host, k, m, func(topic string, raw []byte, _ bool) {
		if !strings.HasSuffix(topic, reportOf) {
			return
		}
		body, _, err := estate.Unseal(estate.ForReport, raw, []ed25519.PublicKey{publicOf(host)}, 1)
		if err != nil {
			s.t.Error(err)
		}
		r, err := estate.DecodeReport(body, "larkspur", host)
		if err != nil {
			s.t.Error(err)
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.seen[host].Last, s.seen[host].Told = r, r.At
		s.told[host]++
	})
	station.Times = UsualTimes
	ended := make(chan error)
	go func() { ended <- station.Run(ctx, messages, nil) }()
	s.is(host, true)
	s.on[host] = messages
	messages <- Message{Up: true}
	for topic, raw := range s.kept {
		messages <- Message{Topic: topic, Payload: raw}
	}
	synctest.Wait()
	return func() {
		stop()
		s.is(host, false)
		delete(s.on, host)
		if err := <-ended; err != nil {
			s.t.Error(err)
		}
	}
}

// is notes whether a workstation is on.
func (s *shelf) is(host string, on bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.seen[host].On = on
}

// look returns what is seen of workstations, and the most that one has told.
func (s *shelf) look(names []string) (seen []estate.Seen, most int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, name := range names {
		seen, most = append(seen, *s.seen[name]), max(most, s.told[name])
	}
	return seen, most
}

// TestDayOff: a workstation that is off for a day stops no wave and is not silent; it takes the
// bundle when it is there again, and one that comes after the bundle has expired does not.
func TestDayOff(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		s := &shelf{t: t, kept: map[string][]byte{}, on: map[string]chan Message{}, seen: map[string]*estate.Seen{}, told: map[string]int{}}
		names := []string{"front-desk", "press-room", "studio-laptop", "bench"}
		keepers, stores := map[string]*fakeKeeper{}, map[string]*memory{}
		for _, name := range names {
			keepers[name], stores[name], s.seen[name] = &fakeKeeper{}, &memory{}, &estate.Seen{Host: name}
		}
		began := time.Now()
		var m estate.Manifest
		raw := bundleOf(t, 7, "maren", func(b *estate.Bundle) {
			b.Expires = began.Add(48 * time.Hour)
			b.Plan = estate.Plan{Waves: []estate.Wave{{Count: 2}, {Rest: true}}, After: 4 * time.Hour, Limits: []estate.Limit{{Of: estate.Failed}, {Of: estate.Broken}, {Of: estate.Silent}}}
			m = b.Manifest
		})
		release := &estate.Release{Shop: "larkspur", Number: 7, Order: 1, Reach: m.Reach(0, names), Began: began}
		sends := func() {
			body, err := json.Marshal(release)
			if err != nil {
				t.Fatal(err)
			}
			s.show(releaseTopic, sealed(t, estate.ForRelease, body, "maren"))
		}
		var first, later []string // with which wave they get it
		for _, name := range names {
			if release.Reaches(name) {
				first = append(first, name)
			} else {
				later = append(later, name)
			}
		}
		away, gone := first[1], later[1] // for a day, and for three
		stops := map[string]func(){}
		for _, name := range []string{first[0], later[0]} {
			stops[name] = s.starts(name, keepers[name], stores[name])
		}
		s.show(bundleTopic, raw)
		sends()
		judge := func(want estate.Step, what string) {
			t.Helper()
			seen, _ := s.look(names)
			if v := m.Judge(release, seen, time.Now()); v.Do != want {
				t.Errorf("after %v %s: %+v, want %s", time.Since(began), what, v, want)
			}
		}
		has := func(want string) {
			t.Helper()
			var got []string
			for _, name := range []string{first[0], away, later[0], gone} {
				got = append(got, keepers[name].has())
			}
			if is := strings.Join(got, ", "); is != want {
				t.Errorf("after %v they have %s, want %s", time.Since(began), is, want)
			}
		}
		time.Sleep(time.Hour)
		has("[7] 0, [] 0, [] 0, [] 0")
		judge(estate.Wait, "one of the first wave is off")
		time.Sleep(3*time.Hour + time.Minute)
		judge(estate.Next, "the first wave was good")
		release.Order, release.Wave, release.Reach, release.Began = 2, 1, m.Reach(1, names), time.Now()
		sends()
		time.Sleep(20 * time.Hour)
		has("[7] 0, [] 0, [7] 0, [] 0")
		judge(estate.Done, "two are off still")
		if _, most := s.look(names); most > 4 { // two a day, and when the bundle has come
			t.Errorf("one has told %d times on a day on which nothing happened", most)
		}
		stops[away] = s.starts(away, keepers[away], stores[away])
		time.Sleep(time.Minute)
		has("[7] 0, [7] 0, [7] 0, [] 0")
		judge(estate.Done, "one is there again")
		// What it was given while it was off it is not given again.
		stops[away]()
		stops[away] = s.starts(away, keepers[away], stores[away])
		time.Sleep(48 * time.Hour)
		has("[7] 0, [7] 0, [7] 0, [] 0")
		stops[gone] = s.starts(gone, keepers[gone], stores[gone])
		time.Sleep(time.Hour)
		has("[7] 0, [7] 0, [7] 0, [] 0")
		for _, stop := range stops {
			stop()
		}
	})
}
