package estate

import "math"

// GateRuns are runs of a gate that have ended in some time.
type GateRuns struct {
	Runs int64
	Bad  int64 // of them, those that have not ended well
}

// byChance is how likely it may be at most that something is chance, and is said to be none.
const byChance = 0.05

// Worse counts the gates of which more runs have not ended well than the runs before let
// expect: where none had failed, one is enough; where some had, so many that chance hardly
// explains it.
func Worse(before, since map[string]GateRuns) int {
	n := 0
	for name, now := range since {
		if now.Bad > 0 && atLeast(now, before[name]) < byChance {
			n++
		}
	}
	return n
}

// atLeast is how likely it is that so many runs or more have not ended well, if each does so as
// often as those before (the upper tail of a binomial distribution).
func atLeast(now, before GateRuns) float64 {
	if before.Bad <= 0 || before.Runs <= 0 {
		return 0
	}
	p := min(float64(before.Bad)/float64(before.Runs), 1)
	if p == 1 {
		return 1
	}
	runs, sum := float64(now.Runs), 0.0
	choose := func(k float64) float64 { // its logarithm
		a, _ := math.Lgamma(runs + 1)
		b, _ := math.Lgamma(k + 1)
		c, _ := math.Lgamma(runs - k + 1)
		return a - b - c
	}
	for k := float64(now.Bad); k <= runs; k++ {
		term := math.Exp(choose(k) + k*math.Log(p) + (runs-k)*math.Log1p(-p))
		if sum += term; sum >= byChance || term < 1e-12 && k > p*runs {
			break // it is enough, or nothing more comes
		}
	}
	return sum
}
