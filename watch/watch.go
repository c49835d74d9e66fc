package watch

import (
	"context"
	"errors"
	"io"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"timegate/control"
	"timegate/core/calendar"
)

// Source is what the view is fed by, and acts through.
type Source interface {
	Status(ctx context.Context) (control.Status, error)
	// Follow hands over what is committed after a number, until the context ends or the
	// keeper goes.
	Follow(ctx context.Context, after int64, take func(control.Item) error) error
	Load(status control.Status) (*Loaded, error)
	// Check returns what is wrong or unwise about the gates that can be read, a line each.
	Check(ctx context.Context) ([]string, error)
	Activity(run int64) (Activity, bool)
	Output(run int64) ([]byte, error)
	Why(ctx context.Context, gate string) (string, error)
	// Do returns what came of an action, in a few words.
	Do(ctx context.Context, what Action, gate string) (string, error)
}

// Options say how the view is shown.
type Options struct {
	Zone  *calendar.Zone
	Host  string
	Style Style
	In    io.Reader
	Out   io.Writer
}

// Run shows the view until it is quit, or the context ends.
func Run(ctx context.Context, source Source, o Options) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	m := &model{state: state{zone: o.Zone, host: o.Host}, frame: frame{style: o.Style}, source: source, ctx: ctx}
	return show(ctx, stop, m, o, func(send func(tea.Msg)) { feed(ctx, source, send) })
}

// How the keeper's stream is passed on.
const (
	together = 100 * time.Millisecond // what comes within this is told at once
	again    = 500 * time.Millisecond // before a keeper that has gone is looked for again
)

// feed tells the view what there is and what happens, over restarts of the keeper.
func feed(ctx context.Context, source Source, send func(tea.Msg)) {
	for ctx.Err() == nil {
		err := feedOnce(ctx, source, send)
		if ctx.Err() != nil {
			return
		}
		if !errors.Is(err, control.ErrBehind) { // else it reads again what it has missed
			send(goneMsg{err})
		}
		select {
		case <-ctx.Done():
		case <-time.After(again):
		}
	}
}

// feedOnce follows one keeper until it goes.
func feedOnce(ctx context.Context, source Source, send func(tea.Msg)) error {
	status, err := source.Status(ctx)
	if err != nil {
		return err
	}
	loaded, err := source.Load(status)
	if err != nil {
		return err
	}
	send(loadedMsg{status, loaded})
	items := make(chan control.Item, 1024)
	var passing sync.WaitGroup
	passing.Go(func() { passOn(items, send) })
	err = source.Follow(ctx, status.Last, func(it control.Item) error {
		select {
		case items <- it:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	})
	close(items)
	passing.Wait()
	return err
}

// passOn tells of items, those that come together at once.
func passOn(items <-chan control.Item, send func(tea.Msg)) {
	for it := range items {
		all := itemsMsg{it}
		enough := time.After(together)
		for open := true; open; {
			select {
			case it, more := <-items:
				if open = more; more {
					all = append(all, it)
				}
			case <-enough:
				open = false
			}
		}
		send(all)
	}
}
