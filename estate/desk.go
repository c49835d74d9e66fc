package estate

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"

	"timegate/core/estate"
)

// Known is what an administrator must not forget, whatever the broker shows: the workstations
// that were let in, with their keys, and the latest numbers that were given.
type Known struct {
	Hosts  map[string]ed25519.PublicKey `json:"hosts"`
	Number int64                        `json:"number"` // of a bundle
	Order  int64                        `json:"order"`  // of a release
	Trial  int64                        `json:"trial"`  // of a bundle that was only tried out
	// The latest bundle and its release, sealed: a broker that has died may have forgotten
	// them.
	Bundle  []byte `json:"bundle,omitempty"`
	Before  []byte `json:"before,omitempty"` // the bundle before it
	Release []byte `json:"release,omitempty"`
}

// Desk is an administrator's view of an estate: what the broker has kept of it. Its methods
// may be called by several goroutines.
type Desk struct {
	shop  string
	trust []ed25519.PublicKey
	need  int

	me   string // by chance: what is for this desk alone
	conn *Conn
	news chan struct{}

	mu      sync.Mutex // guards what follows
	known   *Known
	raw     map[string][]byte // what has come last, by topic
	echo    string            // what is waited for
	asking  *asking           // nil while nothing is asked for
	trouble string
	hosts   map[string]*Host
	bundle  *estate.Bundle
	sealed  []byte // the bundle, as it came
	release *estate.Release

	forecasts map[string]*estate.Forecast // by host
	tried     int64                       // the number of the latest trial that somebody has tried out
}

// Host is a workstation as it is seen.
type Host struct {
	estate.Seen
	Key    ed25519.PublicKey // that it asks with, or was let in with
	In     bool              // it was let in
	Groups []string
	Wrong  string // why what it tells is not looked at
}

// Open connects an administrator to a broker, and waits until all that it has kept is there,
// or the context ends. The desk stays open until it is closed.
func Open(ctx context.Context, b Broker, trust []ed25519.PublicKey, need int, known *Known) (*Desk, error) {
	d := &Desk{shop: b.Shop, trust: trust, need: need, news: make(chan struct{}, 1), known: known, raw: map[string][]byte{}, hosts: map[string]*Host{}, forecasts: map[string]*estate.Forecast{}}
	d.me = rand.Text()
	d.echo = echoTopic + d.me
	b.Host, b.Client = "", "timegate-"+rand.Text()
	b.Topics = []string{bundleTopic, releaseTopic, hostTopic + "+" + reportOf, hostTopic + "+" + onOf, hostTopic + "+" + joiningOf, hostTopic + "+" + forecastOf, hostTopic + "+" + answerOf + d.me, d.echo}
	up, down := make(chan struct{}, 1), make(chan struct{}, 1)
	conn, err := Connect(context.WithoutCancel(ctx), b, func(m Message) {
		if m.Up {
			select {
			case up <- struct{}{}:
			default:
			}
		}
		d.take(m)
		if m.Trouble != "" {
			select {
			case down <- struct{}{}:
			default:
			}
		}
	})
	if err != nil {
		return nil, err
	}
	d.conn = conn
	if err := d.listen(ctx, up, down); err != nil {
		d.Close()
		return nil, err
	}
	return d, nil
}

// listen waits until all that the broker has kept is there.
func (d *Desk) listen(ctx context.Context, up, down <-chan struct{}) error {
	// What is kept comes before what is sent after it was asked for.
	select {
	case <-ctx.Done():
		return d.unreached(ctx.Err())
	case <-down: // it is not tried again: somebody waits for the answer
		return d.unreached(nil)
	case <-up:
	}
	if err := d.conn.Publish(ctx, d.echo, []byte("-"), false); err != nil {
		return d.unreached(err)
	}
	for !d.heard() {
		select {
		case <-ctx.Done():
			return d.unreached(ctx.Err())
		case <-d.news:
		}
	}
	return d.remind(ctx)
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
	return nil
}

// unreached says why the broker is not reached.
func (d *Desk) unreached(err error) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.trouble != "" {
		return &BrokerError{"the broker is not reached: " + d.trouble}
	}
	return &BrokerError{fmt.Sprintf("the broker is not reached: %v", err)}
}

// Trouble is why the broker is not reached now; "" where it is.
func (d *Desk) Trouble() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.trouble
}

func (d *Desk) heard() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.echo == ""
}

// Close ends the connection.
func (d *Desk) Close() { d.conn.Close() }

// News is told when something has come.
func (d *Desk) News() <-chan struct{} { return d.news }

// take takes a message of the broker, which nobody has looked at.
func (d *Desk) take(m Message) {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case m.Topic == "":
		d.trouble = m.Trouble
	case m.Topic == d.echo:
		d.echo = ""
	case m.Topic == bundleTopic:
		d.takeBundle(m.Payload)
	case m.Topic == releaseTopic:
		d.takeRelease(m.Payload)
	default:
		switch host, what, ok := hostOf(m.Topic); {
		case !ok:
		case what == answerOf+d.me:
			d.takeAnswer(host, m.Payload)
		default:
			d.takeHost(host, what, m.Payload)
		}
	}
	select {
	case d.news <- struct{}{}:
	default:
	}
}

func (d *Desk) takeBundle(raw []byte) {
	body, _, err := estate.Unseal(estate.ForBundle, raw, d.trust, d.need)
	if err != nil {
		return
	}
	b, err := estate.Unpack(body)
	if err == nil && b.Shop == d.shop && (d.bundle == nil || b.Number > d.bundle.Number) {
		d.bundle, d.sealed = b, raw
	}
}

