package estate

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"timegate/core/estate"
)

// oneKey is how many of the trusted keys must have signed what brings nothing that could be
// started: releases, and trials.
const oneKey = 1

// signers are keys that sign.
type signers = []ed25519.PrivateKey

// Make makes a bundle of the shop with a number of its own, signed by keys: enough of them, or
// fewer where others are to sign it, too.
func (d *Desk) Make(b *estate.Bundle, now time.Time, keys signers) ([]byte, error) {
	last, _ := d.Bundle()
	b.Shop, b.Number, b.Made = d.shop, d.next(last), now.UTC()
	body, err := b.Pack()
	if err != nil {
		return nil, err
	}
	if _, err := estate.Unpack(body); err != nil { // as every workstation will
		return nil, err
	}
	return estate.Seal(estate.ForBundle, body, keys...)
}

// OvertakenError says that another desk has published since a bundle was made, and that theirs
// counts.
type OvertakenError struct{ Number int64 }

func (e *OvertakenError) Error() string {
	return fmt.Sprintf("bundle %d was published since this one was made, and counts: make it anew", e.Number)
}

// Publish makes a bundle that was made and signed the shop's, and lets its first wave begin.
// Where another desk was first, nothing is released, and the error is an [*OvertakenError].
func (d *Desk) Publish(ctx context.Context, raw []byte, now time.Time, keys signers) (*estate.Release, error) {
	b, digest, err := d.mayPublish(raw, now)
	if err != nil {
		return nil, err
	}
	_, release := d.Bundle()
	_, names := d.in(&b.Manifest)
	next := &estate.Release{Shop: d.shop, Number: b.Number, Digest: digest, Order: d.order(release), Reach: b.Reach(0, names), Began: now.UTC()}
	if _, err := d.sealRelease(next, keys); err != nil { // before anybody sees the bundle
		return nil, err
	}
	if _, err := d.put(ctx, bundleTopic, raw); err != nil {
		return nil, err
	}
	d.mu.Lock()
	first := bytes.Equal(d.sealed, raw)
	if first {
		d.learn(func(k *Known) { k.Bundle = raw })
	}
	d.mu.Unlock()
	if !first {
		return nil, &OvertakenError{b.Number}
	}
	return next, d.send(ctx, next, keys)
}

// mayPublish reads a sealed bundle, which the workstations must be able to take now.
func (d *Desk) mayPublish(raw []byte, now time.Time) (b *estate.Bundle, digest string, err error) {
	body, err := d.trusted(estate.ForBundle, raw, d.need)
	if err != nil {
		return nil, "", err
	}
	if b, err = estate.Unpack(body); err != nil {
		return nil, "", err
	}
	last, _ := d.Bundle()
	switch {
	case b.Shop != d.shop:
		return nil, "", fmt.Errorf("it is a bundle of the shop %s", b.Shop)
	case last != nil && b.Number <= last.Number:
		return nil, "", &OvertakenError{last.Number}
	case !now.Before(b.Expires):
		return nil, "", fmt.Errorf("bundle %d has expired: make it anew", b.Number)
	}
	return b, estate.Digest(body), nil
}

// TakeBack is a bundle by which each workstation that has the latest goes back to what it had
// before.
func (d *Desk) TakeBack(now time.Time) (*estate.Bundle, error) {
	last, _ := d.Bundle()
	switch {
	case last == nil:
		return nil, errNoBundle
	case last.Back != 0:
		return nil, fmt.Errorf("bundle %d has taken bundle %d back already; publish a folder", last.Number, last.Back)
	}
	return &estate.Bundle{Manifest: estate.Manifest{Hosts: last.Hosts, Groups: last.Groups, Back: last.Number, Expires: now.Add(last.Expires.Sub(last.Made)).UTC(),
		Plan: estate.Plan{Waves: []estate.Wave{{Rest: true}}}}}, nil
}

// Goes is where workstations go with a bundle that takes another one back, by their names.
type Goes struct {
	To      int64 // the number of the bundle that they had, 0 for none
	Unknown bool  // what they had is not known there: they refuse
	Stay    bool  // they do not have the bundle that is taken back
	Hosts   []string
}

// GoBack says what a bundle that takes another one back brings to whom, by what the
// workstations have told.
func (d *Desk) GoBack(b *estate.Bundle) []Goes {
	var out []Goes
	look := b.Manifest
	look.Shop, look.Number = d.shop, b.Back+1
	seen, _ := d.in(&look)
	for _, h := range seen {
		g := Goes{Stay: true}
		if h.Last != nil && h.Last.Bundle.Number == b.Back && (h.Last.Bundle.State == estate.Taken || h.Last.Bundle.State == estate.Changed) {
			g = Goes{Unknown: h.Last.Bundle.Before == nil}
			if !g.Unknown {
				g.To = *h.Last.Bundle.Before
			}
		}
		i := slices.IndexFunc(out, func(o Goes) bool { return o.To == g.To && o.Unknown == g.Unknown && o.Stay == g.Stay })
		if i < 0 {
			i = len(out)
			out = append(out, g)
		}
		out[i].Hosts = append(out[i].Hosts, h.Host)
	}
	return out
}

