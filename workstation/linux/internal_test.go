//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"reflect"
	"strconv"
	"strings"
	"testing"
	"time"

	"timegate/core/coretest"
	"timegate/core/phrase"
	"timegate/workstation"
)

// TestPower reads supplies as the kernel lists them.
func TestPower(t *testing.T) {
	t.Parallel()
	type supply map[string]string
	battery := func(capacity, status string) supply {
		return supply{"type": "Battery", "capacity": capacity, "status": status, "present": "1"}
	}
	for name, tt := range map[string]struct {
		supplies map[string]supply
		want     power
	}{
		"no supplies":             {nil, power{}},
		"plugged in":              {map[string]supply{"AC": {"type": "Mains", "online": "1"}, "BAT0": battery("80", "Charging")}, power{charge: 80}},
		"unplugged":               {map[string]supply{"AC": {"type": "Mains", "online": "0"}, "BAT0": battery("31", "Discharging")}, power{battery: true, charge: 31}},
		"two batteries":           {map[string]supply{"AC": {"type": "Mains", "online": "0"}, "BAT0": battery("30", "Discharging"), "BAT1": battery("90", "Unknown")}, power{battery: true, charge: 60}},
		"by USB":                  {map[string]supply{"AC": {"type": "Mains", "online": "0"}, "ucsi": {"type": "USB", "online": "1"}, "BAT0": battery("50", "Charging")}, power{charge: 50}},
		"no line supply":          {map[string]supply{"BAT0": battery("50", "Discharging")}, power{battery: true, charge: 50}},
		"no line supply, full":    {map[string]supply{"BAT0": battery("100", "Full")}, power{charge: 100}},
		"a mouse's battery":       {map[string]supply{"mouse": {"type": "Battery", "capacity": "9", "status": "Discharging", "scope": "Device"}}, power{}},
		"a battery taken out":     {map[string]supply{"AC": {"type": "Mains", "online": "1"}, "BAT0": {"type": "Battery", "present": "0"}}, power{}},
		"a desktop with a supply": {map[string]supply{"AC": {"type": "Mains", "online": "0"}}, power{}},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			for s, files := range tt.supplies {
				if err := os.Mkdir(filepath.Join(dir, s), 0o755); err != nil {
					t.Fatal(err)
				}
				for f, text := range files {
					if err := os.WriteFile(filepath.Join(dir, s, f), []byte(text+"\n"), 0o644); err != nil {
						t.Fatal(err)
					}
				}
			}
			if got := readPower(dir); got != tt.want {
				t.Errorf("readPower = %+v, want %+v", got, tt.want)
			}
		})
	}
}

// TestPowerTold: only a change between mains and battery is an event.
func TestPowerTold(t *testing.T) {
	t.Parallel()
	b := workstation.NewBoard()
	t.Cleanup(b.Close)
	postPower(b, power{charge: 90}, true)
	var got []string
	for _, p := range []power{{charge: 90}, {battery: true, charge: 89}, {battery: true, charge: 70}, {charge: 71}} {
		before := b.Facts()
		postPower(b, p, false)
		if f := b.Facts(); f.OnBattery != p.battery || f.Charge != p.charge {
			t.Errorf("facts %+v, want %+v", f, p)
		}
		if reflect.DeepEqual(before, b.Facts()) {
			continue
		}
		n := <-b.Notices()
		for ; n.Facts.Charge != p.charge || n.Facts.OnBattery != p.battery; n = <-b.Notices() {
		}
		got = append(got, string(n.Event))
	}
	if want := []string{"battery", "", "mains"}; !reflect.DeepEqual(got, want) {
		t.Errorf("told %q, want %q", got, want)
	}
}