func (d *Desk) takeRelease(raw []byte) {
	body, _, err := estate.Unseal(estate.ForRelease, raw, d.trust, d.need)
	if err != nil {
		return
	}
	r, err := estate.DecodeRelease(body)
	if err == nil && r.Shop == d.shop && (d.release == nil || r.Order > d.release.Order) {
		d.release = r
	}
}

// mostHosts bounds what a hostile broker can make a desk keep.
const mostHosts = 200_000

// takeHost takes what a workstation says. Only what it has signed with the key that it was
// let in with is looked at.
func (d *Desk) takeHost(name, what string, raw []byte) {
	h := d.hosts[name]
	if len(raw) == 0 && (h == nil || what != onOf) {
		return // it was taken back
	}
	if h == nil {
		if len(d.hosts) >= mostHosts {
			return
		}
		key, in := d.known.Hosts[name]
		h = &Host{Seen: estate.Seen{Host: name}, Key: key, In: in}
		d.hosts[name] = h
	}
	if !h.In {
		d.raw[hostTopic+name+what] = raw // what it says is looked at once it is let in
	}
	switch what {
	case onOf:
		h.On = string(raw) == "on"
	case joiningOf:
		if h.In && estate.AsksWith(raw, h.Key) {
			break // nothing new
		}
		j, key, err := estate.OpenJoining(raw, d.shop, name)
		switch {
		case err != nil:
			h.Wrong = err.Error()
		case !h.In:
			h.Key, h.Groups = key, j.Groups
		case !key.Equal(h.Key):
			h.Wrong = "it asks to be let in with another key than it was let in with"
		}
	case reportOf:
		d.takeReport(h, raw)
	case forecastOf:
		if err := d.takeForecast(h, raw); err != nil && h.In {
			h.Wrong = err.Error()
		}
	}
}

// fromHost returns the body of what a workstation has sealed, with the key that it was let in
// with.
func (d *Desk) fromHost(purpose estate.Purpose, h *Host, raw []byte) ([]byte, error) {
	if !h.In {
		return nil, errors.New("it was not let in")
	}
	body, _, err := estate.Unseal(purpose, raw, []ed25519.PublicKey{h.Key}, 1)
	if err != nil {
		return nil, fmt.Errorf("its %s is not signed with the key that it was let in with", purpose)
	}
	return body, nil
}

func (d *Desk) takeReport(h *Host, raw []byte) {
	if !h.In {
		return
	}
	body, err := d.fromHost(estate.ForReport, h, raw)
	if err != nil {
		h.Wrong = err.Error()
		return
	}
	r, err := estate.DecodeReport(body, d.shop, h.Host)
	switch {
	case err != nil:
		h.Wrong = "its report: " + err.Error()
	case h.Last == nil || r.Number > h.Last.Number: // no older one again
		h.Last, h.Told, h.Groups, h.Wrong = r, r.At, r.Groups, ""
	}
}

// Hosts returns the workstations, by name.
func (d *Desk) Hosts() []Host {
	d.mu.Lock()
	defer d.mu.Unlock()
	var out []Host
	for _, name := range slices.Sorted(maps.Keys(d.hosts)) {
		out = append(out, *d.hosts[name])
	}
	return out
}

// in returns what is seen of the workstations that were let in and that a bundle is for.
func (d *Desk) in(m *estate.Manifest) (seen []estate.Seen, names []string) {
	for _, h := range d.Hosts() {
		holder := estate.Holder{Shop: m.Shop, Host: h.Host, Groups: h.Groups, Number: m.Number - 1}
		if h.In && m.Refused(holder, m.Made) == nil {
			seen, names = append(seen, h.Seen), append(names, h.Host)
		}
	}
	return seen, names
}

// Bundle returns the latest bundle, and its release; nil for none.
func (d *Desk) Bundle() (*estate.Bundle, *estate.Release) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.bundle, d.release
}

// Accept lets a workstation in with the key that it asks with.
func (d *Desk) Accept(name string) (ed25519.PublicKey, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	h := d.hosts[name]
	switch {
	case h == nil || h.Key == nil:
		return nil, fmt.Errorf("%s does not ask to be let in", name)
	case h.Wrong != "":
		return nil, fmt.Errorf("%s: %s", name, h.Wrong)
	}
	h.In = true
	if d.known.Hosts == nil {
		d.known.Hosts = map[string]ed25519.PublicKey{}
	}
	d.known.Hosts[name] = h.Key
	if report, there := d.raw[hostTopic+name+reportOf]; there {
		d.takeReport(h, report)
	}
	if f, there := d.raw[hostTopic+name+forecastOf]; there {
		if err := d.takeForecast(h, f); err != nil {
			return nil, err
		}
	}
	return h.Key, nil
}

// SortHosts sorts workstations for a list: those with trouble first.
func SortHosts(list []Host) {
	bad := func(h Host) int {
		switch {
		case h.Wrong != "" || h.Last != nil && (h.Last.Broken > 0 || h.Last.Bundle.State != estate.Taken && h.Last.Bundle.Number > 0):
			return 0
		case h.Last != nil && h.Last.Failed > 0:
			return 1
		}
		return 2
	}
	slices.SortFunc(list, func(a, b Host) int { return cmp.Or(cmp.Compare(bad(a), bad(b)), cmp.Compare(a.Host, b.Host)) })
}
