package estate

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"sync"
	"time"

	"timegate/core/estate"
)

// The names of bundles that are kept: of the one in force, and of the one before it.
const (
	keptInForce = "in-force"
	keptBefore  = "before"
)

// State is what a workstation must not forget.
type State struct {
	Number  int64               `json:"number"` // of the latest bundle that was taken or refused: none before it is ever taken
	Bundle  estate.BundleReport `json:"bundle"`
	Before  int                 `json:"before"`             // gates that were broken when it came
	Had     []string            `json:"had"`                // the gates that there were
	Taking  []byte              `json:"taking,omitempty"`   // the sealed bundle that is being taken
	Files   map[string]string   `json:"files,omitempty"`    // the gates of the bundle, with the SHA-256 of their texts
	Content []byte              `json:"content,omitempty"`  // the sealed bundle whose content is taken, where that is another one than Taking
	InForce *int64              `json:"in_force,omitempty"` // the number of the bundle whose content is in force, 0 for none; nil where that is not known
	Prior   *int64              `json:"prior,omitempty"`    // of the one before it
	Trial   int                 `json:"trial"`              // how often the keeper has begun with a bundle that is not confirmed yet
	Order   int64               `json:"order"`              // of the latest release
	Release *estate.Release     `json:"release,omitempty"`
	Waiting []byte              `json:"waiting,omitempty"` // a sealed bundle that is not released yet
	Reports int64               `json:"reports"`           // how many were made
	Tried   int64               `json:"tried"`             // of the latest trial
	Asked   estate.Asked        `json:"asked,omitzero"`
}

// Station is a workstation's side of its estate.
type Station struct {
	Shop    string
	Host    string
	Groups  []string
	Version string
	Trust   []ed25519.PublicKey
	Need    int // how many of them must have signed a bundle, or a request; 0 for one
	Key     ed25519.PrivateKey
	May     []string // what can be asked for: [estate.Permissions]
	Keeper  Keeper
	Store   Store
	Publish func(topic string, payload []byte, keep bool) // waits for nobody
	Log     *slog.Logger
	Times   Times

	state  State
	failed int // runs, in the last report
	trials chan *estate.Bundle
	asks   chan *ask
}

// Times say how a workstation tells.
type Times struct {
	Gather time.Duration // from what has happened to the report of it
	Pause  time.Duration // between two reports at least
	Beat   time.Duration // between two reports at most
	Answer time.Duration // how long a keeper may take to come up with a bundle
}

// UsualTimes are those of a workstation.
var UsualTimes = Times{Gather: 3 * time.Second, Pause: 5 * time.Minute, Beat: 12 * time.Hour, Answer: 30 * time.Second}

// mostTrials is how often a keeper may begin without coming up with a bundle.
const mostTrials = 3

// Run follows the estate until the context ends. changed tells that a run has not ended
// well.
func (s *Station) Run(ctx context.Context, messages <-chan Message, changed <-chan struct{}) error {
	if err := s.Store.Load(&s.state); err != nil {
		return err
	}
	if s.state.Number == 0 && s.state.InForce == nil {
		s.state.InForce = new(int64)
	}
	if s.state.Trial > 0 {
		s.tryAgain(ctx)
	}
	s.trials, s.asks = make(chan *estate.Bundle, 1), make(chan *ask, mostAsks)
	var working sync.WaitGroup
	defer working.Wait()
	working.Go(func() { s.tryOut(ctx) })
	working.Go(func() { s.answerAll(ctx) })
	var last time.Time // a report was made
	report := time.NewTimer(s.Times.Gather)
	defer report.Stop()
	soon := func() {
		report.Reset(max(s.Times.Gather, s.Times.Pause-time.Since(last)))
	}
	waits := true // a report
	for {
		select {
		case <-ctx.Done():
			return nil
		case m := <-messages:
			switch decided, err := s.message(ctx, m); {
			case err != nil:
				s.Log.Warn("a message of the estate is not taken", "topic", m.Topic, "error", err)
			case decided:
				waits = true
				report.Reset(s.Times.Gather)
			}
		case <-changed:
			switch {
			case waits:
			case s.failed == 0: // the first one may stop a wave
				report.Reset(s.Times.Gather)
			default:
				soon()
			}
			waits = true
		case <-report.C:
			if err := s.report(ctx); err != nil {
				s.Log.Warn("nothing can be told to the estate", "error", err)
				report.Reset(s.Times.Pause)
				continue
			}
			waits, last = false, time.Now()
			report.Reset(s.Times.Beat)
		}
	}
}

