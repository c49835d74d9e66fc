package startup

import (
	"fmt"
	"math"
	"slices"
	"time"
)

// Beginning is a boot or a logon, how long it took until the machine was calm, and what
// was started meanwhile.
type Beginning struct {
	After string    `json:"after"` // boot or logon
	Name  string    `json:"name,omitempty"`
	Since time.Time `json:"since"`
	ForS  float64   `json:"for_s"` // until the machine was calm
	Calm  bool      `json:"calm"`  // false: it was not in that time
	// For how long some work had to wait in that span.
	ProcessorS float64 `json:"waited_processor_s"`
	DiskS      float64 `json:"waited_disk_s"`
	MemoryS    float64 `json:"waited_memory_s"`
	// UsualS is the middle of how long the earlier ones took, of which there were Earlier.
	UsualS  float64 `json:"usual_s"`
	Earlier int     `json:"earlier"`
	Starts  []Start `json:"starts"` // what took the most comes first
}

// Start is a start in a beginning.
type Start struct {
	Run     int64   `json:"run"`
	Gate    string  `json:"gate"`
	Opening string  `json:"opening"`
	AtS     float64 `json:"at_s"`   // since the beginning
	TookS   float64 `json:"took_s"` // or has taken so far
	Running bool    `json:"running"`
	// Prompt tells that it came with the beginning itself and can be put off.
	Prompt       bool    `json:"prompt"`
	ProcessorS   float64 `json:"processor_s"`
	Memory       int64   `json:"memory"`
	ReadBytes    int64   `json:"read"`
	WrittenBytes int64   `json:"written"`
}

// Order puts the starts that took the most first: by processor time, then by what went
// from and to disks.
func (b *Beginning) Order() {
	slices.SortStableFunc(b.Starts, func(x, y Start) int {
		switch a, b := x.weight(), y.weight(); {
		case a > b:
			return -1
		case a < b:
			return 1
		}
		return 0
	})
}

// weight is how much a start asks of the machine, in seconds of one processor: a disk of
// diskRate is as busy with so many bytes.
func (s *Start) weight() float64 { return s.ProcessorS + float64(s.ReadBytes+s.WrittenBytes)/diskRate }

const (
	diskRate = 100e6 // bytes a second, a plain disk's

	// soonCalm is how many seconds until a machine is calm need no advice.
	soonCalm = 15
	// heavy is the share of the time until the machine was calm above which a start is
	// worth putting off, and heavyLeast the seconds.
	heavy, heavyLeast = 0.1, 1.0
	// crowd is how many programs that start within a second are many, and crowded the
	// share of the time in which work had to wait above which that matters.
	crowd, crowded = 4, 0.3
	// apart is the room between starts that are put off, and what delays are rounded to.
	apart = 30 * time.Second
)

// Advice is what would make a beginning shorter.
type Advice struct {
	Text  string        `json:"text"`
	Gate  string        `json:"gate,omitempty"` // whose start is to be put off
	Open  string        `json:"opening,omitempty"`
	Delay time.Duration `json:"-"`
	// AtOnce is how many programs are to start at once; 0 is as many as now.
	AtOnce int `json:"at_once,omitempty"`
}

// Advise says which starts would better come later, or fewer at once. atOnce is how many
// start at once now, 0 for all.
func (b *Beginning) Advise(atOnce int) []Advice {
	if b.Calm && b.ForS < soonCalm {
		return nil
	}
	var out []Advice
	calm := time.Duration(b.ForS * float64(time.Second))
	if b.Earlier > 1 {
		calm = time.Duration(b.UsualS * float64(time.Second))
	}
	delay := time.Duration(math.Ceil(float64(calm)/float64(apart))) * apart
	for _, s := range b.Starts {
		if !s.Prompt || s.weight() < max(heavyLeast, heavy*b.ForS) {
			continue
		}
		out = append(out, Advice{Gate: s.Gate, Open: s.Opening, Delay: delay,
			Text: fmt.Sprintf("%s asks for %.0f s of processor and disk in the %.0f s until the machine is calm", s.Gate, s.weight(), b.ForS)})
		delay += apart
	}
	most := 0
	for _, s := range b.Starts {
		n := 0
		for _, o := range b.Starts {
			if o.AtS >= s.AtS && o.AtS < s.AtS+1 {
				n++
			}
		}
		most = max(most, n)
	}
	if waited := max(b.ProcessorS, b.DiskS, b.MemoryS); most >= crowd && waited > crowded*b.ForS && (atOnce == 0 || atOnce > 2) {
		out = append(out, Advice{AtOnce: 2, Text: fmt.Sprintf("%d programs start within a second, and work waits for %.0f of the %.0f s", most, waited, b.ForS)})
	}
	return out
}