func TestUevent(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ev := parseUevent([]byte("add@/devices/usb1/1-2\x00ACTION=add\x00DEVPATH=/devices/usb1/1-2\x00DEVNAME=bus/usb/001/004\x00SUBSYSTEM=usb\x00"))
	if err := os.MkdirAll(filepath.Join(dir, "devices/usb1/1-2"), 0o755); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"product": "Label Printer 3", "manufacturer": "Larkspur"} {
		if err := os.WriteFile(filepath.Join(dir, "devices/usb1/1-2", name), []byte(text+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want := []string{"1-2", "bus/usb/001/004", "Label Printer 3", "Larkspur Label Printer 3"}
	if got := deviceNames(ev, dir); !reflect.DeepEqual(got, want) {
		t.Errorf("names %q, want %q", got, want)
	}
	if ev := parseUevent([]byte("libudev\x00rest")); ev != nil {
		t.Errorf("another program's message is taken for the kernel's: %v", ev)
	}
}

// TestClocks: a sleep and a clock that was set are told apart.
func TestClocks(t *testing.T) {
	t.Parallel()
	slept := 0
	a, err := newAlarm(func() { slept++ })
	if err != nil {
		t.Fatal(err)
	}
	defer a.close()
	if asleep := a.slumber(); asleep != 0 {
		t.Errorf("nothing happened: asleep for %v", asleep)
	}
	a.asleep -= 3 * time.Hour // as if it had slept since
	if asleep := a.slumber(); asleep < 3*time.Hour-slack {
		t.Errorf("slept: asleep for %v", asleep)
	}
	one, two := readClocks().read(), readClocks().read()
	if (one.Ahead()-two.Ahead()).Abs() > slack || two.Uptime < one.Uptime || time.Since(two.Now).Abs() > time.Second {
		t.Errorf("read twice, the clocks say %+v and %+v", one, two)
	}
	// The keeper is told of the sleep with the wake that follows it.
	a.mu.Lock()
	a.asleep -= time.Minute
	a.mu.Unlock()
	a.set(time.Now().Add(time.Millisecond))
	<-a.wakes
	if slept != 1 {
		t.Errorf("a sleep was told %d times", slept)
	}
}

// TestOverflow: what the kernel drops because it comes faster than it is read
// is found by looking.
func TestOverflow(t *testing.T) {
	t.Parallel()
	limit, err := os.ReadFile("/proc/sys/fs/inotify/max_queued_events")
	if err != nil {
		t.Fatal(err)
	}
	events, err := strconv.Atoi(strings.TrimSpace(string(limit)))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	b := workstation.NewBoard()
	t.Cleanup(b.Close)
	f, err := NewFiles(b)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	f.do(func() {
		f.setTrees([]workstation.Watch{{Key: "change", Event: phrase.EventSpec{Kind: phrase.Change, Paths: []string{dir}}}})
	})
	want := map[string]bool{}
	f.do(func() { // while nobody reads
		for i := range events/2 + 1000 { // made and closed: two events each
			p := filepath.Join(dir, strconv.Itoa(i))
			if err := os.WriteFile(p, []byte("x"), 0o600); err != nil {
				t.Error(err)
				return
			}
			want[p] = true
		}
	})
	overflows := 0
	late := time.After(coretest.Wait)
	for len(want) > 0 {
		select {
		case n := <-b.Notices():
			for _, p := range n.Files {
				delete(want, p)
			}
		case <-late:
			t.Fatalf("%d files were never told to have changed", len(want))
		}
	}
	f.do(func() { overflows = f.overflows })
	if overflows == 0 {
		t.Error("nothing was dropped: the test proves nothing")
	}
}

func TestMountTable(t *testing.T) {
	t.Parallel()
	for in, want := range map[string]string{`/media/vault`: "/media/vault", `/media/my\040vault\134x`: `/media/my vault\x`, `/a\04`: `/a\04`} {
		if got := unescape(in); got != want {
			t.Errorf("unescape(%q) = %q, want %q", in, got, want)
		}
	}
	came := missing(map[string]int{"/a": 2, "/b": 1}, map[string]int{"/a": 1, "/b": 1})
	if !reflect.DeepEqual(came, []string{"/a"}) {
		t.Errorf("mounted once more: %v", came)
	}
}
