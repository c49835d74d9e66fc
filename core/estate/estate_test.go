package estate

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"
	"time"
)

// keyOf makes a key from a word, so that tests sign the same each time.
func keyOf(word string) ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed([]byte(fmt.Sprintf("%-32s", word)))
}

func publicOf(words ...string) (out []ed25519.PublicKey) {
	for _, w := range words {
		out = append(out, keyOf(w).Public().(ed25519.PublicKey))
	}
	return out
}

var made = time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)

// bindery is a bundle of the bindery's.
func bindery() *Bundle {
	return &Bundle{Manifest: Manifest{Shop: "larkspur", Number: 7, Made: made, Expires: made.AddDate(0, 1, 0),
		Plan: Plan{Waves: []Wave{{Count: 1}, {Percent: 10}, {Rest: true}}, After: 4 * time.Hour, Limits: []Limit{{Of: Failed, Percent: 1, Share: true}, {Of: Broken}}}},
		Content: map[string][]byte{"gates/vault-copy.toml": []byte("run = [\"/opt/larkspur/bin/vault-copy\"]\n"), "vars.toml": []byte("vault = \"/media/vault\"\n"), "scripts/count": []byte("#!/bin/sh\n"), "days/monday.toml": nil}}
}

func TestPack(t *testing.T) {
	one, err := bindery().Pack()
	if err != nil {
		t.Fatal(err)
	}
	two, err := bindery().Pack()
	if err != nil || !bytes.Equal(one, two) {
		t.Errorf("the same bundle is packed in two ways, %v", err)
	}
	b, err := Unpack(one)
	if err != nil || b.Shop != "larkspur" || b.Number != 7 || len(b.Content) != 4 || string(b.Content["scripts/count"]) != "#!/bin/sh\n" || b.Plan.After != 4*time.Hour {
		t.Errorf("%+v, %v", b, err)
	}
	for _, name := range []string{"", "gates", "gates/x", "gates/.x.toml", "gates/X.toml", "gates/a/b.toml", "../vars.toml", "/vars.toml", "gates/../vars.toml", "scripts/../../etc/passwd", "scripts/a/b", "scripts/.hidden",
		"scripts/a\nb", `scripts\a`, "settings.toml", "manifest.json", "other/x.toml"} {
		b := bindery()
		b.Content[name] = nil
		if _, err := b.Pack(); err == nil {
			t.Errorf("%q can be packed", name)
		}
	}
}

// entry is a file of an archive that was made by hand.
type entry struct {
	name string
	kind byte
	data string
}