// message takes a message of the network, which nobody has looked at. It reports whether
// something is to be told at once.
func (s *Station) message(ctx context.Context, m Message) (decided bool, err error) {
	switch m.Topic {
	case "":
		if m.Up { // the broker may have died, and have forgotten both
			return true, s.ask()
		}
		s.Log.Info("the estate's broker is not reached", "why", m.Trouble)
		return false, nil
	case bundleTopic:
		return s.bundle(ctx, m.Payload)
	case releaseTopic:
		return s.release(ctx, m.Payload)
	case trialTopic:
		return false, s.trial(m.Payload)
	case hostTopic + s.Host + requestOf:
		return false, s.request(m.Payload)
	}
	return false, errors.New("nothing is known of this topic")
}

// ask asks to be let in.
func (s *Station) ask() error {
	public, ok := s.Key.Public().(ed25519.PublicKey)
	if !ok {
		return errors.New("the workstation's key is no Ed25519 key")
	}
	body, err := json.Marshal(&estate.Joining{Shop: s.Shop, Host: s.Host, Key: base64.StdEncoding.EncodeToString(public), Groups: s.Groups, At: time.Now().UTC()})
	if err != nil {
		return err
	}
	raw, err := estate.Seal(estate.ForJoining, body, s.Key)
	if err != nil {
		return err
	}
	s.Publish(hostTopic+s.Host+joiningOf, raw, true)
	return nil
}

func (s *Station) holder() estate.Holder {
	return estate.Holder{Shop: s.Shop, Host: s.Host, Groups: s.Groups, Number: s.state.Number}
}

// open reads a sealed bundle.
func (s *Station) open(raw []byte) (*estate.Bundle, error) {
	b, _, err := s.openWith(raw)
	return b, err
}

// openWith reads a sealed bundle, and its digest.
func (s *Station) openWith(raw []byte) (*estate.Bundle, string, error) {
	body, _, err := estate.Unseal(estate.ForBundle, raw, s.Trust, s.Need)
	if err != nil {
		return nil, "", err
	}
	b, err := estate.Unpack(body)
	return b, estate.Digest(body), err
}

// bundle takes a sealed bundle, and keeps it until it is released.
func (s *Station) bundle(ctx context.Context, raw []byte) (bool, error) {
	b, err := s.open(raw)
	if err != nil {
		return false, err
	}
	if err := b.Refused(s.holder(), time.Now()); err != nil {
		if fault, ok := errors.AsType[*estate.MessageError](err); ok && (fault.Code == estate.OldNumber || fault.Code == estate.NotForUs) {
			return false, nil // the broker has kept it
		}
		return false, err
	}
	if b.Number-s.state.Number > estate.MostAhead {
		return false, fmt.Errorf("its number is %d, and %d was the last: that is too far ahead, and would make every later one look old", b.Number, s.state.Number)
	}
	if w, err := s.open(s.state.Waiting); s.state.Waiting != nil && err == nil && w.Number > b.Number {
		return false, fmt.Errorf("bundle %d comes after %d", b.Number, w.Number)
	}
	s.state.Waiting = raw // of two with one number the release says which is meant
	if err := s.Store.Save(&s.state); err != nil {
		return false, err
	}
	return s.take(ctx)
}

// release takes a sealed release. Of those that the broker shows again, none is followed.
func (s *Station) release(ctx context.Context, raw []byte) (bool, error) {
	body, _, err := estate.Unseal(estate.ForRelease, raw, s.Trust, oneKey)
	if err != nil {
		return false, err
	}
	r, err := estate.DecodeRelease(body)
	if err != nil {
		return false, err
	}
	if r.Shop != s.Shop {
		return false, fmt.Errorf("it is a release of the shop %.80q", r.Shop)
	}
	if r.Order <= s.state.Order {
		return false, nil
	}
	if r.Order-s.state.Order > estate.MostAhead {
		return false, fmt.Errorf("its order is %d, and %d was the last: that is too far ahead, and would make every later one look old", r.Order, s.state.Order)
	}
	s.state.Order, s.state.Release = r.Order, r
	if err := s.Store.Save(&s.state); err != nil {
		return false, err
	}
	return s.take(ctx)
}

