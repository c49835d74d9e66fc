package cli

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	coreestate "timegate/core/estate"
	"timegate/estate"
	"timegate/estate/hub"
	"timegate/workstation"
)

// TestEstateHealth: what is wrong with an estate is said, and what will be.
func TestEstateHealth(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	bundle := func(days int) *coreestate.Bundle {
		return &coreestate.Bundle{Manifest: coreestate.Manifest{Number: 7, Expires: now.AddDate(0, 0, days), Plan: coreestate.Plan{Waves: []coreestate.Wave{{Rest: true}}}}}
	}
	many := make([]estate.Host, hub.Many)
	for i := range many {
		many[i].In = true
	}
	for _, tt := range []struct {
		name  string
		got   workstation.Health
		state string
		what  string
	}{
		{"no bundle", bundleHealth(nil, nil, false, now), workstation.HealthOK, "none was published"},
		{"a good one", bundleHealth(bundle(90), &coreestate.Release{Number: 7}, true, now), workstation.HealthOK, "wave 1 of 1"},
		{"one that is held", bundleHealth(bundle(90), &coreestate.Release{Number: 7, Held: true, Why: "by hand"}, true, now), workstation.HealthNote, "by hand"},
		{"one that expires soon", bundleHealth(bundle(3), &coreestate.Release{Number: 7}, true, now), workstation.HealthNote, "within 4 days"},
		{"one that has expired", bundleHealth(bundle(0), &coreestate.Release{Number: 7}, true, now), workstation.HealthWrong, "has expired"},
		{"one that nobody shows", bundleHealth(nil, &coreestate.Release{Number: 7}, false, now), workstation.HealthWrong, "does not show it"},
		{"one that was never released", bundleHealth(bundle(90), nil, false, now), workstation.HealthWrong, "never let begin"},
		{"another than was released", bundleHealth(bundle(90), &coreestate.Release{Number: 7}, false, now), workstation.HealthWrong, "two desks"},
		{"nobody", hostsHealth(nil), workstation.HealthOK, "0 workstations"},
		{"one that asks", hostsHealth([]estate.Host{{}}), workstation.HealthOK, "1 asking"},
		{"somebody speaks for another", hostsHealth([]estate.Host{{In: true, Wrong: "its report is not signed"}}), workstation.HealthWrong, "is not signed"},
		{"more than a hub bears", hostsHealth(many), workstation.HealthNote, "400 workstations"},
	} {
		if tt.got.State != tt.state || !strings.Contains(tt.got.What, tt.what) {
			t.Errorf("%s: %+v, want %s, %q", tt.name, tt.got, tt.state, tt.what)
		}
	}
}

// TestHostEvents: what is new is told once, the oldest first.
func TestHostEvents(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	host := func(name string, in, on bool, r *coreestate.Report) estate.Host {
		h := estate.Host{In: in}
		h.Host, h.On, h.Last = name, on, r
		return h
	}
	report := func(number int64, state coreestate.BundleState, runs ...int64) *coreestate.Report {
		r := &coreestate.Report{At: now.Add(-time.Second), Bundle: coreestate.BundleReport{Number: number, State: state}}
		for _, n := range runs {
			r.Failures = append(r.Failures, coreestate.Failure{Gate: "stock-count", Run: n, At: now.Add(-time.Minute), Result: "failed", Status: 3})
		}
		return r
	}
	before := []estate.Host{host("front-desk", true, true, report(1, coreestate.Taken, 4)), host("press-room", true, true, report(1, coreestate.Taken))}
	for _, tt := range []struct {
		name string
		now  []estate.Host
		want string
	}{
		{"nothing", before, ""},
		{"a run failed", []estate.Host{host("front-desk", true, true, report(1, coreestate.Taken, 5, 4)), before[1]}, "front-desk run 5 of stock-count failed (3); "},
		{"a bundle came", []estate.Host{host("front-desk", true, true, report(2, coreestate.Taken, 4)), host("press-room", true, true, report(2, coreestate.Refused))}, "front-desk bundle 2 taken; press-room bundle 2 refused; "},
		{"one goes, one asks", []estate.Host{host("front-desk", true, false, before[0].Last), before[1], host("studio-laptop", false, false, nil)}, "front-desk off; studio-laptop asks to be let in; "},
		{"one is let in, with old failures", append([]estate.Host{host("studio-laptop", true, true, report(1, coreestate.Taken, 1, 2))}, before...), "studio-laptop bundle 1 taken; studio-laptop on; "},
		{"a failure and then off", []estate.Host{host("front-desk", true, false, report(1, coreestate.Taken, 5, 4)), before[1]}, "front-desk run 5 of stock-count failed (3); front-desk off; "},
	} {
		got := ""
		for _, e := range hostEvents(before, tt.now, now) {
			got += e.Host + " " + e.Text + "; "
		}
		if got != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
}

// TestFailuresOf: failures of all workstations are told together, the newest first, by time
// and by word.
func TestFailuresOf(t *testing.T) {
	t.Parallel()
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

// TestLately: of very much that has failed, the view begins with the latest, the newest above.
func TestLately(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	var hosts []estate.Host
	for i := range 30 {
		h := estate.Host{In: true}
		h.Host, h.Last = fmt.Sprintf("desk-%02d", i), &coreestate.Report{}
		for n := range coreestate.MostFailures {
			h.Last.Failures = append(h.Last.Failures, coreestate.Failure{Gate: "stock-count", Run: int64(n), Result: "failed", At: now.Add(-time.Duration(30*n+i) * time.Second)})
		}
		hosts = append(hosts, h)
	}
	w := &watchedEstate{app: &app{out: newScreen(os.Stdout)}}
	w.note(lately(hosts))
	if len(w.events) != mostEvents || !w.events[0].At.Equal(now) || !w.events[mostEvents-1].At.Equal(now.Add(-(mostEvents-1)*time.Second)) {
		t.Fatalf("%d are shown, from %v to %v", len(w.events), w.events[0].At, w.events[len(w.events)-1].At)
	}
	w.note([]hostEvent{{now.Add(time.Second), "press-room", "on", "on"}})
	if len(w.events) != mostEvents || w.events[0].Host != "press-room" || !w.events[1].At.Equal(now) {
		t.Errorf("what is new is not above: %+v", w.events[:2])
	}
}

// TestReadSaid: what a call has told besides what is read does not get in the way.
func TestReadSaid(t *testing.T) {
	t.Parallel()
	const document = "{\n  \"code\": \"vars\"\n}\n"
	for out, good := range map[string]bool{document: true, "timegate: the disk is nearly full\n" + document: true, document + "vault-copy is left out\n": true,
		"": false, "timegate: it cannot be\n": false, "{\n  \"code\"": false} {
		var f coreestate.Forecast
		if err := readSaid([]byte(out), &f); (err == nil) != good || good && f.Code != "vars" {
			t.Errorf("%q: %+v, %v", out, f, err)
		}
	}
}
