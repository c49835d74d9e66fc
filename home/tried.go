package home

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"timegate/core/engine"
)

// Tried is what a good try of a gate by hand took: until the keeper has started it, that
// is all that is known of how long it runs.
type Tried struct {
	At    time.Time     `json:"at"`
	Took  time.Duration `json:"took_ns"`
	Usage engine.Usage  `json:"usage"`
}

// mostTried is of how many gates the last try is kept.
const mostTried = 1000

func (h Home) triedFile() string { return filepath.Join(h.State, "tried.json") }

// Tries returns the last good try of each gate.
func (h Home) Tries() (map[string]Tried, error) {
	out := map[string]Tried{}
	data, err := os.ReadFile(h.triedFile())
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &out)
	}
	if err != nil {
		return map[string]Tried{}, &Error{Path: h.triedFile(), Reason: err.Error(), Remedy: "take it away: only what tries took is in it", Err: err}
	}
	return out, nil
}

// NoteTried keeps what a try took, in the place of an earlier one.
func (h Home) NoteTried(gate string, t Tried) error {
	all, err := h.Tries()
	if err != nil {
		return err
	}
	all[gate] = t
	for len(all) > mostTried {
		oldest := gate
		for name, o := range all {
			if o.At.Before(all[oldest].At) {
				oldest = name
			}
		}
		delete(all, oldest)
	}
	data, err := json.Marshal(all)
	if err != nil {
		return err
	}
	return Replace(h.triedFile(), data, 0o600)
}
