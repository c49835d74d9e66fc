package cli

import (
	"fmt"
	"time"

	"timegate/core/engine"
	"timegate/journal"
	"timegate/startup"
)

// costs returns what the runs of each gate take: the middle of its last ones, or what it
// took when it was tried by hand, where it has not run yet.
func (a *app) costs() (map[string]*startup.Cost, error) {
	out := map[string]*startup.Cost{}
	if !a.home.OfOthers() {
		tries, _ := a.home.Tries() // what cannot be read is not known
		for name, t := range tries {
			out[name] = costOf(0, t.Took, &t.Usage)
		}
	}
	known, err := a.recordedCosts()
	for name, c := range known {
		out[name] = costOf(c.Runs, c.Took, &c.Usage)
	}
	return out, err
}

// recordedCosts returns what the last runs of each gate took.
func (a *app) recordedCosts() (map[string]journal.Cost, error) {
	j, err := a.reader()
	if err != nil || j == nil {
		return nil, err
	}
	defer j.Close()
	return j.Costs()
}

func costOf(runs int, took time.Duration, u *engine.Usage) *startup.Cost {
	return &startup.Cost{Runs: runs, TookS: took.Seconds(), ProcessorS: float64(u.UserMS+u.SystemMS) / 1000, Memory: u.MaxRSS, ReadBytes: u.Read, WrittenBytes: u.Written}
}

// costText says what runs take.
func costText(c *startup.Cost) string {
	text := fmt.Sprintf("%s, %s processor", short(time.Duration(c.TookS*float64(time.Second))), short(time.Duration(c.ProcessorS*float64(time.Second))))
	if c.Memory > 0 {
		text += ", " + bytesText(c.Memory) + " memory"
	}
	text += fmt.Sprintf(", %s read, %s written", bytesText(c.ReadBytes), bytesText(c.WrittenBytes))
	switch c.Runs {
	case 0:
		return text + " (when it was tried)"
	case 1:
		return text + " (its one run)"
	}
	return text + fmt.Sprintf(" (the middle of %d runs)", c.Runs)
}