func archive(t testing.TB, entries ...entry) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for _, e := range entries {
		h := &tar.Header{Typeflag: e.kind, Name: e.name, Size: int64(len(e.data))}
		if e.kind == tar.TypeSymlink {
			h.Linkname, h.Size = "/etc/passwd", 0
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if h.Size > 0 {
			if _, err := w.Write([]byte(e.data)); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := errors.Join(w.Close(), z.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestUnpackHostile: one who may sign can still make a bundle that is not as it should be,
// by mistake or not. Nothing of it is taken.
func TestUnpackHostile(t *testing.T) {
	manifest := func(change func(m *Manifest)) entry {
		b := bindery()
		b.Content = map[string][]byte{"scripts/count": []byte("#!/bin/sh\n")}
		if _, err := b.Pack(); err != nil {
			t.Fatal(err)
		}
		change(&b.Manifest)
		data, err := json.Marshal(&b.Manifest)
		if err != nil {
			t.Fatal(err)
		}
		return entry{manifestPath, tar.TypeReg, string(data)}
	}
	same := manifest(func(*Manifest) {})
	count := entry{"scripts/count", tar.TypeReg, "#!/bin/sh\n"}
	if _, err := Unpack(archive(t, same, count)); err != nil {
		t.Fatal(err)
	}
	// A bomb: a few KiB that unpack to 80 MiB.
	zeros := strings.Repeat("\x00", 80<<20)
	for name, body := range map[string][]byte{
		"nothing":                  nil,
		"no archive":               []byte("gates"),
		"empty":                    archive(t),
		"no manifest":              archive(t, count),
		"manifest later":           archive(t, count, same),
		"a file is missing":        archive(t, same),
		"a file twice":             archive(t, same, count, count),
		"a file too many":          archive(t, same, count, entry{"gates/x.toml", tar.TypeReg, "run = 5"}),
		"another content":          archive(t, same, entry{"scripts/count", tar.TypeReg, "#!/bin/evil\n"}),
		"a link":                   archive(t, same, entry{"scripts/count", tar.TypeSymlink, ""}),
		"a folder":                 archive(t, same, entry{"scripts/", tar.TypeDir, ""}, count),
		"out of the folder":        archive(t, manifest(func(m *Manifest) { m.Files["../x"] = sum(nil) }), count, entry{"../x", tar.TypeReg, ""}),
		"a bomb":                   archive(t, manifest(func(m *Manifest) { m.Files["scripts/zeros"] = sum([]byte(zeros)) }), count, entry{"scripts/zeros", tar.TypeReg, zeros}),
		"two documents":            archive(t, entry{manifestPath, tar.TypeReg, same.data + "{}"}, count),
		"an unknown key":           archive(t, entry{manifestPath, tar.TypeReg, strings.Replace(same.data, `"shop"`, `"sh0p":1,"shop"`, 1)}, count),
		"no shop":                  archive(t, manifest(func(m *Manifest) { m.Shop = "../x" }), count),
		"number 0":                 archive(t, manifest(func(m *Manifest) { m.Number = 0 }), count),
		"expires at once":          archive(t, manifest(func(m *Manifest) { m.Expires = m.Made }), count),
		"a bad pattern":            archive(t, manifest(func(m *Manifest) { m.Hosts = []string{"[a"} }), count),
		"no waves":                 archive(t, manifest(func(m *Manifest) { m.Plan.Waves = nil }), count),
		"the rest is not last":     archive(t, manifest(func(m *Manifest) { m.Plan.Waves = []Wave{{Rest: true}, {Count: 1}} }), count),
		"time between is negative": archive(t, manifest(func(m *Manifest) { m.Plan.After = -1 }), count),
	} {
		b, err := Unpack(body)
		fault, ok := errors.AsType[*MessageError](err)
		if err == nil || b != nil && err == nil || !ok || fault.Code != Damaged {
			t.Errorf("%s: %v, %v", name, b, err)
		}
	}
}

func TestRefused(t *testing.T) {
	us := Holder{Shop: "larkspur", Host: "press-room", Groups: []string{"printing"}, Number: 6}
	for _, tt := range []struct {
		name   string
		change func(m *Manifest, h *Holder)
		at     time.Time
		code   string
	}{
		{"as it should be", func(*Manifest, *Holder) {}, made.Add(time.Hour), ""},
		{"made a little later than now", func(*Manifest, *Holder) {}, made.Add(-time.Hour), ""},
		{"replayed", func(_ *Manifest, h *Holder) { h.Number = 7 }, made, OldNumber},
		{"back", func(_ *Manifest, h *Holder) { h.Number = 8 }, made, OldNumber},
		{"expired", func(*Manifest, *Holder) {}, made.AddDate(0, 1, 0), Expired},
		{"another shop", func(m *Manifest, _ *Holder) { m.Shop = "foxglove" }, made, OtherShop},
		{"by name", func(m *Manifest, _ *Holder) { m.Hosts = []string{"front-*", "press-*"} }, made, ""},
		{"for others by name", func(m *Manifest, _ *Holder) { m.Hosts = []string{"front-*"} }, made, NotForUs},
		{"by group", func(m *Manifest, _ *Holder) { m.Groups = []string{"printing"} }, made, ""},
		{"for others by group", func(m *Manifest, _ *Holder) { m.Groups = []string{"desks"} }, made, NotForUs},
		{"name and group must both fit", func(m *Manifest, _ *Holder) { m.Hosts, m.Groups = []string{"*"}, []string{"desks"} }, made, NotForUs},
	} {
		m, h := bindery().Manifest, us
		tt.change(&m, &h)
		err := m.Refused(h, tt.at)
		fault, _ := errors.AsType[*MessageError](err)
		if tt.code == "" && err != nil || tt.code != "" && (fault == nil || fault.Code != tt.code) {
			t.Errorf("%s: %v, want %q", tt.name, err, tt.code)
		}
	}
}

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

func TestDecodeReport(t *testing.T) {
	whole := Report{Shop: "larkspur", Host: "press-room", Number: 3, At: made, Failures: []Failure{{Gate: "vault-copy", Run: 4, At: made, Result: "failed", Code: "exit", Status: 3}}}
	for _, tt := range []struct {
		name   string
		change func(r *Report)
		good   bool
	}{
		{"as it should be", func(*Report) {}, true},
		{"of another host", func(r *Report) { r.Host = "front-desk" }, false},
		{"of another shop", func(r *Report) { r.Shop = "foxglove" }, false},
		{"number 0", func(r *Report) { r.Number = 0 }, false},
		{"negative", func(r *Report) { r.Broken = -1 }, false},
		{"more worse than nothing", func(r *Report) { r.Worse = -1 }, false},
		{"a version of a megabyte", func(r *Report) { r.Version = strings.Repeat("1", 1<<20) }, false},
		{"a long reason", func(r *Report) { r.Failures[0].Text = strings.Repeat("x", 4*MostDetail+1) }, false},
		{"too many failures", func(r *Report) { r.Failures = make([]Failure, MostFailures+1) }, false},
		{"a gate's name with a control sign", func(r *Report) { r.Failures[0].Gate = "x\x1b[2J" }, false},
	} {
		r := whole
		r.Failures = []Failure{whole.Failures[0]}
		tt.change(&r)
		data, err := json.Marshal(&r)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := DecodeReport(data, "larkspur", "press-room"); (err == nil) != tt.good {
			t.Errorf("%s: %v", tt.name, err)
		}
	}
}

// TestVersions: what a workstation with a later version tells besides is left out; what it is to
// do, and does not know, is refused.
func TestVersions(t *testing.T) {
	const later = `,"later":1}`
	with := func(what any) []byte {
		t.Helper()
		data, err := json.Marshal(what)
		if err != nil {
			t.Fatal(err)
		}
		return append(bytes.TrimSuffix(data, []byte("}")), later...)
	}
	_, reply, err := NewReply()
	if err != nil {
		t.Fatal(err)
	}
	request := &Request{Shop: "larkspur", Host: "press-room", ID: strings.Repeat("A", idSize), Desk: strings.Repeat("B", idSize), Reply: reply, Made: made, Expires: made.Add(time.Minute), Do: AskWhy, Of: "vault-copy"}
	for name, tt := range map[string]struct {
		read func() error
		good bool
	}{
		"a report": {func() error {
			_, err := DecodeReport(with(&Report{Shop: "larkspur", Host: "press-room", Number: 1}), "larkspur", "press-room")
			return err
		}, true},
		"a forecast": {func() error {
			_, err := DecodeForecast(with(&Forecast{Shop: "larkspur", Host: "press-room", Number: 1}), "larkspur", "press-room")
			return err
		}, true},
		"a release": {func() error {
			_, err := DecodeRelease(with(&Release{Shop: "larkspur", Number: 1, Order: 1}))
			return err
		}, false},
		"a request": {func() error { _, err := DecodeRequest(with(request)); return err }, false},
	} {
		if err := tt.read(); (err == nil) != tt.good {
			t.Errorf("%s with more in it: %v", name, err)
		}
	}
	data, err := json.Marshal(request)
	if err == nil {
		_, err = DecodeRequest(data)
	}
	if err != nil {
		t.Errorf("the request as it is: %v", err)
	}
}

func TestOpenJoining(t *testing.T) {
	public := keyOf("press-room").Public().(ed25519.PublicKey)
	seal := func(j Joining, key string) []byte {
		t.Helper()
		data, err := json.Marshal(&j)
		if err != nil {
			t.Fatal(err)
		}
		raw, err := Seal(ForJoining, data, keyOf(key))
		if err != nil {
			t.Fatal(err)
		}
		return raw
	}
	j := Joining{Shop: "larkspur", Host: "press-room", Key: base64.StdEncoding.EncodeToString(public), At: made}
	got, key, err := OpenJoining(seal(j, "press-room"), "larkspur", "press-room")
	if err != nil || got.Host != "press-room" || !key.Equal(public) || len(Fingerprint(key)) != 49 {
		t.Errorf("%+v, %v, %v", got, key, err)
	}
	for name, raw := range map[string][]byte{"another's key": seal(j, "stranger"), "another host": seal(Joining{Shop: "larkspur", Host: "front-desk", Key: j.Key}, "press-room"), "nothing": nil, "cut": seal(j, "press-room")[:100]} {
		if _, _, err := OpenJoining(raw, "larkspur", "press-room"); err == nil {
			t.Errorf("%s is let in", name)
		}
	}
	for name, good := range map[string]bool{"press-room": true, "a.b": true, "": false, "-a": false, "a/b": false, "a+": false, "#": false, "ä": false} {
		if ValidHost(name) != good {
			t.Errorf("ValidHost(%q) is %v", name, !good)
		}
	}
}

// TestDayOf: the days of a bundle, and nothing that only looks like one.
func TestDayOf(t *testing.T) {
	for name, want := range map[string]string{"days/monday.toml": "monday", "gates/monday.toml": "", "days/monday": "", "days/../x.toml": "", "days/x/y.toml": "", "days/.toml": "", "vars.toml": ""} {
		if day, ok := DayOf(name); ok != (want != "") || ok && day != want {
			t.Errorf("%s: %q, %v", name, day, ok)
		}
	}
}

// FuzzMessages: whatever comes, nothing dies, and what is taken is what it says.
func FuzzMessages(f *testing.F) {
	body, err := bindery().Pack()
	if err != nil {
		f.Fatal(err)
	}
	raw, err := Seal(ForBundle, body, keyOf("maren"))
	if err != nil {
		f.Fatal(err)
	}
	for _, seed := range [][]byte{nil, raw, body, []byte(`{"shop":"larkspur","number":7,"order":1}`), []byte(`{"shop":"larkspur","host":"a","number":1}`), []byte(`{"shop":"larkspur","host":"a","id":"AAAAAAAAAAAAAAAAAAAAAAAAAA","desk":"AAAAAAAAAAAAAAAAAAAAAAAAAA","do":"open","of":"a"}`)} {
		f.Add(seed)
	}
	reply, _, err := NewReply()
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if body, _, err := Unseal(ForBundle, data, publicOf("maren"), 1); err == nil && !bytes.Equal(data, raw) {
			t.Errorf("a forged message is taken: %q", body)
		}
		if b, err := Unpack(data); err == nil {
			for name, content := range b.Content {
				if !ValidPath(name) || b.Files[name] != sum(content) {
					t.Errorf("%q is taken", name)
				}
			}
		}
		if r, err := DecodeRelease(data); err == nil && r.Number < 1 {
			t.Errorf("%+v is taken", r)
		}
		if r, err := DecodeReport(data, "larkspur", "a"); err == nil && r.Host != "a" {
			t.Errorf("%+v is taken", r)
		}
		if r, err := DecodeForecast(data, "larkspur", "a"); err == nil && (r.Host != "a" || r.Number < 1) {
			t.Errorf("%+v is taken", r)
		}
		if a, err := OpenAnswer(data, &Request{Shop: "larkspur", Host: "a"}, publicOf("press-room")[0], reply); err == nil {
			t.Errorf("%+v is taken for an answer", a)
		}
		if r, err := DecodeRequest(data); err == nil && (!r.Do.Fits(r.Of) || r.Expires.Sub(r.Made) > RequestLife) {
			t.Errorf("%+v is taken", r)
		}
		if _, _, err := OpenJoining(data, "larkspur", "a"); err == nil && !bytes.HasPrefix(data, []byte(sealMark)) {
			t.Error("no sealed message is let in")
		}
	})
}
