package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	coreestate "timegate/core/estate"
	"timegate/core/words"
	"timegate/estate"
)

func (a *app) estateWatchCommand() *cli.Command {
	return &cli.Command{
		Name: "watch", Usage: "what happens on the workstations, a line each, as they tell it",
		Description: examples(`timegate estate watch`, `timegate estate watch --json`) + "It goes on until you end it. A workstation tells of a first failure after some seconds, and of later ones within minutes.",
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			return a.atDesk(ctx, a.watchEstate(ctx))
		},
	}
}

// hostEvent is something that happened on a workstation.
type hostEvent struct {
	At   time.Time `json:"at"`
	Host string    `json:"host"`
	What string    `json:"what"` // on, off, asking, wrong, the state of a bundle, or a run's result
	Text string    `json:"text"`
}

// watchEstate prints what is new, until the context ends.
func (a *app) watchEstate(ctx context.Context) func(d *estate.Desk) error {
	return func(d *estate.Desk) error {
		const together = 200 * time.Millisecond // what comes within this is looked at once
		before, trouble := d.Hosts(), ""
		fmt.Fprintf(a.err, "%s; ctrl-C ends it\n", plural(len(before), "workstation"))
		for {
			select {
			case <-ctx.Done():
				return nil
			case <-d.News():
			}
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(together):
			}
			if is := d.Trouble(); is != trouble {
				if trouble = is; is != "" {
					fmt.Fprintf(a.err, "%s: %s\n", a.err.warn("the broker is not reached"), words.Line(is))
				}
			}
			now := d.Hosts()
			for _, e := range hostEvents(before, now, time.Now()) {
				if err := a.printHostEvent(&e); err != nil {
					return err
				}
			}
			before = now
		}
	}
}

func (a *app) printHostEvent(e *hostEvent) error {
	if a.json {
		line, err := json.Marshal(e)
		if err == nil {
			_, err = fmt.Fprintln(a.out, string(line))
		}
		return err
	}
	text := words.Line(e.Text)
	switch {
	case e.What == "on" || e.What == string(coreestate.Taken):
		text = a.out.good(text)
	case e.What == "asking" || e.What == "off":
		text = a.out.warn(text)
	default:
		text = a.out.bad(text)
	}
	_, err := fmt.Fprintf(a.out, "%s  %s  %s\n", a.local(e.At), e.Host, text)
	return err
}

// hostEvents says what is otherwise on workstations than it was before, the oldest first.
func hostEvents(before, now []estate.Host, at time.Time) []hostEvent {
	was := map[string]*estate.Host{}
	for i := range before {
		was[before[i].Host] = &before[i]
	}
	var out []hostEvent
	for i := range now {
		h := &now[i]
		old := was[h.Host]
		if old == nil {
			old = &estate.Host{}
		}
		say := func(when time.Time, what, text string) {
			out = append(out, hostEvent{when, h.Host, what, text})
		}
		if state := hostState(h); old.Host == "" || state != hostState(old) {
			text := state
			if !h.In {
				text = "asks to be let in"
			}
			say(at, state, text)
		}
		if h.Wrong != "" && h.Wrong != old.Wrong {
			say(at, "wrong", h.Wrong)
		}
		if h.Last == nil {
			continue
		}
		last := &coreestate.Report{}
		if old.Last != nil {
			last = old.Last
		}
		if b := h.Last.Bundle; b.State != "" && (b.Number != last.Bundle.Number || b.State != last.Bundle.State) {
			text := fmt.Sprintf("bundle %d %s", b.Number, b.State)
			if b.Code != "" {
				text += ": " + b.Code
			}
			say(h.Last.At, string(b.State), text)
		}
		if old.Last == nil {
			continue // what failed before is nothing new
		}
		for _, f := range h.Last.Failures {
			if !slices.Contains(last.Failures, f) {
				say(f.At, f.Result, fmt.Sprintf("run %d of %s", f.Run, failureText(&f)))
			}
		}
	}
	slices.SortStableFunc(out, func(x, y hostEvent) int { return x.At.Compare(y.At) })
	return out
}