// next is the number of the next bundle, and order that of the next release: above all that
// were given, also where the broker shows none of them any more.
func (d *Desk) next(last *estate.Bundle) int64 {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := d.known.Number
	if last != nil {
		n = max(n, last.Number)
	}
	n++
	d.learn(func(k *Known) { k.Number = max(k.Number, n) })
	return n
}

func (d *Desk) order(last *estate.Release) int64 {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := d.known.Order
	if last != nil {
		n = max(n, last.Order)
	}
	n++
	d.learn(func(k *Known) { k.Order = max(k.Order, n) })
	return n
}

// trusted returns the body of a message that the workstations would take, or why they would
// not.
func (d *Desk) trusted(purpose estate.Purpose, raw []byte, need int) ([]byte, error) {
	body, _, err := estate.Unseal(purpose, raw, d.trust, need)
	if err != nil {
		return nil, fmt.Errorf("by the keys that are trusted here, no workstation would take it: %w", err)
	}
	return body, nil
}

// sealRelease signs a release. One key that is trusted is enough: it lets nothing be taken that
// was not signed as it must be.
func (d *Desk) sealRelease(r *estate.Release, keys signers) ([]byte, error) {
	body, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	raw, err := estate.Seal(estate.ForRelease, body, keys...)
	if err != nil {
		return nil, err
	}
	_, err = d.trusted(estate.ForRelease, raw, oneKey)
	return raw, err
}

// send signs and publishes a release. Where another desk was first with its order, it is
// numbered again.
func (d *Desk) send(ctx context.Context, r *estate.Release, keys signers) error {
	const tries = 5
	r.Desk = d.me
	for range tries {
		raw, err := d.sealRelease(r, keys)
		if err != nil {
			return err
		}
		first, err := d.put(ctx, releaseTopic, raw)
		if err != nil {
			return err
		}
		d.mu.Lock()
		last := d.release
		if first {
			d.learn(func(k *Known) { k.Release = raw })
		}
		d.mu.Unlock()
		if first {
			return nil
		}
		if last.Number != r.Number {
			return &OvertakenError{last.Number}
		}
		r.Order = d.order(last)
	}
	return errors.New("other desks release at the same moment, again and again; try later")
}

// errNoBundle is for a shop that has none.
var errNoBundle = errors.New("no bundle was published yet")

// GoOn lets a bundle that is held come further, with the wave as it was. Where a limit is
// passed, that needs a reason: it is recorded with what is counted now, which does not stop the
// waves any more.
func (d *Desk) GoOn(ctx context.Context, despite string, now time.Time, keys signers) (*estate.Release, error) {
	b, r := d.Bundle()
	if b == nil || r == nil {
		return nil, errNoBundle
	}
	next := *r
	next.Order, next.Held, next.Why, next.Began = d.order(r), false, "", now.UTC() // the wave is to be good anew
	if v, err := d.Judge(now); err == nil && v.Do == estate.Stop {
		if despite == "" {
			return nil, &LimitError{Why: v.Why}
		}
		next.Despite, next.Accepted = despite, v.Counts.Of
	}
	return &next, d.send(ctx, &next, keys)
}

// LimitError says that a limit is passed, which only a reason lets the waves pass.
type LimitError struct{ Why string }

func (e *LimitError) Error() string { return "a limit is passed: " + e.Why }

// Hold lets nobody else take the bundle.
func (d *Desk) Hold(ctx context.Context, why string, now time.Time, keys signers) (*estate.Release, error) {
	b, r := d.Bundle()
	if b == nil || r == nil {
		return nil, errNoBundle
	}
	next := *r
	next.Order, next.Held, next.Why = d.order(r), true, why
	return &next, d.send(ctx, &next, keys)
}

// Judge says what is to be done with the bundle now.
func (d *Desk) Judge(now time.Time) (estate.Verdict, error) {
	b, r := d.Bundle()
	if b == nil || r == nil || r.Number != b.Number {
		return estate.Verdict{}, errNoBundle
	}
	seen, _ := d.in(&b.Manifest)
	return b.Judge(r, seen, now), nil
}

// Progress counts how all workstations do that the bundle is for, whether or not a wave has
// reached them.
func (d *Desk) Progress(now time.Time) estate.Counts {
	b, r := d.Bundle()
	if b == nil || r == nil || r.Number != b.Number {
		return estate.Counts{}
	}
	seen, _ := d.in(&b.Manifest)
	all := *r
	all.Reach = math.MaxUint64
	return all.Count(seen, now)
}

// Step does with the bundle what is to be done now, and says what that was.
func (d *Desk) Step(ctx context.Context, now time.Time, keys signers) (estate.Verdict, error) {
	v, err := d.Judge(now)
	b, r := d.Bundle()
	switch {
	case err != nil || r.Held:
		return v, err
	case v.Do == estate.Stop:
		_, err = d.Hold(ctx, v.Why, now, keys)
	case v.Do == estate.Next:
		_, names := d.in(&b.Manifest)
		next := *r
		next.Order, next.Wave, next.Began = d.order(r), r.Wave+1, now.UTC()
		next.Reach = max(r.Reach, b.Reach(next.Wave, names))
		err = d.send(ctx, &next, keys)
	}
	return v, err
}
