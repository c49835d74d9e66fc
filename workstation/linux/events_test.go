//go:build linux

package linux_test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/xproto"
	"github.com/jezek/xgb/xtest"

	"timegate/core/engine"
	"timegate/workstation/linux"
	"timegate/workstation/wstest"
)

// TestNetwork brings a default route up and down, in a network of its own.
func TestNetwork(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNET) {
		return
	}
	ip := wstest.Need(t, "ip", "iproute2")
	m := machine(t)
	<-m.Watch(wantsOf(t, "online", "offline"))
	got := wstest.Hear(t, m)
	if m.Facts().Online {
		t.Error("a network without a route counts as online")
	}
	wstest.Do(t, ip, "tuntap", "add", "dev", "press0", "mode", "tap")
	wstest.Do(t, ip, "link", "set", "press0", "up")
	wstest.Do(t, ip, "addr", "add", "192.0.2.2/24", "dev", "press0")
	wstest.Do(t, ip, "route", "add", "default", "via", "192.0.2.1")
	if n := got("online"); !n.Facts.Online {
		t.Error("online, and the facts do not say so")
	}
	second := machine(t)
	if <-second.Watch(wantsOf(t, "offline")); !second.Facts().Online {
		t.Error("a route that is there already is not known")
	}
	wstest.Do(t, ip, "route", "del", "default")
	got("offline")
	wstest.Do(t, ip, "-6", "route", "add", "default", "dev", "press0")
	got("online")
	wstest.Do(t, ip, "link", "del", "press0")
	got("offline")
}

// TestDevice lets a device of the kernel's come; one that goes is none.
func TestDevice(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNET) {
		return
	}
	ip := wstest.Need(t, "ip", "iproute2")
	m := machine(t)
	<-m.Watch(wantsOf(t, "device label*", "device press?"))
	got := wstest.Hear(t, m)
	wstest.Do(t, ip, "tuntap", "add", "dev", "glue0", "mode", "tap")
	wstest.Do(t, ip, "link", "del", "glue0")
	wstest.Do(t, ip, "tuntap", "add", "dev", "press7", "mode", "tap")
	if n := got("device press?"); n.Subject != "press7" {
		t.Errorf("the device is %q", n.Subject)
	}
	wstest.Do(t, ip, "link", "del", "press7")
	wstest.Do(t, ip, "tuntap", "add", "dev", "labeler0", "mode", "tap")
	got("device label*")
}

// TestLow: limits that are surely crossed are told of once.
func TestLow(t *testing.T) {
	t.Parallel()
	m := machine(t)
	<-m.Watch(wantsOf(t, "low memory 1000TB", "low disk / 1B"))
	got := wstest.Hear(t, m)
	got("low memory 1000TB")
	<-m.Watch(wantsOf(t, "low memory 1000TB", "low disk /tmp 1000TB"))
	if n := got("low disk /tmp 1000TB"); n.Subject != "/tmp" {
		t.Errorf("subject %q", n.Subject)
	}
	for _, name := range []string{"memory", "disk:/"} {
		if free, err := linux.Reading(name); err != nil || free <= 0 {
			t.Errorf("reading %s: %d, %v", name, free, err)
		}
	}
	if _, err := linux.Reading("disk:/nowhere"); err == nil {
		t.Error("a disk that is not there can be read")
	}
	m.Attend(engine.Attention{Pressure: true})
	defer m.Attend(engine.Attention{})
	if p := m.Facts().Pressure; p < 0 || p > 100 {
		t.Errorf("pressure %d", p)
	}
}

// TestIdle: the X server's word on when it was last touched.
func TestIdle(t *testing.T) {
	if !wstest.Alone(t, 0) {
		return
	}
	wstest.Display(t)
	conn, err := xgb.NewConn()
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if err := xtest.Init(conn); err != nil {
		t.Fatal(err)
	}
	var before, after time.Time // of the last touch
	touch := func() {
		const motion = 6
		before = time.Now()
		root := xproto.Setup(conn).DefaultScreen(conn).Root
		if err := xtest.FakeInputChecked(conn, motion, 0, 0, root, int16(time.Now().UnixMilli()%400), 7, 0).Check(); err != nil {
			t.Fatal(err)
		}
		after = time.Now()
	}
	touch()
	m := machine(t)
	<-m.Watch(wantsOf(t, "idle 400ms"))
	wstest.Await(t, "no trouble", func() bool { return len(m.Troubles()) == 0 })
	for range 2 {
		wstest.Await(t, "idleness", func() bool { return m.Facts().IdleSince != 0 })
		since := m.Facts().IdleSince.Time()
		const slack = 100 * time.Millisecond // of one clock against another
		if since.Before(before.Add(-slack)) || since.After(after.Add(slack)) || time.Since(since) < 400*time.Millisecond {
			t.Errorf("idle since %v, last touched between %v and %v", since, before, after)
		}
		touch()
		wstest.Await(t, "a touch", func() bool { return m.Facts().IdleSince == 0 })
	}
	// One that has been idle for longer when it is first asked.
	time.Sleep(450 * time.Millisecond)
	second := machine(t)
	<-second.Watch(wantsOf(t, "idle 300ms"))
	wstest.Await(t, "idleness from the beginning", func() bool { return second.Facts().IdleSince != 0 })
}

func TestAlarm(t *testing.T) {
	t.Parallel()
	m := machine(t)
	at := time.Now().Add(time.Hour)
	err := m.SetAlarm(at)
	if clocks, globErr := filepath.Glob("/sys/class/rtc/rtc*/wakealarm"); globErr == nil && len(clocks) == 0 {
		if err == nil || !strings.Contains(err.Error(), "no real-time clock") {
			t.Errorf("without a clock that could: %v", err)
		}
	} else if err != nil && os.Getuid() == 0 {
		t.Errorf("SetAlarm: %v", err)
	}
	if err := m.SetAlarm(time.Time{}); err != nil {
		t.Errorf("no alarm: %v", err)
	}
}
