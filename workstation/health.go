package workstation

// Health is how something is that a keeper depends on.
type Health struct {
	Name   string `json:"name"`
	State  string `json:"state"` // ok, note or wrong
	What   string `json:"what"`  // how it is, and what that means
	Remedy string `json:"remedy,omitempty"`
}

// The states of something that a keeper depends on.
const (
	HealthOK    = "ok"
	HealthNote  = "note"  // something will not be told, or done
	HealthWrong = "wrong" // the keeper cannot do its work
)
