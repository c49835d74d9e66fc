package estate

import (
	"encoding/json"
	"strings"
	"testing"
)

func TestSum(t *testing.T) {
	week := func(host string, gates ...GateForecast) *Forecast {
		return &Forecast{Shop: "larkspur", Host: host, Number: 1, At: made, Days: 7, Gates: gates}
	}
	more := GateForecast{Gate: "humidity-log", Change: "changed", New: 21}
	vault := GateForecast{Gate: "vault-copy", Change: "added", Missing: []string{"/media/vault"}}
	got := Sum([]*Forecast{
		week("front-desk", more), week("studio-laptop", more, vault),
		week("press-room", GateForecast{Gate: "glue-warm", Change: "added", Refused: []string{"path-hazard"}}, GateForecast{Gate: "job-board", Change: "changed", New: 7, Lost: 35, Moved: 2}),
		week("bench-1"), {Host: "bench-6", Number: 1, Gates: []GateForecast{{Gate: "glue-warm", Refused: []string{"path-hazard"}}}}, week("bench-4", GateForecast{Gate: "job-board", New: 120_800}), week("bench-5", GateForecast{Gate: "job-board", New: 120_862}), {Host: "bench-2", Number: 1}, {Host: "bench-3", Number: 1, Code: "too-long"}, {Host: "bench-7", Number: 1, Days: 7, Unmet: []string{"monday"}},
	})
	var lines []string
	for _, l := range got {
		lines = append(lines, l.Text+": "+strings.Join(l.Hosts, " "))
		if bad := strings.Contains(l.Text, "refused") || strings.Contains(l.Text, "needs") || strings.Contains(l.Text, "nothing can") || strings.Contains(l.Text, "monday"); l.Bad() != bad {
			t.Errorf("%q: bad is %v", l.Text, l.Bad())
		}
	}
	want := []string{
		"3 more starts a day: front-desk studio-laptop",
		"about 17000 more starts a day: bench-4 bench-5",
		"nothing changes: bench-1 bench-7",
		"refused, for glue-warm: others could change what root would start (path-hazard): bench-6 press-room",
		"4 fewer starts a day: press-room",
		"less than one start a day at another time: press-room",
		"no days were recorded that could be replayed: bench-2",
		"nothing can be said: it could not be looked at in time (too-long): bench-3",
		"the day monday does not come out as it should: bench-7",
		"vault-copy needs /media/vault, which is not there: studio-laptop",
	}
	if strings.Join(lines, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(lines, "\n"), strings.Join(want, "\n"))
	}
}

func TestDecodeForecast(t *testing.T) {
	for name, change := range map[string]func(f *Forecast){
		"": func(*Forecast) {}, "another host": func(f *Forecast) { f.Host = "front-desk" }, "number 0": func(f *Forecast) { f.Number = 0 }, "negative days": func(f *Forecast) { f.Days = -1 },
		"a negative count": func(f *Forecast) { f.Gates[0].Lost = -1 }, "a wrong name": func(f *Forecast) { f.Gates[0].Gate = "x\x1b" }, "a wrong day": func(f *Forecast) { f.Unmet = []string{"../x"} }, "too much": func(f *Forecast) { f.Gates = make([]GateForecast, mostOf+1) },
	} {
		f := &Forecast{Shop: "larkspur", Host: "press-room", Number: 1, Days: 7, Gates: []GateForecast{{Gate: "glue-warm", New: 2}}}
		change(f)
		data, err := json.Marshal(f)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := DecodeForecast(data, "larkspur", "press-room"); (err == nil) != (name == "") {
			t.Errorf("%q: %v", name, err)
		}
	}
}
