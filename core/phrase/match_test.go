package phrase

import "testing"

// TestLevel: a limit is crossed once, and again only after it has recovered.
func TestLevel(t *testing.T) {
	const total = 1000
	for _, tt := range []struct {
		limit string
		free  []int64
		want  string // x where it is told
	}{
		{"100B", []int64{500, 101, 100, 99, 50, 100, 109, 99, 110, 99, 98}, "...x.....x."},
		{"100B", []int64{10, 10, 500, 10}, "x..x"},
		{"10%", []int64{100, 99, 105, 99, 200, 0}, ".x...x"},
		{"1B", []int64{1, 0, 1, 0, 2, 0}, ".x.x.x"},
	} {
		limit, ok := ParseAmount(tt.limit)
		if !ok {
			t.Fatal(tt.limit)
		}
		var l Level
		got := ""
		for _, free := range tt.free {
			if l.Fell(limit, free, total) {
				got += "x"
			} else {
				got += "."
			}
		}
		if got != tt.want {
			t.Errorf("below %s, free %v: told %s, want %s", tt.limit, tt.free, got, tt.want)
		}
	}
}

// TestMatches: what a path, a device or a change is for, as it may be written.
func TestMatches(t *testing.T) {
	for _, tt := range []struct {
		spec, told string
		want       bool
	}{
		{"mount /media/vault/", "/media/vault", true},
		{"mount /media/vault", "/media/vault/", true},
		{"mount /media/vault", "/media/vault/jobs", false},
		{"unmount /media//vault", "/media/vault", true},
		{"mount /", "/", true},
		{"device label-*", "label-printer", true},
		{"device label-?", "label-printer", false},
		{"change in /srv/proofs", "/srv/proofs/a/b", true},
		{"change in /srv/proofs/", "/srv/proofs", true},
		{"change in /srv/proofs", "/srv/proofs2/a", false},
		{"change in /", "/a", true},
		{"change in /srv/proofs matching *.pdf", "/srv/proofs/a/b.pdf", true},
		{"change in /srv/proofs matching *.pdf", "/srv/proofs/a.txt", false},
		{"change in /srv/proofs matching new/*.pdf", "/srv/proofs/new/a.pdf", true},
		{"change in /srv/proofs matching new/*.pdf", "/srv/proofs/old/new/a.pdf", false},
		{"change in /srv/a, /srv/b matching b/*", "/srv/b/b/x", true},
	} {
		p, err := Parse(tt.spec)
		if err != nil {
			t.Fatal(err)
		}
		got := false
		switch e := &p.Event; e.Kind {
		case Mount, Unmount:
			got = e.MountedAt(tt.told)
		case Device:
			got = e.Attaches("other", tt.told)
		case Change:
			got = e.ChangedBelow(tt.told, e.Paths...)
		}
		if got != tt.want {
			t.Errorf("%s is told %s: %v", tt.spec, tt.told, got)
		}
	}
}
