package engine_test

import (
	"fmt"
	"testing"
	"time"

	"timegate/core/calendar"
	. "timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
)

// TestWantsOf: a keeper is told of what its gates depend on, and of no more.
func TestWantsOf(t *testing.T) {
	for _, tt := range []struct {
		text string
		want string // what is wanted beside the default
	}{
		{`opens = ["at 09:00", "boot", "signal x", "end of y"]`, ""},
		{`opens = ["logon of maren"]`, "people"},
		{`opens = ["unlock"]`, "people"},
		{`opens = ["mains"]`, "power"},
		{`opens = ["offline"]`, "online"},
		{`opens = ["resume"]`, "sleep"},
		{`opens = ["sleep"]`, "sleep before-sleep"},
		{`opens = ["shutdown"]`, "before-shutdown"},
		{`opens = ["idle 10m", "idle 5m"]`, "idle=5m0s"},
		{`opens = ["active"]`, "idle=1m0s"},
		{`opens = ["low memory 1GB"]`, "watch=low memory 1GB"},
		{`opens = [{ name = "off", when = "unlock", enabled = false }]`, ""},
		{"opens = [\"unlock\"]\nenabled = false", ""},
		{"opens = [\"unlock\"]\n[only]\nhosts = [\"front-*\"]", ""},
		{"opens = [\"at 09:00\"]\n[needs]\npower = \"mains\"\npeople = \"someone\"\nonline = true\nidle = \"3m\"\npaths = [\"/srv\"]", "power people online idle=3m0s path=/srv"},
	} {
		g, found := gate.Read("x", "x.toml", []byte("run = [\"/bin/true\"]\n"+tt.text+"\n"), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: calendar.UTC}})
		if g == nil {
			t.Fatal(found)
		}
		if got := describeWants(WantsOf([]*gate.Gate{g, g}, "studio-laptop")); got != tt.want {
			t.Errorf("%s: wants %q, want %q", tt.text, got, tt.want)
		}
	}
}

func describeWants(w Wants) string {
	s := ""
	add := func(wanted bool, word string) {
		if wanted && s != "" {
			s += " "
		}
		if wanted {
			s += word
		}
	}
	add(w.Power, "power")
	add(w.People, "people")
	add(w.Online, "online")
	add(w.Sleep, "sleep")
	add(w.Before.Sleep, "before-sleep")
	add(w.Before.Shutdown, "before-shutdown")
	add(w.Idle > 0, fmt.Sprintf("idle=%v", w.Idle.Round(time.Second)))
	for _, o := range w.Watch {
		add(true, "watch="+o.Key())
	}
	for _, p := range w.Paths {
		add(true, "path="+p.Key())
	}
	return s
}
