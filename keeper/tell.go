package keeper

import (
	"context"
	"slices"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	coretell "timegate/core/tell"
	"timegate/home"
	"timegate/journal"
	"timegate/tell"
)

// Telling is how people are told of what is not well.
type Telling struct {
	// Channels returns the ways that the settings want.
	Channels func(home.Tell) []tell.Channel
	// Gather is how long is waited for more before a message, and Pause how long between two
	// of a channel at least.
	Gather, Pause time.Duration
}

// startTelling begins to tell as the settings have it; what was told before is gone on with.
func (k *Keeper) startTelling() {
	if k.telling == nil || k.teller != nil && sameTell(k.tellBy, k.settings.Tell) {
		return
	}
	k.stopTelling()
	t, fresh, err := tell.New(tell.Options{File: k.home.Notices(), Host: k.ws.Host(), Channels: k.telling.Channels(k.settings.Tell), Log: k.log, Gather: k.telling.Gather, Pause: k.telling.Pause})
	if err != nil {
		k.log.Warn("what people were told before is not known", "error", err)
	}
	k.teller, k.tellBy = t, k.settings.Tell
	k.tellMissed(fresh)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		t.Run(ctx)
		close(done)
	}()
	k.tellEnd = func() {
		stop()
		<-done
	}
}

func sameTell(a, b home.Tell) bool {
	return a.Desktop == b.Desktop && a.Syslog == b.Syslog && a.Mail == b.Mail && slices.Equal(a.Of, b.Of) && slices.Equal(a.Command, b.Command)
}

// stopTelling ends it. What is still to be told is kept.
func (k *Keeper) stopTelling() {
	if k.tellEnd != nil {
		k.tellEnd()
		k.tellEnd, k.teller = nil, nil
	}
}

// tellMissed looks at what was recorded that nobody has looked at yet. Where nobody ever
// did, it is nothing new.
func (k *Keeper) tellMissed(fresh bool) {
	const atOnce = 500
	seen := func(after int64) {
		k.teller.Update(func(s *coretell.State) []coretell.Notice {
			s.After = max(s.After, after)
			return nil
		})
	}
	if fresh { // of a journal that may be long, its end is all that matters
		newest, err := k.journal.Newest()
		if err != nil {
			k.log.Warn("what people are to be told of cannot be read", "error", err)
		}
		seen(newest)
		return
	}
	for after := k.teller.After(); ; {
		list, err := k.journal.Committed(after, atOnce)
		if err != nil {
			k.log.Warn("what people are to be told of cannot be read", "error", err)
			return
		}
		for _, c := range list {
			after = c.Number
			k.tellOf(c)
		}
		if len(list) < atOnce {
			seen(after)
			return
		}
	}
}

// tellOf tells of what was committed, once.
func (k *Keeper) tellOf(c journal.Committed) {
	if k.teller == nil {
		return
	}
	k.teller.Update(func(s *coretell.State) []coretell.Notice {
		if c.Number <= s.After {
			return nil
		}
		s.After = c.Number
		return k.signed(s.Decided(c.Decisions, k.toldOf))
	})
}

// signed adds as whom the gates run, and the command by which they are told.
func (k *Keeper) signed(list []coretell.Notice) []coretell.Notice {
	for i := range list {
		if f, there := k.files[list[i].Gate]; there && f.Gate != nil {
			list[i].As, list[i].Command = f.Gate.Account(), f.Gate.Tell.Command
		}
	}
	return list
}

// toldOf returns what people are told of a gate.
func (k *Keeper) toldOf(name string) []string {
	if f, there := k.files[name]; there && f.Gate != nil {
		return coretell.Of(f.Gate, k.settings.Tell.Of)
	}
	return k.settings.Tell.Of
}

// tellGates tells of gates that are broken now, or well again.
func (k *Keeper) tellGates() {
	if k.teller == nil {
		return
	}
	broken := map[string]string{}
	for name, found := range k.broken {
		broken[name] = found.Errors()[0].Error()
	}
	there := func(name string) bool {
		_, good := k.files[name]
		_, bad := broken[name]
		return good || bad
	}
	k.teller.Update(func(s *coretell.State) []coretell.Notice {
		return k.signed(s.Gates(calendar.InstantOf(k.now()), broken, there, k.toldOf))
	})
}

// tellMachine tells of something that belongs to no gate.
func (k *Keeper) tellMachine(text string) {
	if k.teller == nil {
		return
	}
	k.teller.Update(func(*coretell.State) []coretell.Notice {
		return []coretell.Notice{{At: calendar.InstantOf(k.now()), Text: text}}
	})
}

// tellAgain lets be tried once more what could not be told, when somebody comes.
func (k *Keeper) tellAgain(ev engine.Event) {
	o, is := ev.Body.(*engine.Occurred)
	if k.teller != nil && is && (o.Event == "logon" || o.Event == "unlock") {
		k.teller.Wake()
	}
}
