package phrase

import (
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
)

// TestDues compares phrases with the dues in a data file.
func TestDues(t *testing.T) {
	text, err := os.ReadFile("testdata/dues.txt")
	if err != nil {
		t.Fatal(err)
	}
	zones := map[string]*calendar.Zone{}
	n := 0
	for line := range strings.Lines(string(text)) {
		f := strings.Split(strings.TrimSpace(line), " | ")
		if len(f) != 4 || strings.HasPrefix(line, "#") {
			continue
		}
		n++
		z := zones[f[0]]
		if z == nil {
			loc, err := time.LoadLocation(f[0])
			if err != nil {
				t.Fatal(err)
			}
			z = calendar.NewZone(loc)
			zones[f[0]] = z
		}
		p, err := Parse(f[2])
		if err != nil {
			t.Errorf("%s: %v", f[2], err)
			continue
		}
		plan, err := p.Compile(Env{Zone: z})
		if err != nil {
			t.Errorf("%s: %v", f[2], err)
			continue
		}
		day, err := calendar.ParseDay(f[1])
		if err != nil {
			t.Fatal(err)
		}
		at, _ := z.Start(day)
		at--
		var got []string
		want := strings.Fields(f[3])
		for range want {
			next, _, ok := plan.Next(at)
			if !ok {
				break
			}
			got, at = append(got, next.Time().In(z.Location()).Format("2006-01-02T15:04-0700")), next
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s in %s from %s:\n got %s\nwant %s", f[2], f[0], f[1], got, want)
		}
	}
	if n < 200 {
		t.Errorf("the file has %d cases, at least 200 are wanted", n)
	}
}

// TestSpans: what is due in two adjoining spans is what is due in both
// together; counting agrees with listing; going back undoes going on.
func TestSpans(t *testing.T) {
	loc, err := time.LoadLocation("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	zone := calendar.NewZone(loc)
	r := rand.New(rand.NewPCG(5, 6))
	from := calendar.InstantOf(time.Date(2026, 3, 1, 0, 0, 0, 0, loc))
	const span = 400 * 24 * 3600_000
	for range 300 {
		text := randomNaive(r, civil{2026, 1 + r.IntN(12), 1 + r.IntN(28)}).String()
		p, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		plan, err := p.Compile(Env{Zone: zone})
		if err != nil {
			continue // such as one whose days are all excepted
		}
		list := func(a, b calendar.Instant) []calendar.Instant {
			var out []calendar.Instant
			for at, _, ok := plan.Next(a - 1); ok && at <= b; at, _, ok = plan.Next(at) {
				if len(out) > 0 && at <= out[len(out)-1] {
					t.Fatalf("%s: %v is not after %v", text, at.Time(), out[len(out)-1].Time())
				}
				out = append(out, at)
			}
			return out
		}
		mid := from + calendar.Instant(r.Int64N(span))
		whole := list(from, from+span)
		if both := slices.Concat(list(from, mid), list(mid+1, from+span)); !slices.Equal(whole, both) {
			t.Errorf("%s: %d dues in two spans, %d in one", text, len(both), len(whole))
		}
		if n := plan.Count(from, from+span); n != int64(len(whole)) {
			t.Errorf("%s: Count = %d, listed are %d", text, n, len(whole))
		}
		if a, b := plan.Count(from, mid), plan.Count(mid+1, from+span); a+b != int64(len(whole)) {
			t.Errorf("%s: Count = %d and %d, listed are %d", text, a, b, len(whole))
		}
		for range min(20, len(whole)) {
			at := whole[r.IntN(len(whole))]
			prev, _, ok := plan.Prev(at)
			if !ok {
				continue
			}
			if next, _, _ := plan.Next(prev); next != at {
				t.Errorf("%s: after the one before %v comes %v", text, at.Time(), next.Time())
			}
		}
	}
}
