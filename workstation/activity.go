package workstation

import "time"

// Activity is what the living processes of a run have used so far, with those of
// their children that have ended.
type Activity struct {
	Processor time.Duration
	Memory    int64 // resident, bytes
	Processes int
}
