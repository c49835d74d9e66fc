package estate

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"
)

func TestParseWaves(t *testing.T) {
	for text, want := range map[string]string{"1,10%,rest": "1 10% rest", " 1 , 0.5% , rest": "1 0.5% rest", "rest": "rest",
		"": "", "1,10%": "", "rest,1": "", "0,rest": "", "101%,rest": "", "-1,rest": "", "NaN%,rest": "", "x,rest": ""} {
		waves, err := ParseWaves(text)
		got := strings.Trim(fmt.Sprint(waves), "[]")
		if want == "" && err == nil || want != "" && (err != nil || got != want) {
			t.Errorf("%q: %q, %v, want %q", text, got, err, want)
		}
	}
	for text, want := range map[string]string{"failed > 1%": "failed > 1%", "broken>0": "broken > 0", "silent > 12.5%": "silent > 12.5%", "failed": "", "slow > 1": "", "failed > -1": "", "failed > 101%": "", "failed > x": "", "failed > NaN%": ""} {
		l, err := ParseLimit(text)
		if want == "" && err == nil || want != "" && (err != nil || l.String() != want) {
			t.Errorf("%q: %q, %v, want %q", text, l, err, want)
		}
	}
}

// TestReach: each wave holds the one before it, has the size that it should, and others are
// first with another bundle.
func TestReach(t *testing.T) {
	var hosts []string
	for i := range 1000 {
		hosts = append(hosts, fmt.Sprintf("desk-%d", i))
	}
	m := bindery().Manifest
	within := func(m *Manifest, reach uint64) (n int, first string) {
		for _, h := range hosts {
			if r := (Release{Shop: m.Shop, Number: m.Number, Reach: reach}); r.Reaches(h) {
				n, first = n+1, h
			}
		}
		return n, first
	}
	before := uint64(0)
	for wave, want := range []int{1, 100, 1000} {
		reach := m.Reach(wave, hosts)
		if n, _ := within(&m, reach); n != want || reach < before {
			t.Errorf("wave %d reaches %d workstations, want %d", wave, n, want)
		}
		before = reach
	}
	if m.Reach(0, nil) != 0 || m.Reach(2, nil) != math.MaxUint64 {
		t.Error("without workstations, a first wave reaches some, or the rest not all")
	}
	_, seven := within(&m, m.Reach(0, hosts))
	firsts := map[string]bool{}
	for n := range int64(20) {
		m.Number = n + 1
		_, first := within(&m, m.Reach(0, hosts))
		firsts[first] = true
	}
	if len(firsts) < 15 || !firsts[seven] {
		t.Errorf("of 20 bundles, only %d workstations are the first", len(firsts))
	}
	if r := (Release{Shop: m.Shop, Number: 7, Reach: math.MaxUint64, Held: true}); r.Reaches("desk-1") {
		t.Error("a release that is held reaches somebody")
	}
}

func TestJudge(t *testing.T) {
	began := made
	report := func(change func(r *Report)) *Report {
		r := &Report{Bundle: BundleReport{Number: 7, State: Taken}}
		change(r)
		return r
	}
	good := report(func(*Report) {})
	told := began.Add(time.Minute)
	for _, tt := range []struct {
		name  string
		seen  Seen // of one workstation; 99 others are good
		wave  int
		after time.Duration
		want  Step
		why   string
	}{
		{"good, too early", Seen{Told: told, Last: good}, 0, time.Hour, Wait, "good for 4 hours"},
		{"good for long enough", Seen{Told: told, Last: good}, 0, 4 * time.Hour, Next, "was good"},
		{"the last wave", Seen{Told: told, Last: good}, 2, 4 * time.Hour, Done, ""},
		{"gates fail more often", Seen{Told: told, Last: report(func(r *Report) { r.Failed, r.Worse = 3, 2 })}, 0, 4 * time.Hour, Next, ""}, // 1 % is allowed
		{"refused", Seen{Told: told, Last: report(func(r *Report) { r.Bundle.State = Refused })}, 0, time.Minute, Stop, "broken on 1 of 100 workstations: broken > 0"},
		{"taken back", Seen{Told: told, Last: report(func(r *Report) { r.Bundle.State = Back })}, 0, time.Minute, Stop, "broken"},
		{"broken gates", Seen{Told: told, Last: report(func(r *Report) { r.Broken, r.Before = 2, 1 })}, 2, time.Minute, Stop, "broken"},
		{"gates that were broken before", Seen{Told: told, Last: report(func(r *Report) { r.Broken, r.Before = 2, 2 })}, 2, 4 * time.Hour, Done, ""},
		{"off since before", Seen{Told: began.AddDate(0, 0, -1)}, 0, 4 * time.Hour, Next, ""},
		{"another bundle's", Seen{On: true, Told: told, Last: report(func(r *Report) { r.Bundle.Number = 6; r.Failed = 9 })}, 0, 4 * time.Hour, Next, ""},
	} {
		m := bindery().Manifest
		hosts := []Seen{tt.seen}
		hosts[0].Host = "press-room"
		for i := range 99 {
			hosts = append(hosts, Seen{Host: fmt.Sprintf("desk-%d", i), On: true, Told: told, Last: good})
		}
		r := &Release{Shop: "larkspur", Number: 7, Order: 1, Wave: tt.wave, Reach: math.MaxUint64, Began: began}
		v := m.Judge(r, hosts, began.Add(tt.after))
		if v.Do != tt.want || !strings.Contains(v.Why, tt.why) {
			t.Errorf("%s: %+v, want %s, %q", tt.name, v, tt.want, tt.why)
		}
	}
	m := bindery().Manifest
	both := []Seen{{Host: "a", Told: told, Last: report(func(r *Report) { r.Failed = 9 })}, {Host: "b", Told: told, Last: report(func(r *Report) { r.Failed, r.Worse = 9, 1 })}}
	if v := m.Judge(&Release{Shop: "larkspur", Number: 7, Reach: math.MaxUint64, Began: began}, both, told); v.Do != Stop || v.Why != "failed on 1 of 2 workstations: failed > 1%" {
		t.Errorf("what fails as it did before: %+v", v)
	}
	// Those that are off are not silent; those that are on and tell nothing are.
	m.Plan.Limits = []Limit{{Of: Silent, Count: 1}}
	r := &Release{Shop: "larkspur", Number: 7, Order: 1, Reach: math.MaxUint64, Began: began}
	hosts := []Seen{{Host: "a"}, {Host: "b", On: true}, {Host: "c", On: true, Told: began.Add(-time.Hour)}, {Host: "d", Told: told, Last: good}}
	if v := m.Judge(r, hosts, told); v.Do == Stop {
		t.Errorf("silent at once: %+v", v)
	}
	if v := m.Judge(r, hosts, told.Add(SilentAfter)); v.Do != Stop || v.Counts.Of[Silent] != 2 || v.Counts.Reached != 4 || v.Counts.Taken != 1 {
		t.Errorf("silent: %+v", v)
	}
}

