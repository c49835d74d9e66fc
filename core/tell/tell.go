// Package tell decides what people are told of: once, and again when it is well again.
package tell

import (
	"net/mail"
	"slices"
	"strings"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/words"
)

// Kind is what people can be told of.
type Kind string

// The kinds.
const (
	Failed  Kind = "failed"  // a run failed, and is not tried again
	Overran Kind = "overran" // a run took longer than its limit
	Missed  Kind = "missed"  // the machine slept or was off at a moment
	Refused Kind = "refused" // a program is not safe to start
	Lost    Kind = "lost"    // nobody saw how a run ended
	Broken  Kind = "broken"  // a gate's file cannot be read
)

// Usual are those that people are told of where nothing else is said.
var Usual = []string{string(Failed), string(Overran), string(Refused), string(Lost), string(Broken)}

// Of returns what is told of a gate, where the settings say what is usual.
func Of(g *gate.Gate, usual []string) []string {
	var out []string
	for _, kind := range g.Tell.Of {
		if kind == gate.TellUsual {
			out = append(out, usual...)
		} else {
			out = append(out, kind)
		}
	}
	return out
}

// Notice is one thing that people are told.
type Notice struct {
	At   calendar.Instant `json:"at"`
	Gate string           `json:"gate"`         // "" for the machine itself
	As   string           `json:"as,omitempty"` // the account that the gate runs as, where that is not the keeper's own
	Kind Kind             `json:"kind,omitempty"`
	Well bool             `json:"well,omitempty"` // it is well again
	Run  int64            `json:"run,omitempty"`
	Text string           `json:"text"`
	// Command is the gate's own, which is to be told by.
	Command []string `json:"command,omitempty"`
}

// Line is the notice in a line.
func (n *Notice) Line() string {
	switch {
	case n.Gate == "":
		return n.Text
	case n.Well:
		return n.Gate + " is well again"
	case n.Kind == Broken:
		return n.Gate + " is broken: " + n.Text
	}
	return n.Gate + " " + map[Kind]string{Failed: "failed", Overran: "took too long", Missed: "was missed", Refused: "was refused", Lost: "was lost"}[n.Kind] + ": " + n.Text
}

// State is what has been told: it is kept over restarts.
type State struct {
	After int64           `json:"after"` // the number of the last event that was looked at
	Ill   map[string]Kind `json:"ill"`   // the gates that people were told of, and of what
}

// Decided returns what is to be told of the decisions of an event. of says what is told of a
// gate.
func (s *State) Decided(decisions []engine.Decision, of func(gate string) []string) []Notice {
	var out []Notice
	for i := range decisions {
		d := &decisions[i]
		kind, well := Kind(""), false
		switch {
		case d.Kind == engine.End && d.Result == engine.ResultOK:
			well = true
		case d.Kind == engine.End && d.Result == engine.ResultFailed && again(decisions, d.Gate):
			continue // not for good
		case d.Kind == engine.End, d.Kind == engine.Refuse, d.Kind == engine.Skip:
			kind = Kind(d.Result)
		default:
			continue
		}
		was := s.Ill[d.Gate]
		switch {
		case well && was != "" && was != Broken:
			delete(s.Ill, d.Gate)
			out = append(out, Notice{At: d.At, Gate: d.Gate, Well: true, Run: d.Run})
		case !well && kind != was && slices.Contains(of(d.Gate), string(kind)):
			s.ill(d.Gate, kind)
			out = append(out, Notice{At: d.At, Gate: d.Gate, Kind: kind, Run: d.Run, Text: words.Reason(d.Reason)})
		}
	}
	return out
}

// again reports whether a run of a gate will be tried again.
func again(decisions []engine.Decision, gate string) bool {
	return slices.ContainsFunc(decisions, func(d engine.Decision) bool {
		return d.Kind == engine.Wait && d.For == engine.ForRetry && d.Gate == gate
	})
}

func (s *State) ill(gate string, kind Kind) {
	if s.Ill == nil {
		s.Ill = map[string]Kind{}
	}
	s.Ill[gate] = kind
}

// Gates returns what is to be told of the gates as they are now: which of them are broken,
// and why. A gate that is no longer there is forgotten.
func (s *State) Gates(at calendar.Instant, broken map[string]string, there func(gate string) bool, of func(gate string) []string) []Notice {
	var out []Notice
	for gate, was := range s.Ill {
		_, is := broken[gate]
		switch {
		case !there(gate):
			delete(s.Ill, gate)
		case was == Broken && !is:
			delete(s.Ill, gate)
			out = append(out, Notice{At: at, Gate: gate, Well: true})
		}
	}
	for gate, why := range broken {
		if s.Ill[gate] != Broken && slices.Contains(of(gate), string(Broken)) {
			s.ill(gate, Broken)
			out = append(out, Notice{At: at, Gate: gate, Kind: Broken, Text: why})
		}
	}
	slices.SortFunc(out, func(a, b Notice) int { return strings.Compare(a.Gate, b.Gate) })
	return out
}

// ValidAddress reports whether mail can be sent to a text: one address, and nothing that
// the mail program would take for an option.
func ValidAddress(text string) bool {
	if strings.ContainsAny(text, " \t\r\n<>,") || strings.HasPrefix(text, "-") {
		return false
	}
	if !strings.Contains(text, "@") {
		return text != "" && words.Line(text) == text // an account of this machine
	}
	a, err := mail.ParseAddress(text)
	return err == nil && a.Address == text
}
