package estate

import (
	"context"
	"crypto/hpke"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"timegate/core/estate"
)

// mostAsks is how many requests can wait until those before are done.
const mostAsks = 8

// answerPatience is how long what is asked for may take.
const answerPatience = 30 * time.Second

// ask is a request, and why it is not done; "" where it is.
type ask struct {
	*estate.Request
	code string
}

// request takes a sealed request. It is remembered before it is done, so that it is done
// once, whatever dies in between.
func (s *Station) request(raw []byte) error {
	body, _, err := estate.Unseal(estate.ForRequest, raw, s.Trust, s.Need)
	if err != nil {
		return err
	}
	r, err := estate.DecodeRequest(body)
	if err != nil {
		return err
	}
	now := time.Now()
	one := &ask{Request: r}
	if err := r.Refused(s.holder(), s.May, now); err != nil {
		fault, ok := errors.AsType[*estate.MessageError](err)
		if !ok || fault.Code == estate.OtherShop || fault.Code == estate.NotForUs {
			return err
		}
		s.Log.Warn("what the estate asks for is not done", "do", r.Do, "of", r.Of, "why", err)
		one.code = fault.Code
	}
	if one.code != estate.Expired { // of which nothing is done, however often it comes
		if err := s.state.Asked.Take(r, one.code, now); err != nil {
			return err
		}
		if err := s.Store.Save(&s.state); err != nil {
			return err
		}
	}
	select {
	case s.asks <- one:
	default:
		one.code = estate.Busy
		return s.answer(context.Background(), one)
	}
	return nil
}

// answerAll does what is asked for, one at a time, until the context ends.
func (s *Station) answerAll(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case one := <-s.asks:
			if err := s.answer(ctx, one); err != nil && ctx.Err() == nil {
				s.Log.Warn("a request of the estate cannot be answered", "do", one.Do, "of", one.Of, "error", err)
			}
		}
	}
}

// answer does what is asked for, and tells what came of it.
func (s *Station) answer(ctx context.Context, one *ask) error {
	now := time.Now().UTC()
	a := &estate.Answer{Shop: s.Shop, Host: s.Host, ID: one.ID, At: now, Code: one.code}
	if a.Code == "" && !now.Before(one.Expires) { // it has waited for others
		a.Code = estate.Expired
	}
	if a.Code == "" {
		s.Log.Info("the estate asks", "do", one.Do, "of", one.Of)
		wait, enough := context.WithTimeout(ctx, answerPatience)
		defer enough()
		if err := s.Keeper.Answer(wait, one.Request, a); err != nil {
			s.Log.Warn("what the estate asks for fails", "do", one.Do, "of", one.Of, "error", err)
			if a.Code = "failed"; wait.Err() != nil {
				a.Code = "too-long"
			}
		}
	}
	raw, err := a.Seal(one.Request, s.Key)
	if err != nil {
		return err
	}
	s.Publish(hostTopic+s.Host+answerOf+one.Desk, raw, false)
	return nil
}

// asking is a request of a desk that is not answered yet.
type asking struct {
	*estate.Request
	reply  hpke.PrivateKey
	answer *estate.Answer
	wrong  error // of what came last
}

// AskError says that a workstation has not answered.
type AskError struct{ Problem string }

func (e *AskError) Error() string { return e.Problem }

// Ask asks a workstation for something, and waits for the answer until the context ends. Its
// error is an [*AskError] where there is none.
func (d *Desk) Ask(ctx context.Context, host string, do estate.Ask, of string, now time.Time, keys signers) (*estate.Answer, error) {
	key, reply, err := estate.NewReply()
	if err != nil {
		return nil, err
	}
	one := &asking{reply: key, Request: &estate.Request{Shop: d.shop, Host: host, ID: rand.Text(), Desk: d.me, Reply: reply, Made: now.UTC(), Expires: now.Add(estate.RequestLife).UTC(), Do: do, Of: of}}
	if err := d.mayAsk(one); err != nil {
		return nil, err
	}
	body, err := json.Marshal(one.Request)
	if err != nil {
		return nil, err
	}
	raw, err := estate.Seal(estate.ForRequest, body, keys...)
	if err != nil {
		return nil, err
	}
	if _, err := d.trusted(estate.ForRequest, raw, d.need); err != nil {
		return nil, err
	}
	if err := d.conn.Ask(ctx, hostTopic+host+requestOf, raw, estate.RequestLife); err != nil {
		return nil, err
	}
	for {
		if answer, wrong := d.answered(one); answer != nil {
			return answer, nil
		} else if ctx.Err() != nil {
			text := host + " has not answered; it may do still what it was asked for until " + one.Expires.Format(time.RFC3339)
			if wrong != nil {
				text += fmt.Sprintf("; something else came in its name: %v", wrong)
			}
			return nil, &AskError{text}
		}
		select {
		case <-ctx.Done():
		case <-d.news:
		}
	}
}

// mayAsk begins to wait for an answer.
func (d *Desk) mayAsk(one *asking) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	switch h := d.hosts[one.Host]; {
	case h == nil || !h.In:
		return &AskError{one.Host + " was not let in"}
	case !h.On:
		return &AskError{one.Host + " is off, and is not asked"}
	}
	d.asking = one
	return nil
}

func (d *Desk) answered(one *asking) (*estate.Answer, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return one.answer, one.wrong
}

// takeAnswer takes what a workstation says to what it was asked for.
func (d *Desk) takeAnswer(host string, raw []byte) {
	one := d.asking
	if one == nil || host != one.Host || one.answer != nil {
		return
	}
	a, err := estate.OpenAnswer(raw, one.Request, d.hosts[host].Key, one.reply)
	if one.wrong = err; err == nil {
		one.answer = a
	}
}
