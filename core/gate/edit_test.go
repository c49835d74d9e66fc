package gate

import "testing"

// TestUnset takes keys away, and leaves all else as it was.
func TestUnset(t *testing.T) {
	for text, want := range map[string]string{
		"run = [\"/x\"]\n[as] # whose\nuser = \"maren\" # hers\ndesktop = true\n": "run = [\"/x\"]\n[as] # whose\ndesktop = true\n",
		"run = [\"/x\"]\nas.user = \"maren\"\n":                                   "run = [\"/x\"]\n",
		"as = { user = \"maren\" }\n":                                             "as = { }\n",
		"as = { user = \"maren\", desktop = true } # x\n":                         "as = { desktop = true } # x\n",
		"as = { desktop = true, user = \"maren\" }\n":                             "as = { desktop = true }\n",
		"as = { desktop = true, user = \"maren\", priority = \"low\" }\n":         "as = { desktop = true, priority = \"low\" }\n",
		"[as]\ndesktop = true\n":                                                  "[as]\ndesktop = true\n",
		"[as]\nuser = \"maren\"":                                                  "[as]\n",
	} {
		e := NewEdit([]byte(text))
		e.Unset("as.user")
		if got, err := e.Bytes(); err != nil || string(got) != want {
			t.Errorf("%q becomes %q, %v; want %q", text, got, err, want)
		}
		if err := NewEdit([]byte(text)).SetValue("as.user", ""); err != nil {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// TestNearName: what cannot be a name is near one that can.
func TestNearName(t *testing.T) {
	for name, want := range map[string]string{"Con Log": "con-log", "weekend_noon": "weekend-noon", "  A--b ": "a-b", "Über": "ber", "!!": "", "-x": "x", "good": "good"} {
		if got := NearName(name); got != want {
			t.Errorf("%q is near %q, want %q", name, got, want)
		}
	}
}
