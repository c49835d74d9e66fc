package zones

import (
	"strings"
	"testing"
)

func TestFind(t *testing.T) {
	for _, name := range Names() {
		if z, err := Find(name); err != nil || z.Name() != name {
			t.Errorf("Find(%q) = %v, %v", name, z, err)
		}
	}
	for name, want := range map[string]string{
		"Europe/Londn": "did you mean Europe/London?", "europe/london": "Europe/London", "London": "Europe/London", "America/Kolkata": "Asia/Kolkata",
		"Nowhere/Atall": "names such as", "": "no time zone", "../etc/passwd": "no time zone", "Local": "no time zone",
	} {
		if _, err := Find(name); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("Find(%q) = %v, want …%s…", name, err, want)
		}
	}
}

func TestLocalName(t *testing.T) {
	for tz, want := range map[string]string{"Europe/Paris": "Europe/Paris", ":Asia/Tokyo": "Asia/Tokyo", "": "UTC"} {
		t.Setenv("TZ", tz)
		if got := localName(); got != want {
			t.Errorf("TZ=%q gives %q, want %q", tz, got, want)
		}
	}
}
