//go:build linux

package estate

import (
	"crypto/ed25519"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"timegate/core/estate"
	"timegate/core/gate"
	"timegate/home"
)

// TestKeep: what several commands at one desk learn at the same time is all kept, also what
// one has learned that began before the others.
func TestKeep(t *testing.T) {
	t.Parallel()
	files := Files{home.At(t.TempDir(), gate.User)}
	if err := files.Home.Prepare(); err != nil {
		t.Fatal(err)
	}
	open := func() *Desk {
		known, err := files.Known()
		if err != nil {
			t.Fatal(err)
		}
		return &Desk{known: known, checked: map[string]estate.Checked{}}
	}
	watching := open()
	watching.checked["press-room"] = estate.Checked{7}
	const many = 8
	var all sync.WaitGroup
	for i := range many {
		d := open()
		all.Go(func() {
			d.learn(func(k *Known) {
				if k.Hosts == nil {
					k.Hosts = map[string]ed25519.PublicKey{}
				}
				k.Hosts[fmt.Sprint("desk-", i)] = publicOf("press-room")
			})
			d.next(&estate.Bundle{Manifest: estate.Manifest{Number: int64(10 * i)}})
			d.order(&estate.Release{Order: int64(20 * i)})
			if err := d.Keep(files); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if err := watching.Keep(files); err != nil {
		t.Fatal(err)
	}
	k, err := files.Known()
	if err != nil || len(k.Hosts) != many || k.Number != 10*(many-1)+1 || k.Order != 20*(many-1)+1 || k.Checked["press-room"][0] != 7 {
		t.Errorf("%+v, %v", k, err)
	}
	// Where nothing can be written, what only saves time is given up, and nothing else.
	if err := os.RemoveAll(files.Home.State); err != nil {
		t.Fatal(err)
	}
	d := &Desk{known: k, checked: map[string]estate.Checked{"press-room": {8}}}
	if err := d.Keep(files); err != nil {
		t.Errorf("what only saves time: %v", err)
	}
	if d.next(nil); d.Keep(files) == nil {
		t.Error("a number that was given is forgotten, and nobody is told")
	}
	if len(watching.learned)+len(watching.checked) != 0 {
		t.Error("what is kept waits to be kept")
	}
}

// TestStrangers: those that nobody has let in make a desk keep a bounded amount, and nothing that
// they say is shown.
func TestStrangers(t *testing.T) {
	t.Parallel()
	d := &Desk{shop: "larkspur", known: &Known{}, raw: map[string][]byte{}, hosts: map[string]*Host{}}
	large := make([]byte, 4<<20)
	for i := range 100 {
		if one := d.note(Message{Topic: fmt.Sprintf("host/desk-%d/report", i), Payload: large}); one != nil {
			t.Fatal("what a stranger says is looked at")
		}
	}
	if d.rawSize > mostRaw || d.rawSize != len(d.raw)*len(large) {
		t.Errorf("%d bytes are kept, of %d", d.rawSize, len(d.raw))
	}
	for range 100 { // the same topic again takes no more room
		d.note(Message{Topic: "host/desk-0/report", Payload: large[:1000]})
	}
	if d.rawSize > mostRaw || len(d.raw["host/desk-0/report"]) != 1000 {
		t.Errorf("%d bytes are kept, and %d of the first", d.rawSize, len(d.raw["host/desk-0/report"]))
	}
	for _, h := range d.Hosts() {
		if h.In || h.Last != nil {
			t.Errorf("%+v", h)
		}
	}
}

// TestDamaged: where what a desk knows is damaged in any way, or gone, it knows what it knew before
// the last change, and says so; nothing is thrown away.
func TestDamaged(t *testing.T) {
	t.Parallel()
	for name, damage := range map[string]func(path string, sound []byte) error{
		"empty":   func(path string, _ []byte) error { return os.WriteFile(path, nil, 0o600) },
		"cut":     func(path string, sound []byte) error { return os.WriteFile(path, sound[:len(sound)/2], 0o600) },
		"zeros":   func(path string, sound []byte) error { return os.WriteFile(path, make([]byte, len(sound)), 0o600) },
		"gone":    func(path string, _ []byte) error { return os.Remove(path) },
		"garbled": func(path string, sound []byte) error { return os.WriteFile(path, append([]byte("x"), sound...), 0o600) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			files := Files{home.At(t.TempDir(), gate.User)}
			accept := func(host string) {
				t.Helper()
				if err := files.learn(func(k *Known) {
					if k.Hosts == nil {
						k.Hosts = map[string]ed25519.PublicKey{}
					}
					k.Hosts[host] = publicOf(host)
				}); err != nil {
					t.Fatal(err)
				}
			}
			accept("front-desk")
			accept("press-room")
			accept("studio-laptop")
			if k, err := files.Known(); err != nil || len(k.Hosts) != 3 || k.Lost != "" {
				t.Fatalf("%+v, %v", k, err)
			}
			path := filepath.Join(folder(files.Home), knownFile)
			sound, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			// Written as another program would that replaces it: the older copy is a link to the file before it.
			if err := os.Remove(path); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, sound, 0o600); err != nil {
				t.Fatal(err)
			}
			if err := damage(path, sound); err != nil {
				t.Fatal(err)
			}
			damaged, _ := os.ReadFile(path)
			for range 2 { // reading it changes nothing
				if k, err := files.Known(); err != nil || len(k.Hosts) != 2 || k.Lost == "" {
					t.Fatalf("%+v, %v", k, err)
				}
			}
			accept("bench-1")
			if k, err := files.Known(); err != nil || len(k.Hosts) != 3 || k.Lost != "" || k.Hosts["bench-1"] == nil {
				t.Errorf("%+v, %v", k, err)
			}
			if aside, err := os.ReadFile(filepath.Join(folder(files.Home), damagedFile)); name != "gone" && (err != nil || string(aside) != string(damaged)) {
				t.Errorf("what was damaged is %q, %v", aside, err)
			}
			if before, err := os.ReadFile(filepath.Join(folder(files.Home), beforeFile)); err != nil || len(before) == 0 {
				t.Errorf("there is no older copy any more: %v", err)
			}
		})
	}
}

// TestSettings: settings come back as they were written, and what is wrong with them is said with
// its place.
func TestSettings(t *testing.T) {
	t.Parallel()
	h := home.At(t.TempDir(), gate.User)
	key, err := KeyText(publicOf("maren"))
	if err != nil {
		t.Fatal(err)
	}
	s := Settings{Broker: "mqtts://hub.larkspur.example", Shop: "larkspur", Name: "press-room.maren", Groups: []string{"printing"}, Trust: []string{key}, Need: 1, May: []string{"open", "output"}}
	if err := s.Write(h); err != nil {
		t.Fatal(err)
	}
	got, err := ReadSettings(h)
	if err != nil || got.Broker != s.Broker || !slices.Equal(got.May, s.May) || !slices.Equal(got.Groups, s.Groups) || got.Desk {
		t.Errorf("%+v, %v", got, err)
	}
	if b, err := got.BrokerOf("press-room"); err != nil || b.Host != "press-room.maren" || b.Topics[3] != "host/press-room.maren/request" || (&Settings{}).NameOn("press-room") != "press-room" {
		t.Errorf("%+v, %v", b, err)
	}
	for _, tt := range []struct{ from, to, want string }{
		{"['open', 'output']", "['open', 'erase']", `"erase" cannot be asked for: open, stop, pause, send, output, details`},
		{"['printing']", "['Printing']", "estate.toml: \"Printing\" is no name of a group"}, {"press-room.maren", "press room", `estate.toml: "press room" is no name of a workstation`}, {"need = 1", "need = 2", "2 keys must have signed"}, {key, "x", "is no key"},
		{"shop = ", "shopp = ", `estate.toml:3:1: there is no key "shopp"`}, {"need = 1", "need = one", "estate.toml:"},
	} {
		text, err := home.ReadPlain(File(h), mostFile)
		if err != nil || !strings.Contains(string(text), tt.from) {
			t.Fatalf("%v: %q is not in\n%s", err, tt.from, text)
		}
		if err := home.Replace(File(h), []byte(strings.Replace(string(text), tt.from, tt.to, 1)), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := ReadSettings(h); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", tt.to, err, tt.want)
		}
		if err := home.Replace(File(h), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
}
