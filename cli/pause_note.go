package cli

import (
	"context"
	"fmt"
	"strings"
	"time"
)

// pauseNow tells whether the gates are paused, and until when; the zero time for until
// somebody resumes them. A keeper says so, or what the last one has kept.
func (a *app) pauseNow(ctx context.Context) (until time.Time, paused bool) {
	if s, err := a.client.Status(ctx); err == nil {
		if s.PauseUntil != nil {
			until = *s.PauseUntil
		}
		return until, s.Paused
	}
	s, err := a.engineState()
	if err != nil || s.Machine.PausedAt == 0 {
		return until, false
	}
	if s.Machine.PauseUntil != 0 {
		until = s.Machine.PauseUntil.Time()
	}
	return until, true
}

// notePause adds to dues that they come while the gates are paused.
func (a *app) notePause(ctx context.Context, all []due) {
	until, paused := a.pauseNow(ctx)
	if !paused {
		return
	}
	for i := range all {
		if all[i].Gate != "" && (until.IsZero() || all[i].Due.Before(until)) {
			all[i].Note = strings.TrimPrefix(all[i].Note+"; skipped: the gates are paused", "; ")
		}
	}
}

// pauseText says of a pause what comes of it, or "" where there is none.
func (a *app) pauseText(ctx context.Context) string {
	until, paused := a.pauseNow(ctx)
	switch {
	case !paused:
		return ""
	case until.IsZero():
		return "the gates are paused: what is due is skipped until \"timegate resume\""
	}
	return fmt.Sprintf("the gates are paused: what is due before %s is skipped", a.localFar(until))
}
