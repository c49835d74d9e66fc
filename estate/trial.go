package estate

import (
	"context"
	"encoding/json"
	"time"

	"timegate/core/estate"
)

// trial takes a sealed bundle that is only to be tried out: the newest one waits until the
// one before is done.
func (s *Station) trial(raw []byte) error {
	body, _, err := estate.Unseal(estate.ForTrial, raw, s.Trust, oneKey)
	if err != nil {
		return err
	}
	b, err := estate.Unpack(body)
	if err != nil {
		return err
	}
	holder := s.holder()
	if holder.Number = s.state.Tried; b.Refused(holder, time.Now()) != nil {
		return nil // it was tried out, or is for others
	}
	s.state.Tried = b.Number
	if err := s.Store.Save(&s.state); err != nil {
		return err
	}
	select {
	case <-s.trials: // an older one
	default:
	}
	s.trials <- b // nobody else sends
	return nil
}

// tryOut tries bundles out, one at a time, until the context ends.
func (s *Station) tryOut(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case b := <-s.trials:
			if err := s.forecast(ctx, b); err != nil && ctx.Err() == nil {
				s.Log.Warn("a trial cannot be told of", "error", err)
			}
		}
	}
}

// trialPatience is how long a trial may take.
const trialPatience = 10 * time.Minute

// forecast tries a bundle out, and tells what it would change.
func (s *Station) forecast(ctx context.Context, b *estate.Bundle) error {
	f := &estate.Forecast{Shop: s.Shop, Host: s.Host, Number: b.Number, At: time.Now().UTC()}
	wait, enough := context.WithTimeout(ctx, trialPatience)
	defer enough()
	if err := s.Keeper.Forecast(wait, b, f); err != nil {
		s.Log.Warn("a bundle could not be tried out", "error", err)
		f.Code, f.Gates = "trial", nil
		if wait.Err() != nil {
			f.Code = "too-long"
		}
	}
	body, err := json.Marshal(f)
	if err != nil {
		return err
	}
	raw, err := estate.Seal(estate.ForForecast, body, s.Key)
	if err != nil {
		return err
	}
	s.Publish(hostTopic+s.Host+forecastOf, raw, true)
	return nil
}

// Try lets the workstations that a bundle is for try it out.
func (d *Desk) Try(ctx context.Context, b *estate.Bundle, now time.Time, keys signers) error {
	b.Shop, b.Made = d.shop, now.UTC()
	d.mu.Lock()
	n := max(d.known.Trial, d.tried) + 1
	d.learn(func(k *Known) { k.Trial = max(k.Trial, n) })
	b.Number = n
	d.mu.Unlock()
	body, err := b.Pack()
	if err != nil {
		return err
	}
	raw, err := estate.Seal(estate.ForTrial, body, keys...)
	if err != nil {
		return err
	}
	if _, err := d.trusted(estate.ForTrial, raw, oneKey); err != nil {
		return err
	}
	return d.conn.Publish(ctx, trialTopic, raw, true)
}

// Tried returns what workstations have said of a trial, and how many it is for: those that are
// on, and all.
func (d *Desk) Tried(m *estate.Manifest) (said []*estate.Forecast, on, all int) {
	seen, names := d.in(m)
	for _, h := range seen {
		if h.On {
			on++
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, name := range names {
		if f := d.forecasts[name]; f != nil && f.Number == m.Number {
			said = append(said, f)
		}
	}
	return said, on, len(names)
}