// take takes the bundle that waits, once it is released for this workstation.
func (s *Station) take(ctx context.Context) (bool, error) {
	if s.state.Waiting == nil || s.state.Release == nil {
		return false, nil
	}
	b, digest, err := s.openWith(s.state.Waiting) // the keys may be others by now
	if err != nil {
		return false, err
	}
	r := s.state.Release
	if r.Number != b.Number || !r.Reaches(s.Host) || r.Digest != "" && r.Digest != digest {
		return false, nil
	}
	if err := b.Refused(s.holder(), time.Now()); err != nil {
		fault, _ := errors.AsType[*estate.MessageError](err)
		return true, s.decide(b.Number, estate.Refused, fault.Code)
	}
	if b.Back != 0 {
		if s.state.Bundle.Number != b.Back || s.state.Bundle.State != estate.Taken {
			if s.state.Files, err = s.filesInForce(); err != nil {
				return false, err
			}
			return true, s.decide(b.Number, estate.Taken, "") // it does not have it: what it has stays
		}
		if s.state.Content, err = s.before(); err != nil {
			s.Log.Warn("a bundle cannot be taken back", "number", b.Back, "error", err)
			return true, s.decide(b.Number, estate.Refused, estate.NotKept)
		}
	}
	had, broken, err := s.Keeper.Gates(ctx)
	if err != nil {
		s.Log.Warn("how the gates did before a bundle is not known", "error", err)
	}
	s.state.Had, s.state.Before = had, broken
	// Whatever dies from here on, the next keeper finishes it, or takes it back.
	now := time.Now().UTC()
	s.state.Number, s.state.Taking, s.state.Waiting, s.state.Trial = b.Number, s.state.Waiting, nil, 1
	content, err := s.contentOf(b)
	if err != nil {
		return true, s.decide(b.Number, estate.Refused, estate.NotKept)
	}
	s.state.Files = content.GateSums()
	s.state.Bundle = estate.BundleReport{Number: b.Number, State: estate.Taking, At: &now}
	if err := s.Store.Save(&s.state); err != nil {
		return false, err
	}
	return s.apply(ctx, b)
}

// apply brings the bundle that is being taken into force.
func (s *Station) apply(ctx context.Context, b *estate.Bundle) (bool, error) {
	content, err := s.contentOf(b)
	if err == nil {
		err = s.Keeper.Apply(content)
	}
	if err != nil {
		s.Log.Warn("a bundle is refused", "number", b.Number, "error", err)
		code := "apply"
		if fault, ok := errors.AsType[*ApplyError](err); ok {
			code = fault.Code
		}
		return true, s.decide(b.Number, estate.Refused, code)
	}
	return true, s.confirm(ctx)
}

// before returns the sealed bundle that was in force before the one that is, empty where none
// was.
func (s *Station) before() ([]byte, error) {
	if s.state.Prior == nil {
		return nil, errors.New("what was in force before is not known")
	}
	if *s.state.Prior == 0 {
		return []byte{}, nil
	}
	raw, err := s.Store.Kept(keptBefore)
	if err == nil {
		_, err = s.open(raw) // the keys may be others by now
	}
	return raw, err
}

// filesInForce are the gates of the bundle whose content is in force, with the sums of their
// texts.
func (s *Station) filesInForce() (map[string]string, error) {
	raw, err := s.Store.Kept(keptInForce)
	if err != nil || len(raw) == 0 {
		return nil, err
	}
	b, err := s.open(raw)
	if err != nil {
		return nil, err
	}
	return b.GateSums(), nil
}

// contentOf returns a bundle with the content that it brings: its own, or what was in force
// before the one that it takes back.
func (s *Station) contentOf(b *estate.Bundle) (*estate.Bundle, error) {
	if b.Back == 0 {
		return b, nil
	}
	out := &estate.Bundle{Manifest: b.Manifest, Content: map[string][]byte{}}
	out.Back = 0 // it has a content now
	if len(s.state.Content) == 0 {
		return out, nil
	}
	was, err := s.open(s.state.Content)
	if err != nil {
		return nil, err
	}
	out.Content = was.Content
	return out, nil
}

// remember notes what is in force now, and what was before.
func (s *Station) remember() error {
	b, err := s.open(s.state.Taking)
	if err != nil {
		return err
	}
	if b.Back != 0 {
		if err := errors.Join(s.Store.Keep(keptInForce, s.state.Content), s.Store.Keep(keptBefore, nil)); err != nil {
			return err
		}
		s.state.InForce, s.state.Prior = s.state.Prior, nil
		return nil
	}
	now, err := s.Store.Kept(keptInForce)
	if err != nil {
		return err
	}
	if !bytes.Equal(now, s.state.Taking) { // else a keeper before this one came so far
		if err := errors.Join(s.Store.Keep(keptBefore, now), s.Store.Keep(keptInForce, s.state.Taking)); err != nil {
			return err
		}
	}
	s.state.Prior = s.state.InForce
	if s.state.InForce != nil && *s.state.InForce != 0 && len(now) == 0 {
		s.state.Prior = nil
	}
	number := b.Number
	s.state.InForce = &number
	return nil
}

