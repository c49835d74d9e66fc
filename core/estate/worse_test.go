package estate

import (
	"math/rand/v2"
	"testing"
)

// TestWorse: what fails as it always did is no bundle's fault; what fails anew, or much more
// often, is.
func TestWorse(t *testing.T) {
	for _, tt := range []struct {
		name          string
		before, since GateRuns
		worse         bool
	}{
		{"nothing ran", GateRuns{}, GateRuns{}, false},
		{"all is well", GateRuns{7, 0}, GateRuns{3, 0}, false},
		{"a new gate that fails", GateRuns{}, GateRuns{1, 1}, true},
		{"one that never failed", GateRuns{7, 0}, GateRuns{1, 1}, true},
		{"one that always fails", GateRuns{7, 7}, GateRuns{40, 40}, false},
		{"one that fails now and then, once", GateRuns{100, 10}, GateRuns{1, 1}, false},
		{"the same, twice of two", GateRuns{100, 10}, GateRuns{2, 2}, true},
		{"as often as before, of many", GateRuns{600_000, 60_000}, GateRuns{100_000, 10_000}, false},
		{"a little more often, of many", GateRuns{600_000, 60_000}, GateRuns{100_000, 10_500}, true},
		{"less often", GateRuns{600_000, 60_000}, GateRuns{100_000, 10}, false},
	} {
		if got := Worse(map[string]GateRuns{"vault-copy": tt.before}, map[string]GateRuns{"vault-copy": tt.since}) == 1; got != tt.worse {
			t.Errorf("%s: %v", tt.name, got)
		}
	}
	// Of a gate that goes on to fail as often as before, chance is said to be the bundle's fault
	// on at most so many workstations.
	const hosts, share = 4000, 0.2
	draw := rand.New(rand.NewPCG(11, 30))
	said := 0
	for range hosts {
		now := GateRuns{Runs: 20}
		for range now.Runs {
			if draw.Float64() < share {
				now.Bad++
			}
		}
		said += Worse(map[string]GateRuns{"vault-copy": {1000, 1000 * share}}, map[string]GateRuns{"vault-copy": now})
	}
	if float64(said) > byChance*hosts {
		t.Errorf("on %d of %d workstations it is said to be worse", said, hosts)
	}
}
