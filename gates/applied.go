package gates

import (
	"encoding/json"
	"path/filepath"
	"slices"

	"timegate/home"
)

// applied is what the last source has brought here.
type applied struct {
	Gates []string `json:"gates"`
	// Replaced are the texts of gates that were here before one of the source took their place,
	// by name: they come back when it goes.
	Replaced map[string]string `json:"replaced,omitempty"`
}

func appliedFile(h home.Home) string { return filepath.Join(h.State, "applied.json") }

func readApplied(h home.Home) (applied, error) {
	var a applied
	state, err := home.StateOf(appliedFile(h), longestOther)
	if err != nil || state == nil {
		return a, err
	}
	if err := json.Unmarshal(state.Text, &a); err != nil {
		return a, &home.Error{Path: appliedFile(h), Reason: "it cannot be read: " + err.Error(), Remedy: "take it away: nothing is pruned then that was brought before", Err: err}
	}
	return a, nil
}

// noteApplied keeps in a plan what it brings.
func (p *Plan) noteApplied(a applied) error {
	data, err := json.Marshal(a)
	if err == nil {
		p.PutOther(OtherChange{Path: appliedFile(p.home), After: &home.State{Text: append(data, '\n'), Mode: 0o600}})
	}
	return err
}

// Noted reports whether a file is one of the plan's own notes, of which nobody needs to
// be told.
func (p *Plan) Noted(path string) bool { return path == appliedFile(p.home) }

// FromSource reports whether a plan brings a source, or takes one back.
func (p *Plan) FromSource() bool {
	return slices.ContainsFunc(p.others, func(o OtherChange) bool { return p.Noted(o.Path) })
}
