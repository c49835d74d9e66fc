package cli

import (
	"fmt"
	"testing"
	"time"

	coreestate "timegate/core/estate"
	"timegate/estate"
)

// TestFailuresOf: failures of all workstations are told together, the newest first, by time
// and by word.
func TestFailuresOf(t *testing.T) {
	at := func(minute int) time.Time { return time.Date(2026, 11, 30, 9, minute, 0, 0, time.UTC) }
	host := func(name, group string, minutes ...int) estate.Host {
		h := estate.Host{Groups: []string{group}}
		h.Host, h.Last = name, &coreestate.Report{}
		for _, m := range minutes {
			h.Last.Failures = append(h.Last.Failures, coreestate.Failure{Gate: fmt.Sprintf("gate-%d", m%2), Run: int64(m), At: at(m)})
		}
		return h
	}
	silent := estate.Host{}
	silent.Host = "studio-laptop"
	hosts := []estate.Host{host("front-desk", "desks", 30, 10), host("press-room", "printing", 25, 20, 5), silent}
	for _, tt := range []struct {
		since time.Time
		word  string
		want  string
	}{
		{time.Time{}, "", "[30 25 20 10 5]"}, {at(20), "", "[30 25 20]"}, {time.Time{}, "press", "[25 20 5]"}, {time.Time{}, "desks", "[30 10]"}, {time.Time{}, "gate-1", "[25 5]"}, {at(26), "gate-1", "[]"}, {time.Time{}, "nowhere", "[]"},
	} {
		runs := []int64{}
		for _, f := range failuresOf(hosts, tt.since, tt.word) {
			runs = append(runs, f.Run)
		}
		if got := fmt.Sprint(runs); got != tt.want {
			t.Errorf("since %v, %q: %s, want %s", tt.since, tt.word, got, tt.want)
		}
	}
	// What is chosen in the list.
	bad := hosts[1]
	bad.In, bad.On = true, true
	bad.Last = &coreestate.Report{Failed: 2, Broken: 1, Bundle: coreestate.BundleReport{Number: 3, State: coreestate.Refused}}
	for state, want := range map[string]bool{"on": true, "off": false, "asking": false, "failed": true, "broken": true, "refused": true, "": true} {
		if hostIs(&bad, state) != want {
			t.Errorf("one with trouble is %q: %v", state, !want)
		}
	}
	if !hostIs(&silent, "asking") || hostIs(&silent, "failed") || hostIs(&silent, "refused") {
		t.Error("one that only asks has failed, or does not ask")
	}
}
