package estate

import (
	"context"
	"crypto/sha256"
	"slices"
	"time"
	"timegate/core/estate"
)

// shown are digests of what a broker has shown lately.
type shown struct{ list []shownOne }

type shownOne struct {
	sum    [sha256.Size]byte
	counts bool // it was later than what was there before it
}

const mostShown = 256

func (s *shown) note(raw []byte, counts bool) {
	if len(s.list) == mostShown {
		s.list = slices.Delete(s.list, 0, mostShown/2)
	}
	s.list = append(s.list, shownOne{sha256.Sum256(raw), counts})
}

// has reports whether something was shown, and whether it counted then.
func (s *shown) has(raw []byte) (there, counted bool) {
	sum := sha256.Sum256(raw)
	for _, one := range s.list {
		if one.sum == sum {
			there, counted = true, counted || one.counts
		}
	}
	return there, counted
}

// shownWithin is how long a broker may take to show what was published.
const shownWithin = 20 * time.Second

// put publishes what the broker is to keep, and waits until it shows it: what another desk has
// published before is known then. It reports whether it counted when it was shown; another
// desk may have published a later one since.
func (d *Desk) put(ctx context.Context, topic string, raw []byte) (counted bool, err error) {
	if err := d.conn.Publish(ctx, topic, raw, true); err != nil {
		return false, err
	}
	ctx, enough := context.WithTimeout(ctx, shownWithin)
	defer enough()
	const look = 20 * time.Millisecond // somebody else may have taken the news
	for {
		d.mu.Lock()
		there, counted := d.shown.has(raw)
		d.mu.Unlock()
		if there {
			return counted, nil
		}
		select {
		case <-ctx.Done():
			return false, &BrokerError{"the broker does not show what was published"}
		case <-time.After(look):
		}
	}
}

// remind tells the broker what it has forgotten.
func (d *Desk) remind(ctx context.Context) error {
	for _, one := range []struct {
		topic string
		raw   []byte
		take  func([]byte)
		has   func() int64
	}{
		{bundleTopic, d.known.Bundle, d.takeBundle, func() int64 {
			if d.bundle == nil {
				return 0
			}
			return d.bundle.Number
		}},
		{releaseTopic, d.known.Release, d.takeRelease, func() int64 {
			if d.release == nil {
				return 0
			}
			return d.release.Order
		}},
	} {
		if one.raw == nil {
			continue
		}
		d.mu.Lock()
		before := one.has()
		one.take(one.raw)
		forgot := one.has() > before
		d.mu.Unlock()
		if !forgot {
			continue
		}
		if err := d.conn.Publish(ctx, one.topic, one.raw, true); err != nil {
			return d.unreached(err)
		}
	}
	return d.remindOfReleased(ctx)
}

// remindOfReleased shows the bundle again that is released, where the broker keeps another one
// with its number: a desk that has made both may have died in between.
func (d *Desk) remindOfReleased(ctx context.Context) error {
	d.mu.Lock()
	raw, r := d.known.Bundle, d.release
	body, _, err := estate.Unseal(estate.ForBundle, raw, d.trust, d.need)
	if raw == nil || err != nil || r == nil || r.Digest == "" || r.Digest == d.digest || estate.Digest(body) != r.Digest {
		d.mu.Unlock()
		return nil
	}
	b, err := estate.Unpack(body)
	if err != nil {
		d.mu.Unlock()
		return err
	}
	d.bundle, d.sealed, d.digest = b, raw, r.Digest
	d.mu.Unlock()
	if err := d.conn.Publish(ctx, bundleTopic, raw, true); err != nil {
		return d.unreached(err)
	}
	return nil
}
