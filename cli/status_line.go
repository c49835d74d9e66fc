package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"timegate/control"
	"timegate/core/engine"
	"timegate/core/phrase"
)

// statusLine says in one line how the gates are, for a panel or a prompt: how many are on,
// what runs, what comes next and what failed last. Without a keeper it says so, and the error
// is [control.ErrNoKeeper].
func (a *app) statusLine(ctx context.Context) (string, error) {
	s, err := a.client.Status(ctx)
	if errors.Is(err, control.ErrNoKeeper) {
		return "no keeper", err
	}
	if err != nil {
		return "", err
	}
	files, err := a.files()
	if err != nil {
		return "", err
	}
	rows, err := a.listed(ctx, files)
	if err != nil {
		return "", err
	}
	on, broken, failed, next := 0, len(s.Broken), []string{}, (*listed)(nil)
	for i, r := range rows {
		if r.Enabled && r.Error == "" {
			on++
		}
		if r.Last != nil && (r.Last.Result == engine.ResultFailed || r.Last.Result == engine.ResultOverran || r.Last.Result == engine.ResultRefused) && r.Enabled {
			failed = append(failed, r.Name)
		}
		if r.Next != nil && (next == nil || r.Next.Before(*next.Next)) {
			next = &rows[i]
		}
	}
	parts := []string{fmt.Sprintf("%d on", on)}
	if s.Running > 0 {
		parts = append(parts, fmt.Sprintf("%d running", s.Running))
	}
	switch {
	case s.Paused && s.PauseUntil != nil:
		parts = append(parts, "paused until "+s.PauseUntil.In(a.zone.Location()).Format("15:04"))
	case s.Paused:
		parts = append(parts, "paused")
	case next != nil:
		parts = append(parts, fmt.Sprintf("next %s in %s", next.Name, roughly(next.Next.Sub(s.Now))))
	}
	switch len(failed) {
	case 0:
	case 1:
		parts = append(parts, failed[0]+" failed")
	default:
		parts = append(parts, fmt.Sprintf("%d failed", len(failed)))
	}
	if broken > 0 {
		parts = append(parts, fmt.Sprintf("%d broken", broken))
	}
	return strings.Join(parts, ", "), nil
}

// roughly says a span as a glance wants it: in its largest unit, and below a minute as that.
func roughly(d time.Duration) string {
	const day = 24 * time.Hour
	switch {
	case d < time.Minute:
		return "less than a minute"
	case d < time.Hour:
		return phrase.SpanWords(d.Truncate(time.Minute))
	case d < day:
		return phrase.SpanWords(d.Truncate(time.Hour))
	}
	return plural(int(d/day), "day")
}

// followLine prints the line anew whenever it is another, until the context ends.
func (a *app) followLine(ctx context.Context) error {
	a.lasts()
	before := ""
	show := func() error {
		line, err := a.statusLine(ctx)
		if err != nil && !errors.Is(err, control.ErrNoKeeper) || line == before || ctx.Err() != nil {
			return nil // it is told again when it can be
		}
		before = line
		_, err = fmt.Fprintln(a.out, line)
		return err
	}
	changed := make(chan struct{}, 1)
	const again = 5 * time.Second // a keeper that is not there is looked for again
	go func() {
		for ctx.Err() == nil {
			if s, err := a.client.Status(ctx); err == nil {
				a.client.Follow(ctx, s.Last, func(control.Item) error {
					select {
					case changed <- struct{}{}:
					default:
					}
					return nil
				})
			}
			select {
			case <-ctx.Done():
			case <-time.After(again):
			}
		}
	}()
	tick := time.NewTicker(again)
	defer tick.Stop()
	for {
		if err := show(); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-changed:
		case <-tick.C:
		}
	}
}
