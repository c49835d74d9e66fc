package estate

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"timegate/core/gate"
)

// ForTrial and ForForecast are the purposes of a bundle that is only tried out, and of what a
// workstation says of it.
const (
	ForTrial    Purpose = "trial"
	ForForecast Purpose = "forecast"
)

// Forecast is what a bundle would change on a workstation, by its own last days.
type Forecast struct {
	Shop   string         `json:"shop"`
	Host   string         `json:"host"`
	Number int64          `json:"number"` // of the trial
	At     time.Time      `json:"at"`
	Days   float64        `json:"days"` // that were replayed; 0 where nothing was recorded
	Code   string         `json:"code"` // why nothing can be said; "" where something can
	Gates  []GateForecast `json:"gates"`
	Unmet  []string       `json:"unmet"` // names of the bundle's days that do not come out here as they should
}

// GateForecast is what would change of a gate.
type GateForecast struct {
	Gate    string   `json:"gate"`
	Change  string   `json:"change"` // added, changed or removed
	New     int      `json:"new"`    // starts that there were not
	Lost    int      `json:"lost"`
	Moved   int      `json:"moved"`
	Refused []string `json:"refused"` // codes of what keeps it from being written
	Missing []string `json:"missing"` // paths that it needs, and that are not there
}

// What a forecast may hold: so many of each kind, and bytes.
const (
	mostOf       = 5000
	mostForecast = 2 << 20
)

// DecodeForecast reads the body of a sealed forecast of a host.
func DecodeForecast(body []byte, shop, host string) (*Forecast, error) {
	var f Forecast
	if len(body) > mostForecast {
		return nil, damaged("it is no forecast: %d bytes", len(body))
	}
	if err := decodeTold(body, &f); err != nil {
		return nil, damaged("it is no forecast: %v", err)
	}
	if f.Shop != shop || f.Host != host {
		return nil, damaged("it tells of %.80q in the shop %.80q", f.Host, f.Shop)
	}
	if f.Number < 1 || !(f.Days >= 0 && f.Days < 1000) || len(f.Gates)+len(f.Unmet) > mostOf {
		return nil, damaged("its figures cannot be")
	}
	for _, day := range f.Unmet {
		if !gate.ValidName(day) {
			return nil, damaged("it names %.80q as a day", day)
		}
	}
	for _, g := range f.Gates {
		if !gate.ValidName(g.Gate) || g.New < 0 || g.Lost < 0 || g.Moved < 0 || len(g.Refused)+len(g.Missing) > mostOf {
			return nil, damaged("what it says of %.80q cannot be", g.Gate)
		}
	}
	return &f, nil
}

const unmet = " does not come out as it should"

// lines says in words what would change.
func (f *Forecast) lines() []string {
	if f.Code != "" {
		return []string{"nothing can be said: " + InWords(f.Code)}
	}
	var out []string
	fewer, more, moved := 0, 0, 0
	for _, g := range f.Gates {
		more, fewer, moved = more+g.New, fewer+g.Lost, moved+g.Moved
		for _, code := range g.Refused {
			if code == Conflict {
				out = append(out, fmt.Sprintf("refused: a gate %s was made there; over = true in the folder's takes its place", g.Gate))
				continue
			}
			out = append(out, fmt.Sprintf("refused, for %s: %s", g.Gate, InWords(code)))
		}
		for _, path := range g.Missing {
			out = append(out, fmt.Sprintf("%s needs %s, which is not there", g.Gate, path))
		}
	}
	for _, day := range f.Unmet {
		out = append(out, "the day "+day+unmet)
	}
	refused := slices.ContainsFunc(f.Gates, func(g GateForecast) bool { return len(g.Refused) > 0 })
	switch {
	case refused && f.Days == 0:
		return out // then no days are played
	case f.Days == 0:
		return append(out, "no days were recorded that could be replayed")
	}
	perDay := func(n int, how string) string {
		switch r := math.Round(float64(n) / f.Days); {
		case r < 1:
			return "less than one " + how + "start a day"
		case r == 1:
			return "1 " + how + "start a day"
		case r >= 100: // two digits: what is nearly the same is told together
			unit := math.Pow(10, math.Floor(math.Log10(r))-1)
			return fmt.Sprintf("about %.0f %sstarts a day", math.Round(r/unit)*unit, how)
		default:
			return fmt.Sprintf("%.0f %sstarts a day", r, how)
		}
	}
	switch d := more - fewer; {
	case d > 0:
		out = append(out, perDay(d, "more "))
	case d < 0:
		out = append(out, perDay(-d, "fewer "))
	case len(f.Gates) == 0:
		out = append(out, "nothing changes")
	default:
		out = append(out, "as many starts as before")
	}
	if moved > 0 {
		out = append(out, perDay(moved, "")+" at another time")
	}
	return out
}

// SumLine is what would be so on some workstations.
type SumLine struct {
	Text  string   `json:"text"`
	Hosts []string `json:"hosts"`
}

// Sum says what would change, on how many workstations: what is so on the most of them comes
// first.
func Sum(forecasts []*Forecast) []SumLine {
	by := map[string][]string{}
	for _, f := range forecasts {
		for _, text := range slices.Compact(slices.Sorted(slices.Values(f.lines()))) {
			by[text] = append(by[text], f.Host)
		}
	}
	out := []SumLine{}
	for _, text := range slices.Sorted(maps.Keys(by)) {
		slices.Sort(by[text])
		out = append(out, SumLine{text, by[text]})
	}
	slices.SortStableFunc(out, func(a, b SumLine) int { return cmp.Compare(len(b.Hosts), len(a.Hosts)) })
	return out
}

// Bad reports whether a line is of something that keeps a bundle from doing what it should.
func (l *SumLine) Bad() bool {
	return strings.HasSuffix(l.Text, unmet) || strings.HasPrefix(l.Text, "refused") || strings.HasSuffix(l.Text, "which is not there") || strings.HasPrefix(l.Text, "nothing can be said")
}
