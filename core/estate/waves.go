package estate

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"timegate/core/phrase"
)

// Plan is how a bundle comes to the workstations: in waves, each of which begins once the one
// before has been good for a time.
type Plan struct {
	Waves  []Wave        `json:"waves"`
	After  time.Duration `json:"after"` // from the beginning of a wave to that of the next
	Limits []Limit       `json:"limits"`
}

// Wave is how many workstations have a bundle with it, all waves before it counted: a number,
// a share, or all.
type Wave struct {
	Count   int     `json:"count,omitempty"`
	Percent float64 `json:"percent,omitempty"`
	Rest    bool    `json:"rest,omitempty"`
}

func (w Wave) String() string {
	switch {
	case w.Rest:
		return "rest"
	case w.Percent > 0:
		return strconv.FormatFloat(w.Percent, 'g', -1, 64) + "%"
	}
	return strconv.Itoa(w.Count)
}

// size is how many of some hosts have the bundle with a wave.
func (w Wave) size(hosts int) int {
	switch {
	case w.Rest:
		return hosts
	case w.Percent > 0:
		return min(hosts, int(math.Ceil(w.Percent*float64(hosts)/100)))
	}
	return min(hosts, w.Count)
}

// ParseWaves reads sizes such as "1,10%,rest".
func ParseWaves(text string) ([]Wave, error) {
	var out []Wave
	for part := range strings.SplitSeq(text, ",") {
		part = strings.TrimSpace(part)
		var w Wave
		if share, ok := strings.CutSuffix(part, "%"); ok {
			p, err := strconv.ParseFloat(share, 64)
			if err != nil || !(p > 0 && p <= 100) {
				return nil, fmt.Errorf("%q is no share: more than 0%% and at most 100%%", part)
			}
			w.Percent = p
		} else if part == "rest" {
			w.Rest = true
		} else if n, err := strconv.Atoi(part); err == nil && n > 0 {
			w.Count = n
		} else {
			return nil, fmt.Errorf("%q is no size of a wave; write for instance 1,10%%,rest", part)
		}
		out = append(out, w)
	}
	return out, Plan{Waves: out}.valid()
}

// Measure is what a [Limit] looks at.
type Measure string

// The measures, of the workstations that a wave has reached.
const (
	Failed Measure = "failed" // gates fail more often since the bundle came ([Worse])
	Broken Measure = "broken" // the bundle was refused, or taken back, or more gates are broken
	Silent Measure = "silent" // are on, and have told nothing [SilentAfter] the wave began
)

// SilentAfter is how long a workstation that is on may take to tell what became of a bundle.
const SilentAfter = 10 * time.Minute

// Limit stops the waves where a measure is above it.
type Limit struct {
	Of      Measure `json:"of"`
	Count   int     `json:"count"` // above so many workstations
	Percent float64 `json:"percent,omitempty"`
	Share   bool    `json:"share,omitempty"` // above this share of those that were reached, rather than Count
}

func (l Limit) String() string {
	if l.Share {
		return string(l.Of) + " > " + strconv.FormatFloat(l.Percent, 'g', -1, 64) + "%"
	}
	return string(l.Of) + " > " + strconv.Itoa(l.Count)
}

// ParseLimit reads a limit such as "failed > 1%" or "broken > 0".
func ParseLimit(text string) (Limit, error) {
	of, much, ok := strings.Cut(text, ">")
	l := Limit{Of: Measure(strings.TrimSpace(of))}
	if !ok || !slices.Contains([]Measure{Failed, Broken, Silent}, l.Of) {
		return l, fmt.Errorf(`%q is no limit; write for instance "failed > 1%%", "broken > 0" or "silent > 20%%"`, text)
	}
	much = strings.TrimSpace(much)
	share, isShare := strings.CutSuffix(much, "%")
	var err error
	if l.Share = isShare; isShare {
		l.Percent, err = strconv.ParseFloat(share, 64)
	} else {
		l.Count, err = strconv.Atoi(much)
	}
	if err != nil || l.Count < 0 || !(l.Percent >= 0 && l.Percent <= 100) {
		return l, fmt.Errorf("%q is no number of workstations, and no share such as 1%%", much)
	}
	return l, nil
}

// valid reports what is wrong with a plan. Its error is a [*MessageError].
func (p Plan) valid() error {
	if len(p.Waves) == 0 || len(p.Waves) > 100 {
		return damaged("it has no waves, or too many")
	}
	for i, w := range p.Waves {
		if last := i == len(p.Waves)-1; w.Rest != last || !w.Rest && w.Count < 1 && !(w.Percent > 0 && w.Percent <= 100) {
			return damaged("its last wave, and no other, must be the rest")
		}
	}
	if p.After < 0 {
		return damaged("the time between its waves is negative")
	}
	return nil
}

// Place is where a workstation stands in the order in which those of a shop get a bundle. It
// is another for each bundle, so that it is not always the same ones that are first.
func Place(shop string, number int64, host string) uint64 {
	text := shop + "\n" + strconv.FormatInt(number, 10) + "\n" + host
	s := sha256.Sum256([]byte(text))
	return binary.BigEndian.Uint64(s[:8])
}

// Reach is the last place that a wave of a bundle reaches among some hosts.
func (m *Manifest) Reach(wave int, hosts []string) uint64 {
	if m.Plan.Waves[wave].Rest {
		return math.MaxUint64
	}
	places := make([]uint64, 0, len(hosts))
	for _, h := range hosts {
		places = append(places, Place(m.Shop, m.Number, h))
	}
	slices.Sort(places)
	n := m.Plan.Waves[wave].size(len(places))
	if n == 0 {
		return 0
	}
	return places[n-1]
}

