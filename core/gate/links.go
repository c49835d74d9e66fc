package gate

import (
	"fmt"
	"slices"
	"strings"

	"timegate/core/phrase"
)

// link is an opening that waits for another gate.
type link struct {
	opening, to string
}

func linksOf(g *Gate) []link {
	var out []link
	for _, o := range g.Opens {
		switch e := o.Plan.Phrase.Event; {
		case o.Plan.Phrase.Kind != phrase.Event:
		case e.Kind == phrase.EndOf, e.Kind == phrase.FailureOf, e.Kind == phrase.StartOf:
			out = append(out, link{o.Name, e.Name})
		}
	}
	return out
}

// Links checks the openings that wait for other gates: one that waits for a
// gate that is not there, which is a warning, and gates that open each other
// in a circle, which is an error, as they would never come to rest.
func Links(gates []*Gate) Findings {
	byName := map[string]*Gate{}
	for _, g := range gates {
		byName[g.Name] = g
	}
	var out Findings
	for _, g := range gates {
		for _, l := range linksOf(g) {
			if byName[l.to] == nil {
				out = append(out, Finding{Gate: g.Name, Severity: Warning, Code: "no-such-gate",
					Message: fmt.Sprintf("opening %s waits for the gate %q, which is not there", l.opening, l.to), Remedy: nearGate(l.to, byName)})
			}
		}
		if circle := circleFrom(g, byName); circle != nil {
			out = append(out, Finding{Gate: g.Name, Severity: SevereError, Code: "circle",
				Message: "gates open each other in a circle: " + strings.Join(circle, " after "), Remedy: "take one of the openings out"})
		}
	}
	return out
}

func nearGate(name string, gates map[string]*Gate) string {
	var names []string
	for n := range gates {
		names = append(names, n)
	}
	slices.Sort(names)
	if near, ok := phrase.Nearest(name, names); ok {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return `see "timegate list" for the names`
}

// circleFrom returns the shortest way from a gate back to itself, or nil.
func circleFrom(start *Gate, gates map[string]*Gate) []string {
	from := map[string]string{}
	queue := []*Gate{start}
	for len(queue) > 0 {
		g := queue[0]
		queue = queue[1:]
		for _, l := range linksOf(g) {
			if l.to == start.Name {
				way := []string{start.Name}
				for n := g.Name; n != start.Name; n = from[n] {
					way = append([]string{n}, way...)
				}
				return append([]string{start.Name}, way...)
			}
			if _, seen := from[l.to]; !seen && gates[l.to] != nil {
				from[l.to] = g.Name
				queue = append(queue, gates[l.to])
			}
		}
	}
	return nil
}