// confirm looks whether the keeper comes up with what was applied, and takes it back where
// it does not.
func (s *Station) confirm(ctx context.Context) error {
	wait, enough := context.WithTimeout(ctx, s.Times.Answer)
	defer enough()
	err := s.Keeper.Confirm(wait, s.state.Files)
	if ctx.Err() != nil {
		return nil // the next keeper tries
	}
	if err == nil {
		s.Log.Info("a bundle is taken", "number", s.state.Bundle.Number)
		if err := s.remember(); err != nil { // it is in force all the same
			s.Log.Warn("what is in force is not kept for going back", "error", err)
			s.state.InForce, s.state.Prior = nil, nil
		}
		return s.decide(s.state.Bundle.Number, estate.Taken, "")
	}
	s.Log.Warn("the keeper does not come up with a bundle, which is taken back", "number", s.state.Bundle.Number, "error", err)
	return errors.Join(s.back(), s.decide(s.state.Bundle.Number, estate.Back, "keeper"))
}

// back takes the bundle that is on trial back.
func (s *Station) back() error {
	at := s.state.Bundle.At
	if at == nil {
		return errors.New("nothing is known of when it was taken")
	}
	return s.Keeper.Back(*at)
}

// tryAgain goes on with a bundle that a keeper before this one has not come up with.
func (s *Station) tryAgain(ctx context.Context) {
	s.state.Trial++
	err := s.Store.Save(&s.state)
	switch {
	case err != nil:
	case s.state.Trial > mostTrials:
		err = errors.Join(s.back(), s.decide(s.state.Bundle.Number, estate.Back, "keeper"))
	default:
		var b *estate.Bundle
		if b, err = s.open(s.state.Taking); err == nil { // whether it was applied before is not known
			_, err = s.apply(ctx, b)
		} else { // the keys are others by now
			err = errors.Join(err, s.back(), s.decide(s.state.Bundle.Number, estate.Back, "keeper"))
		}
	}
	if err != nil {
		s.Log.Warn("the estate's last bundle is not settled", "error", err)
	}
}

// decide notes what became of a bundle.
func (s *Station) decide(number int64, what estate.BundleState, code string) error {
	now := time.Now().UTC()
	s.state.Number, s.state.Trial, s.state.Waiting, s.state.Taking, s.state.Content = max(s.state.Number, number), 0, nil, nil, nil
	s.state.Bundle = estate.BundleReport{Number: number, State: what, Code: code, At: &now}
	return s.Store.Save(&s.state)
}

// report tells of this workstation.
func (s *Station) report(ctx context.Context) error {
	s.state.Reports++
	if err := s.Store.Save(&s.state); err != nil {
		return err
	}
	r := &estate.Report{Shop: s.Shop, Host: s.Host, Number: s.state.Reports, At: time.Now().UTC(), Version: s.Version,
		System: runtime.GOOS + "/" + runtime.GOARCH, Groups: s.Groups, Bundle: s.state.Bundle, Before: s.state.Before}
	var since time.Time
	if at := s.state.Bundle.At; at != nil && s.state.Bundle.State == estate.Taken {
		since = *at
	}
	if r.Bundle.Before = s.state.Prior; r.Bundle.State == estate.Taken {
		err := s.Keeper.InForce(ctx, s.state.Files)
		if _, differs := errors.AsType[*DiffersError](err); err != nil && !differs {
			return err
		}
		if err != nil {
			s.Log.Info("what is in force is not the estate's bundle any more", "why", err)
			r.Bundle.State = estate.Changed
		}
	}
	if err := s.Keeper.Look(ctx, r, since, s.state.Had); err != nil {
		return err
	}
	s.failed = r.Failed
	body, err := json.Marshal(r)
	if err != nil {
		return err
	}
	raw, err := estate.Seal(estate.ForReport, body, s.Key)
	if err != nil {
		return err
	}
	s.Publish(hostTopic+s.Host+reportOf, raw, true)
	return s.Store.Told(body)
}
