package estate

import (
	"context"
	"time"
	"timegate/core/estate"
)

// Keeper is what a workstation does with a bundle, and what it knows of itself.
type Keeper interface {
	// Apply brings a bundle's gates into force, all or nothing. An [*ApplyError] says why
	// it does not.
	Apply(b *estate.Bundle) error
	// Confirm waits until these gates are in force, given by name with the SHA-256 of their
	// texts, and says why they are not where the context ends.
	Confirm(ctx context.Context, files map[string]string) error
	// InForce reports whether they are now: a [*DiffersError] says which one is not, any
	// other error why that is not known.
	InForce(ctx context.Context, files map[string]string) error
	// Back takes back what was applied since an instant.
	Back(since time.Time) error
	// Forecast says what a bundle would change here, by the last days. It may take minutes.
	Forecast(ctx context.Context, b *estate.Bundle, f *estate.Forecast) error
	// Answer does what somebody may ask for, and fills in what came of it. It may take a while.
	Answer(ctx context.Context, r *estate.Request, a *estate.Answer) error
	// Gates returns the names of the gates in force, and how many are broken.
	Gates(ctx context.Context) (names []string, broken int, err error)
	// Look fills in what a report tells of the gates. Failures count from an instant on, and
	// are compared with those before it of the gates that there were.
	Look(ctx context.Context, r *estate.Report, since time.Time, had []string) error
}

// DiffersError says that a gate of a bundle is not in force as the bundle has it.
type DiffersError struct{ Gate, Why string }

func (e *DiffersError) Error() string { return "the gate " + e.Gate + ": " + e.Why }

// ApplyError is why a bundle is refused: a code for reports, and the reason for the log.
type ApplyError struct {
	Code string
	Err  error
}

func (e *ApplyError) Error() string { return e.Err.Error() }
func (e *ApplyError) Unwrap() error { return e.Err }

// Store is where a workstation keeps what it must not forget.
type Store interface {
	Load(s *State) error // leaves it alone where there is none
	Save(s *State) error
	// Told keeps the last report as it was told.
	Told(report []byte) error
	// Keep keeps a sealed bundle under a name, nil for none any more, and Kept returns it.
	Keep(name string, bundle []byte) error
	Kept(name string) ([]byte, error)
}
