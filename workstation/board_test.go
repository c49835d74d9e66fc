//go:build linux

package workstation_test

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/workstation"
	"timegate/workstation/wstest"
)

// take returns the next notice, or one that says that there is none.
func take(t *testing.T, b *workstation.Board) workstation.Notice {
	t.Helper()
	select {
	case n := <-b.Notices():
		return n
	case <-time.After(20 * time.Second):
		t.Fatal("waited in vain for a notice")
		return workstation.Notice{}
	}
}

// TestBoard: notices keep their order and what held when each was posted,
// whatever the keeper does meanwhile; what says no more than one that is still
// waiting becomes one with it.
func TestBoard(t *testing.T) {
	b := workstation.NewBoard()
	t.Cleanup(b.Close)
	charge := func(n int) func(*engine.Facts) { return func(f *engine.Facts) { f.Charge = n } }
	b.Post(workstation.Notice{Event: phrase.Lock}, nil) // taken out at once, so that the rest waits together
	b.Learn(charge(50))
	b.Learn(charge(49))
	b.Learn(charge(49)) // nothing new
	b.Post(workstation.Notice{Event: phrase.Battery}, func(f *engine.Facts) { f.OnBattery = true })
	for i := range 3 {
		b.Post(workstation.Notice{Event: phrase.Change, Name: "change in /srv/proofs", Count: 1, Files: []string{fmt.Sprint(i)}}, nil)
		b.Post(workstation.Notice{Event: phrase.Change, Name: "change in /srv/paper", Count: 2, Files: []string{"x"}}, nil)
	}
	b.Learn(charge(30))
	b.Post(workstation.Notice{Event: phrase.Unlock}, nil)
	b.Post(workstation.Notice{Event: phrase.Unlock}, nil) // twice is twice
	if got := b.Facts(); got.Charge != 30 || !got.OnBattery {
		t.Errorf("facts %+v", got)
	}
	var got []string
	for len(got) == 0 || !strings.HasPrefix(got[len(got)-1], "unlock") || got[len(got)-1] != got[max(0, len(got)-2)] {
		n := take(t, b)
		got = append(got, fmt.Sprintf("%s %s %d %v at %d %v", n.Event, strings.TrimPrefix(n.Name, "change in "), n.Count, n.Files, n.Facts.Charge, n.Facts.OnBattery))
	}
	want := []string{
		"lock  0 [] at 0 false",
		"  0 [] at 49 false",
		"battery  0 [] at 49 true",
		"change in /srv/proofs 3 [0 1 2] at 49 true",
		"change in /srv/paper 6 [x x x] at 49 true",
		"  0 [] at 30 true",
		"unlock  0 [] at 30 true",
		"unlock  0 [] at 30 true",
	}
	// The first of those that wait may have been taken out before it was
	// joined by the next.
	if len(got) == len(want)+1 && got[1] == "  0 [] at 50 false" {
		got = append(got[:1], got[2:]...)
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("told\n %s\nwant\n %s", strings.Join(got, "\n "), strings.Join(want, "\n "))
	}
}

// TestBoardKeepsFacts: a notice's facts are its own; what is changed later does
// not change it.
func TestBoardKeepsFacts(t *testing.T) {
	b := workstation.NewBoard()
	t.Cleanup(b.Close)
	person := func(names ...string) func(*engine.Facts) {
		return func(f *engine.Facts) {
			f.People = f.People[:0]
			for _, n := range names {
				f.People = append(f.People, engine.Person{Account: n})
			}
		}
	}
	b.Post(workstation.Notice{Event: phrase.Logon, Name: "maren"}, person("maren"))
	b.Post(workstation.Notice{Event: phrase.Logon, Name: "ines"}, person("ines", "maren"))
	b.Post(workstation.Notice{Event: phrase.Logoff, Name: "maren"}, person("ines"))
	for _, want := range []string{"maren", "ines maren", "ines"} {
		var names []string
		for _, p := range take(t, b).Facts.People {
			names = append(names, p.Account)
		}
		if got := strings.Join(names, " "); got != want {
			t.Errorf("logged on %q, want %q", got, want)
		}
	}
}

// TestWants: which watch an event of the machine is for.
func TestWants(t *testing.T) {
	w := wstest.Wants(t, `paths = ["/media/vault/", "/srv"]`, "device ttyUSB*", "device ttyUSB0, 3 times", "device \"Label Printer ?\"",
		"mount /media/vault/", "unmount /media/vault", "change in /srv/proofs quiet 5s", "first change in /srv/proofs of the day", "unlock")
	keys := func(list []workstation.Watch) string {
		var out []string
		for _, x := range list {
			out = append(out, x.Key)
		}
		return strings.Join(out, "; ")
	}
	for _, tt := range []struct{ what, got, want string }{
		{"a device of two names", keys(w.Attached("ttyUSB0", "Label Printer 3")), `device ttyUSB*; device ttyUSB0; device "Label Printer ?"`},
		{"another device", keys(w.Attached("ttyUSB1")), "device ttyUSB*"},
		{"a device of a longer name", keys(w.Attached("Label Printer 33", "xttyUSB0")), ""},
		{"a mount", keys(w.Mounted(phrase.Mount, "/media/vault")), "mount /media/vault/"},
		{"the end of a mount", keys(w.Mounted(phrase.Unmount, "/media/vault/")), "unmount /media/vault"},
		{"a mount below", keys(w.Mounted(phrase.Mount, "/media/vault/x")), ""},
		{"changes", keys(w.Of(phrase.Change)), "change in /srv/proofs"}, // one for both
		{"places", fmt.Sprint(w.Places), "[{/media/vault/  /media/vault} {/srv  /srv}]"},
	} {
		if tt.got != tt.want {
			t.Errorf("%s: %q, want %q", tt.what, tt.got, tt.want)
		}
	}
}
