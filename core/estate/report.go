package estate

import (
	"crypto/ed25519"
	"encoding/base64"
	"time"

	"timegate/core/gate"
)

// BundleState is what became of a bundle on a workstation.
type BundleState string

// The states.
const (
	Taking  BundleState = "taking"  // it is being taken: what is in force is not known yet
	Taken   BundleState = "taken"   // its gates are in force
	Changed BundleState = "changed" // it was taken, and a gate of it is not in force now as the bundle has it
	Refused BundleState = "refused" // it is not taken; the code says why
	Back    BundleState = "back"    // it was taken, and taken back because the keeper did not come up with it
)

// Report is what a workstation tells of itself: names of gates, results, codes of reasons
// and figures, and nothing of what people do there, unless its settings permit [Details].
type Report struct {
	Shop   string    `json:"shop"`
	Host   string    `json:"host"`
	Number int64     `json:"number"` // of the host's reports; it only grows
	At     time.Time `json:"at"`

	Version string   `json:"version"` // of its Time Gate
	System  string   `json:"system"`  // such as linux/amd64
	Groups  []string `json:"groups"`

	Bundle   BundleReport `json:"bundle"`
	Gates    int          `json:"gates"`
	Broken   int          `json:"broken"` // of them
	Before   int          `json:"before"` // of them, so many were when the bundle came
	Running  int          `json:"running"`
	Failed   int          `json:"failed"`             // runs since the bundle was taken
	Worse    int          `json:"worse"`              // gates that fail more often since then ([Worse])
	Next     *time.Time   `json:"next,omitempty"`     // the next due
	Failures []Failure    `json:"failures,omitempty"` // the latest, newest first
}

// BundleReport is what became of a bundle.
type BundleReport struct {
	Number int64       `json:"number"` // 0 for none yet
	State  BundleState `json:"state,omitempty"`
	Code   string      `json:"code,omitempty"` // why it is refused or was taken back
	At     *time.Time  `json:"at,omitempty"`
	// Before is the number of the bundle to which the workstation would go back, 0 for to none;
	// nil where it does not know, or has taken none.
	Before *int64 `json:"before,omitempty"`
}

// Failure is a run that did not end well.
type Failure struct {
	Gate   string    `json:"gate"`
	Run    int64     `json:"run"`
	At     time.Time `json:"at"`
	Result string    `json:"result"`
	Code   string    `json:"code"` // of the reason
	Status int       `json:"status,omitempty"`
	// Only where the workstation permits [Details]: of each at most [MostDetail] bytes.
	Text    string `json:"text,omitempty"` // the reason in words
	As      string `json:"as,omitempty"`   // the account
	Command string `json:"command,omitempty"`
}

// MostDetail is how many bytes a detail of a failure has at most.
const MostDetail = 500

// MostFailures is how many failures a report has at most.
const MostFailures = 20

// How many bytes a report has at most, and a request to be let in: one that may speak for itself
// alone must not fill the desk's memory.
const (
	mostReport  = 256 << 10
	mostJoining = 16 << 10
)

// DecodeReport reads the body of a sealed report of a host. What is not as it should be, or
// of another host, is an error.
func DecodeReport(body []byte, shop, host string) (*Report, error) {
	var r Report
	if len(body) > mostReport {
		return nil, damaged("it is no report: %d bytes", len(body))
	}
	if err := decodeTold(body, &r); err != nil {
		return nil, damaged("it is no report: %v", err)
	}
	switch {
	case r.Shop != shop || r.Host != host:
		return nil, damaged("it tells of %.80q in the shop %.80q", r.Host, r.Shop)
	case r.Number < 1 || r.Gates < 0 || r.Broken < 0 || r.Before < 0 || r.Failed < 0 || r.Worse < 0 || len(r.Failures) > MostFailures || len(r.Groups) > MostGroups:
		return nil, damaged("its figures cannot be")
	}
	for _, f := range r.Failures {
		if !gate.ValidName(f.Gate) {
			return nil, damaged("it names %.80q as a gate", f.Gate)
		}
		if max(len(f.Text), len(f.As), len(f.Command)) > 4*MostDetail { // control characters are written out
			return nil, damaged("it tells more of %s than there is room for", f.Gate)
		}
	}
	return &r, nil
}

// MostGroups is in how many groups a workstation can be.
const MostGroups = 32

// Joining is how a workstation asks to be let in. It is sealed by its own key, which nobody
// knows yet: an administrator compares the fingerprint.
type Joining struct {
	Shop   string    `json:"shop"`
	Host   string    `json:"host"`
	Key    string    `json:"key"` // base64
	Groups []string  `json:"groups"`
	At     time.Time `json:"at"`
}

// AsksWith reports whether a sealed request to be let in is said to be by a key; whether it
// is, it does not look.
func AsksWith(raw []byte, key ed25519.PublicKey) bool {
	return len(raw) >= len(sealMark)+1+signerSize && key.Equal(ed25519.PublicKey(raw[len(sealMark)+1:][:ed25519.PublicKeySize]))
}

// OpenJoining reads a sealed request of a host to be let in, and returns its key.
func OpenJoining(raw []byte, shop, host string) (*Joining, ed25519.PublicKey, error) {
	if len(raw) < len(sealMark)+1+signerSize {
		return nil, nil, &SealError{"it is no whole sealed message"}
	}
	if len(raw) > mostJoining {
		return nil, nil, damaged("it is no request to be let in: %d bytes", len(raw))
	}
	key := ed25519.PublicKey(raw[len(sealMark)+1:][:ed25519.PublicKeySize])
	body, _, err := Unseal(ForJoining, raw, []ed25519.PublicKey{key}, 1)
	if err != nil {
		return nil, nil, err
	}
	var j Joining
	if err := decodeTold(body, &j); err != nil {
		return nil, nil, damaged("it is no request to be let in: %v", err)
	}
	if j.Shop != shop || j.Host != host || j.Key != base64.StdEncoding.EncodeToString(key) || len(j.Groups) > MostGroups {
		return nil, nil, damaged("it asks for %.80q in the shop %.80q, or for another key", j.Host, j.Shop)
	}
	return &j, key, nil
}

// ValidHost reports whether a name can be a workstation's: a label or labels of RFC 1123,
// section 2.1. It stands in topics and paths.
func ValidHost(name string) bool {
	if name == "" || len(name) > 253 {
		return false
	}
	for i, r := range name {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9'
		if !letter && (i == 0 || r != '-' && r != '.') {
			return false
		}
	}
	return true
}
