package estate

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"runtime"
	"sync"

	"timegate/core/estate"
)

// Desk is an administrator's view of an estate: what the broker has kept of it. Its methods
// may be called by several goroutines.
type Desk struct {
	shop  string
	trust []ed25519.PublicKey
	need  int

	me   string // by chance: what is for this desk alone
	echo string // the topic of what comes back when all is there that the broker has kept
	conn *Conn
	news chan struct{}
	said chan said       // by workstations, that nobody has looked at
	busy sync.WaitGroup  // looks that are not done
	gone context.Context // ends with the desk
	end  context.CancelFunc

	mu      sync.Mutex // guards what follows
	known   *Known
	learned []func(k *Known)          // what was learned that is not kept yet
	checked map[string]estate.Checked // the same, of what workstations have signed
	raw     map[string][]byte         // what has come last of those that are not in, by topic
	rawSize int                       // of all of it
	heard   bool                      // what the broker has kept is there
	asking  *asking                   // nil while nothing is asked for
	trouble string
	hosts   map[string]*Host
	bundle  *estate.Bundle
	sealed  []byte // the bundle, as it came
	digest  string // of it
	release *estate.Release
	shown   shown // what the broker has shown of bundles and releases

	told      map[string]int64            // the numbers of reports that were seen, which are not kept yet
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
	// Other is another key than its own with which somebody asks in its name: it may have been
	// set up anew.
	Other ed25519.PublicKey
}

// Open connects an administrator to a broker, and waits until all that it has kept is there,
// or the context ends. The desk stays open until it is closed.
func Open(ctx context.Context, b Broker, trust []ed25519.PublicKey, need int, known *Known) (*Desk, error) {
	d := &Desk{shop: b.Shop, trust: trust, need: need, news: make(chan struct{}, 1), said: make(chan said), known: known, checked: map[string]estate.Checked{}, raw: map[string][]byte{}, hosts: map[string]*Host{}, forecasts: map[string]*estate.Forecast{}, told: map[string]int64{}}
	d.gone, d.end = context.WithCancel(context.WithoutCancel(ctx))
	d.me = rand.Text()
	d.echo = echoTopic + d.me
	b.Host, b.Client = "", clientOf(cmp.Or(b.User, "desk"), rand.Text())
	b.Topics = []string{bundleTopic, releaseTopic, hostTopic + "+" + reportOf, hostTopic + "+" + onOf, hostTopic + "+" + joiningOf, hostTopic + "+" + forecastOf, hostTopic + "+" + answerOf + d.me, d.echo}
	for name, key := range known.Hosts { // whatever the broker has forgotten
		d.hosts[name] = &Host{Seen: estate.Seen{Host: name}, Key: key, In: true}
	}
	for range runtime.GOMAXPROCS(0) {
		go d.look()
	}
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
		d.end()
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
	for !d.isThere() {
		select {
		case <-ctx.Done():
			return d.unreached(ctx.Err())
		case <-d.news:
		}
	}
	return d.remind(ctx)
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

// Shop is whose workstations are seen.
func (d *Desk) Shop() string { return d.shop }

// Trouble is why the broker is not reached now; "" where it is.
func (d *Desk) Trouble() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.trouble
}

func (d *Desk) isThere() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.heard
}

// Close ends the connection.
func (d *Desk) Close() {
	d.end()
	d.conn.Close()
}

// News is told when something has come.
func (d *Desk) News() <-chan struct{} { return d.news }

// take takes a message of the broker, which nobody has looked at.
func (d *Desk) take(m Message) {
	if m.Topic == d.echo {
		d.busy.Wait() // what was kept has come before it
	}
	d.mu.Lock()
	one := d.note(m)
	d.mu.Unlock()
	if one != nil {
		d.busy.Add(1)
		select {
		case d.said <- *one:
		case <-d.gone.Done():
			d.busy.Done()
		}
	}
	d.tell()
}

// note takes in what needs no long look, and returns what does; nil for nothing.
func (d *Desk) note(m Message) *said {
	switch {
	case m.Topic == "":
		d.trouble = m.Trouble
	case m.Topic == d.echo:
		d.heard = true
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
			return d.takeHost(host, what, m.Payload)
		}
	}
	return nil
}

// tell tells that there is something new.
func (d *Desk) tell() {
	select {
	case d.news <- struct{}{}:
	default:
	}
}

// takeBundle takes a bundle. Of two with one number the first counts, for all who look: the
// one who has published the other is told.
func (d *Desk) takeBundle(raw []byte) {
	counts := false
	defer func() { d.shown.note(raw, counts) }()
	body, _, err := estate.Unseal(estate.ForBundle, raw, d.trust, d.need)
	if err != nil {
		return
	}
	b, err := estate.Unpack(body)
	if err == nil && b.Shop == d.shop && (d.bundle == nil || b.Number > d.bundle.Number) && !tooFar(b.Number, d.known.Number, d.bundle != nil) {
		d.bundle, d.sealed, d.digest, counts = b, raw, estate.Digest(body), true
	}
}