// Release lets a wave of a bundle begin. It is signed as the bundle is.
type Release struct {
	Shop   string `json:"shop"`
	Number int64  `json:"number"` // of the bundle
	// Digest is the bundle's ([Digest]): two that were made at once may have one number. "" of
	// an earlier version.
	Digest string    `json:"digest,omitempty"`
	Order  int64     `json:"order"` // of the shop's releases; it only grows
	Wave   int       `json:"wave"`  // from 0
	Reach  uint64    `json:"reach"` // the last [Place] that it reaches
	Began  time.Time `json:"began"` // the wave
	Held   bool      `json:"held"`  // nobody else takes the bundle
	Why    string    `json:"why"`   // it is held
	// Despite says why the waves go on although limits were passed, and Accepted what was
	// counted then: only what comes besides stops them again.
	Despite  string          `json:"despite,omitempty"`
	Accepted map[Measure]int `json:"accepted,omitempty"`
	// Desk is by chance for each desk, so that of two which release the same at once each knows
	// its own.
	Desk string `json:"desk,omitempty"`
}

// MostAhead is by how much a number or an order may be above the last one that is known: one
// that is far ahead would make every later one look old.
const MostAhead = 1_000_000

// DecodeRelease reads the body of a sealed release.
func DecodeRelease(body []byte) (*Release, error) {
	var r Release
	if err := decode(body, &r); err != nil {
		return nil, damaged("it is no release: %v", err)
	}
	if !ValidShop(r.Shop) || r.Number < 1 || r.Order < 1 || r.Wave < 0 {
		return nil, damaged("it is no release")
	}
	return &r, nil
}

// Reaches reports whether a workstation may take the bundle now.
func (r *Release) Reaches(host string) bool {
	return !r.Held && Place(r.Shop, r.Number, host) <= r.Reach
}

// Seen is what the one who watches the waves knows of a workstation.
type Seen struct {
	Host string
	On   bool      // it is connected
	Told time.Time // when it told the last time; zero for never
	Last *Report   // what; nil for nothing yet
}

// Verdict is what is to be done with the waves of a bundle.
type Verdict struct {
	Do     Step
	Until  time.Time // until when it is to be waited; zero where something must come first
	Why    string    // in words
	Counts Counts
}

// Step is what is done.
type Step string

// The steps.
const (
	Wait Step = "wait" // the wave has not been good for long enough
	Next Step = "next" // let the next wave begin
	Stop Step = "stop" // a limit is passed
	Done Step = "done" // the last wave has been good for long enough
)

// Counts are workstations that a wave has reached.
type Counts struct {
	Reached int `json:"reached"`
	Taken   int `json:"taken"`
	Pending int `json:"pending"` // are on, and may tell yet what became of it
	// First is when the first of them had taken it; zero where none has.
	First time.Time       `json:"first,omitzero"`
	Of    map[Measure]int `json:"of"`
}

// Count counts how the workstations do that a release has reached.
func (r *Release) Count(hosts []Seen, now time.Time) Counts {
	c := Counts{Of: map[Measure]int{}}
	for _, h := range hosts {
		if Place(r.Shop, r.Number, h.Host) > r.Reach {
			continue
		}
		c.Reached++
		switch last := h.Last; {
		case last == nil || last.Bundle.Number != r.Number:
			switch {
			case !h.On:
			case now.Sub(r.Began) <= SilentAfter:
				c.Pending++
			case !h.Told.After(r.Began):
				c.Of[Silent]++
			}
		case last.Bundle.State == Taking:
			c.Pending++
		case last.Bundle.State == Changed: // neither good nor a fault of the bundle's
		case last.Bundle.State != Taken:
			c.Of[Broken]++
		default:
			c.Taken++
			if at := last.Bundle.At; at != nil && (c.First.IsZero() || at.Before(c.First)) {
				c.First = *at
			}
			if last.Worse > 0 {
				c.Of[Failed]++
			}
			if last.Broken > last.Before {
				c.Of[Broken]++
			}
		}
	}
	return c
}

// Judge says what is to be done with a bundle that is released so far, by what its
// workstations have told.
func (m *Manifest) Judge(r *Release, hosts []Seen, now time.Time) Verdict {
	c := r.Count(hosts, now)
	for _, l := range m.Plan.Limits {
		n, most := c.Of[l.Of], float64(l.Count)
		if l.Share {
			most = l.Percent * float64(c.Reached) / 100
		}
		if float64(n) > max(most, float64(r.Accepted[l.Of])) {
			return Verdict{Do: Stop, Counts: c, Why: fmt.Sprintf("%s on %d of %d workstations: %s", l.Of, n, c.Reached, l)}
		}
	}
	// What is good is so from the first that has it, who may come late; what a workstation's
	// own clock says counts where it lies between the beginning of the wave and now.
	began, why := r.Began, "the wave was good"
	if c.First.After(began) && !c.First.After(now) {
		began = c.First
	}
	good := began.Add(m.Plan.After)
	last := r.Wave >= len(m.Plan.Waves)-1
	if c.Taken == 0 && c.Reached > 0 {
		if c.Pending > 0 || now.Before(r.Began.Add(SilentAfter)) {
			return Verdict{Do: Wait, Counts: c, Why: "no workstation of the wave has taken it yet"}
		}
		why = "nobody of the wave is there: they are left behind, and take it when they come"
	}
	switch {
	case now.Before(good):
		return Verdict{Do: Wait, Until: good, Counts: c, Why: fmt.Sprintf("the wave is to be good for %s", phrase.SpanWords(m.Plan.After))}
	case last:
		return Verdict{Do: Done, Counts: c, Why: "all waves have begun"}
	}
	return Verdict{Do: Next, Counts: c, Why: why}
}