// TestJudgeLate: a wave counts from the first that has taken it, those who are not there hold
// it no longer than others, and what was accepted stops it no more, only what comes besides.
func TestJudgeLate(t *testing.T) {
	began := made
	report := func(host string, after time.Duration, change func(r *Report)) Seen {
		at := began.Add(after)
		r := &Report{Bundle: BundleReport{Number: 7, State: Taken, At: &at}}
		if change != nil {
			change(r)
		}
		return Seen{Host: host, On: true, Told: at, Last: r}
	}
	off, silent := Seen{Host: "off"}, Seen{Host: "silent", On: true}
	taking := report("taking", time.Minute, func(r *Report) { r.Bundle.State = Taking })
	broken := func(host string) Seen {
		return report(host, time.Minute, func(r *Report) { r.Bundle.State = Refused })
	}
	for _, tt := range []struct {
		name     string
		hosts    []Seen
		accepted map[Measure]int
		after    time.Duration
		want     Step
		why      string
	}{
		{"the first comes late", []Seen{report("a", 3*time.Hour, nil)}, nil, 5 * time.Hour, Wait, "good for 4 hours"},
		{"and was good for long enough", []Seen{report("a", 3*time.Hour, nil), report("b", 6*time.Hour, nil)}, nil, 7 * time.Hour, Next, "was good"},
		{"a clock that is ahead", []Seen{report("a", 300*time.Hour, nil)}, nil, 4 * time.Hour, Next, "was good"},
		{"a clock that is behind", []Seen{report("a", -300*time.Hour, nil)}, nil, time.Hour, Wait, "good for 4 hours"},
		{"all are off", []Seen{off}, nil, time.Hour, Wait, "good for"},
		{"all are off for long enough", []Seen{off}, nil, 4 * time.Hour, Next, "left behind"},
		{"off, and one takes it yet", []Seen{off, taking}, nil, 9 * time.Hour, Wait, "no workstation of the wave"},
		{"silent for long enough", []Seen{silent}, nil, 4 * time.Hour, Next, "left behind"},
		{"nobody at all", nil, nil, 4 * time.Hour, Next, "was good"},
		{"broken", []Seen{broken("a")}, nil, time.Hour, Stop, "broken on 1 of 1"},
		{"broken, and accepted", []Seen{broken("a"), report("c", time.Minute, nil)}, map[Measure]int{Broken: 1}, 5 * time.Hour, Next, "was good"},
		{"more are broken than accepted", []Seen{broken("a"), broken("b")}, map[Measure]int{Broken: 1}, time.Hour, Stop, "broken on 2 of 2"},
		{"something else than what was accepted", []Seen{broken("a")}, map[Measure]int{Failed: 5}, time.Hour, Stop, "broken"},
	} {
		m := bindery().Manifest
		r := &Release{Shop: "larkspur", Number: 7, Order: 1, Reach: math.MaxUint64, Began: began, Accepted: tt.accepted}
		if v := m.Judge(r, tt.hosts, began.Add(tt.after)); v.Do != tt.want || !strings.Contains(v.Why, tt.why) {
			t.Errorf("%s: %+v, want %s, %q", tt.name, v, tt.want, tt.why)
		}
	}
}