func (d *Desk) takeRelease(raw []byte) {
	counts := false
	defer func() { d.shown.note(raw, counts) }()
	body, _, err := estate.Unseal(estate.ForRelease, raw, d.trust, oneKey)
	if err != nil {
		return
	}
	r, err := estate.DecodeRelease(body)
	if err == nil && r.Shop == d.shop && (d.release == nil || r.Order > d.release.Order) && !tooFar(r.Order, d.known.Order, d.release != nil) {
		d.release, counts = r, true
	}
}

// tooFar reports whether a number is so far above the last one that is known that no
// workstation would take it. A desk that knows none takes what it is shown.
func tooFar(n, last int64, some bool) bool {
	return (last > 0 || some) && n-last > estate.MostAhead
}

// mostHosts bounds what a hostile broker can make a desk keep.
const mostHosts = 200_000

// takeHost takes what a workstation says. Only what it has signed with the key that it was
// let in with is looked at.
func (d *Desk) takeHost(name, what string, raw []byte) *said {
	h := d.hosts[name]
	if len(raw) == 0 && (h == nil || what != onOf) {
		return nil // it was taken back
	}
	if h == nil {
		if len(d.hosts) >= mostHosts {
			return nil
		}
		key, in := d.known.Hosts[name]
		h = &Host{Seen: estate.Seen{Host: name}, Key: key, In: in}
		d.hosts[name] = h
	}
	if !h.In {
		d.keepRaw(hostTopic+name+what, raw) // what it says is looked at once it is let in
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
			h.Other = key
			h.Wrong = "it asks to be let in with another key than it was let in with; if it was set up anew: timegate estate accept " + name
		}
	case reportOf, forecastOf:
		if h.In {
			return d.toLookAt(h, what, raw)
		}
	}
	return nil
}

// mostRaw bounds what those that nobody has let in can make a desk keep, in bytes.
const mostRaw = 64 << 20

// keepRaw keeps what has come of a topic, as far as there is room.
func (d *Desk) keepRaw(topic string, raw []byte) {
	if size := d.rawSize - len(d.raw[topic]) + len(raw); size <= mostRaw {
		d.raw[topic], d.rawSize = raw, size
	}
}

// said is a report or a forecast, as it has come.
type said struct {
	host *Host
	key  ed25519.PublicKey
	what string
	raw  []byte
	was  estate.Checked // of the one before
}

// toLookAt is what a workstation has said, with what looking at it needs.
func (d *Desk) toLookAt(h *Host, what string, raw []byte) *said {
	one := &said{host: h, key: h.Key, what: what, raw: raw}
	copy(one.was[:], d.known.Checked[h.Host])
	return one
}

// look looks at what is handed on until the desk is closed: to check a signature takes the
// most of what a desk does.
func (d *Desk) look() {
	for {
		select {
		case <-d.gone.Done():
			return
		case one := <-d.said:
			d.lookAt(one)
			d.busy.Done()
		}
	}
}

// lookAt takes what a workstation has said, if it has signed it with the key that it was let
// in with.
func (d *Desk) lookAt(one said) {
	h := one.host
	var report *estate.Report
	var forecast *estate.Forecast
	var checked estate.Checked
	var err error
	if one.what == reportOf {
		report, checked, err = opened(estate.ForReport, one, d.shop, estate.DecodeReport)
	} else {
		forecast, _, err = opened(estate.ForForecast, one, d.shop, estate.DecodeForecast)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case err != nil && h.In && !one.key.Equal(h.Key): // it was let in with another one meanwhile
		again := d.toLookAt(h, one.what, one.raw)
		d.busy.Add(1)
		go func() { defer d.busy.Done(); d.lookAt(*again) }()
	case err != nil:
		d.keepRaw(hostTopic+h.Host+one.what, one.raw) // it may be let in with another key
		if h.Other == nil {
			h.Wrong = err.Error()
		}
	case forecast != nil:
		d.forecasts[h.Host], d.tried = forecast, max(d.tried, forecast.Number)
	case report.Number < d.known.Told[h.Host]: // of somebody who has kept it, to say what was
		h.Wrong = fmt.Sprintf("its report is number %d, and number %d was seen: an older one is shown again", report.Number, d.known.Told[h.Host])
	case h.Last == nil || report.Number > h.Last.Number: // no older one again
		d.told[h.Host] = report.Number
		h.Last, h.Told, h.Groups, h.Wrong = report, report.At, report.Groups, ""
		if checked != one.was {
			d.checked[h.Host] = checked
		}
	}
	d.tell()
}

// opened reads what a workstation has sealed.
func opened[T any](purpose estate.Purpose, one said, shop string, decode func([]byte, string, string) (T, error)) (T, estate.Checked, error) {
	var none T
	body, checked, err := estate.UnsealAgain(purpose, one.raw, one.key, one.was)
	if err != nil {
		return none, checked, fmt.Errorf("its %s is not signed with the key that it was let in with", purpose)
	}
	out, err := decode(body, shop, one.host.Host)
	if err != nil {
		return none, checked, fmt.Errorf("its %s: %w", purpose, err)
	}
	return out, checked, nil
}
