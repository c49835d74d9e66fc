package home

import (
	"path/filepath"
	"strconv"
	"strings"
)

// runsFile holds a number that no run of this home has reached yet.
func (h Home) runsFile() string { return filepath.Join(h.State, "runs") }

// FirstRun is the least number that is sure to be free, whatever became of the
// journal; 0 where nothing is known.
func (h Home) FirstRun() int64 {
	const longest = 24
	text, err := ReadPlain(h.runsFile(), longest)
	if err != nil {
		return 0
	}
	n, _ := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	return max(n, 0)
}

// ReserveRuns notes that numbers below one may be given.
func (h Home) ReserveRuns(below int64) error {
	return Replace(h.runsFile(), []byte(strconv.FormatInt(below, 10)+"\n"), 0o600)
}
