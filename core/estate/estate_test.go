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
