package estate

import (
	"bytes"
	"crypto/ed25519"
	"fmt"
	"strings"
	"testing"
)

func TestUnseal(t *testing.T) {
	seal := func(purpose Purpose, keys ...string) []byte {
		t.Helper()
		var private []ed25519.PrivateKey
		for _, k := range keys {
			private = append(private, keyOf(k))
		}
		raw, err := Seal(purpose, []byte("gates"), private...)
		if err != nil {
			t.Fatal(err)
		}
		return raw
	}
	for _, tt := range []struct {
		name    string
		raw     []byte
		trusted []ed25519.PublicKey
		need    int
		want    string // of the error; "" for none
	}{
		{"one", seal(ForBundle, "maren"), publicOf("maren"), 0, ""},
		{"one of those trusted", seal(ForBundle, "ines"), publicOf("maren", "ines"), 1, ""},
		{"two", seal(ForBundle, "maren", "ines"), publicOf("maren", "ines"), 2, ""},
		{"a stranger besides", seal(ForBundle, "stranger", "maren"), publicOf("maren"), 1, ""},
		{"a stranger", seal(ForBundle, "stranger"), publicOf("maren"), 1, "no key that is trusted"},
		{"nobody is trusted", seal(ForBundle, "maren"), nil, 1, "no key that is trusted"},
		{"one of two", seal(ForBundle, "maren", "stranger"), publicOf("maren", "ines"), 2, "1 of the keys"},
		{"one twice", seal(ForBundle, "maren", "maren"), publicOf("maren", "ines"), 2, "1 of the keys"},
		{"for another purpose", seal(ForReport, "maren"), publicOf("maren"), 1, "no key that is trusted"},
		{"nothing", nil, publicOf("maren"), 1, "no sealed message"},
		{"the mark alone", []byte(sealMark), publicOf("maren"), 1, "no sealed message"},
		{"no signature", []byte(sealMark + "\x00gates"), publicOf("maren"), 1, "no whole sealed message"},
		{"too much", make([]byte, MostBytes+1), publicOf("maren"), 1, "the most is"},
	} {
		body, _, err := Unseal(ForBundle, tt.raw, tt.trusted, tt.need)
		switch {
		case tt.want == "" && (err != nil || string(body) != "gates"):
			t.Errorf("%s: %q, %v", tt.name, body, err)
		case tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want) || body != nil):
			t.Errorf("%s: %q, %v, want %q", tt.name, body, err, tt.want)
		}
	}
	// Whatever bit turns, and wherever it breaks off, nothing is handed over.
	raw := seal(ForBundle, "maren")
	for i := range raw {
		bent := bytes.Clone(raw)
		bent[i] ^= 1 << (i % 8)
		if body, _, err := Unseal(ForBundle, bent, publicOf("maren"), 1); err == nil {
			t.Errorf("bent at byte %d, it is taken: %q", i, body)
		}
		if body, _, err := Unseal(ForBundle, raw[:i], publicOf("maren"), 1); err == nil {
			t.Errorf("cut at byte %d, it is taken: %q", i, body)
		}
	}
	if _, err := Seal(ForBundle, nil); err == nil {
		t.Error("nobody can sign")
	}
	if _, err := Seal(ForBundle, make([]byte, MostBytes), keyOf("maren")); err == nil {
		t.Error("too much can be sealed")
	}
}

// TestUnsealAgain: a message that was checked is as good again; the same for another purpose, of
// another key or with a byte bent is checked anew.
func TestUnsealAgain(t *testing.T) {
	raw, err := Seal(ForReport, []byte("52 %"), keyOf("press-room"))
	if err != nil {
		t.Fatal(err)
	}
	key := publicOf("press-room")[0]
	body, checked, err := UnsealAgain(ForReport, raw, key, Checked{})
	if err != nil || string(body) != "52 %" {
		t.Fatalf("%q, %v", body, err)
	}
	if body, again, err := UnsealAgain(ForReport, raw, key, checked); err != nil || string(body) != "52 %" || again != checked {
		t.Errorf("again: %q, %v", body, err)
	}
	for i := range raw {
		bent := bytes.Clone(raw)
		bent[i] ^= 1
		if body, _, err := UnsealAgain(ForReport, bent, key, checked); err == nil {
			t.Errorf("with byte %d bent: %q", i, body)
		}
	}
	if _, _, err := UnsealAgain(ForForecast, raw, key, checked); err == nil {
		t.Error("it is taken for another purpose")
	}
	if _, _, err := UnsealAgain(ForReport, raw, publicOf("front-desk")[0], checked); err == nil {
		t.Error("it is taken as another one's")
	}
}

// TestSignToo: several sign one after the other; nobody twice, and nothing that was changed.
func TestSignToo(t *testing.T) {
	raw, err := Seal(ForBundle, []byte("52 %"), keyOf("maren"))
	if err != nil {
		t.Fatal(err)
	}
	both, err := SignToo(ForBundle, raw, keyOf("ines"))
	if err != nil {
		t.Fatal(err)
	}
	if body, signers, err := Unseal(ForBundle, both, publicOf("maren", "ines", "tobias"), 2); err != nil || string(body) != "52 %" || len(signers) != 2 {
		t.Errorf("signed by two: %q, %d, %v", body, len(signers), err)
	}
	if _, signers, err := Signed(ForBundle, both); err != nil || len(signers) != 2 || !signers[1].Equal(publicOf("ines")[0]) {
		t.Errorf("it is said to be signed by %v, %v", signers, err)
	}
	bent := bytes.Clone(raw)
	bent[len(bent)-1] ^= 1
	for name, do := range map[string]func() error{
		"twice":                 func() error { _, err := SignToo(ForBundle, both, keyOf("maren")); return err },
		"changed":               func() error { _, err := SignToo(ForBundle, bent, keyOf("ines")); return err },
		"as something else":     func() error { _, err := SignToo(ForRelease, raw, keyOf("ines")); return err },
		"nothing":               func() error { _, err := SignToo(ForBundle, nil, keyOf("ines")); return err },
		"a changed one is told": func() error { _, _, err := Signed(ForBundle, bent); return err },
	} {
		if do() == nil {
			t.Errorf("%s: it is done", name)
		}
	}
	all := raw
	for i := range mostSigners {
		if all, err = SignToo(ForBundle, all, keyOf(fmt.Sprint("signer-", i))); (err != nil) != (i == mostSigners-1) {
			t.Errorf("signer %d: %v", i+2, err)
		}
	}
}
