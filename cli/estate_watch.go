package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	coreestate "timegate/core/estate"
	"timegate/core/words"
	"timegate/estate"
	"timegate/watch"
)

func (a *app) estateWatchCommand() *cli.Command {
	return &cli.Command{
		Name: "watch", Usage: "look at the workstations, and what happens on them, as they tell it",
		Description: examples(`timegate estate watch`, `timegate estate watch --lines`, `timegate estate watch --json`) + "A view of the whole terminal; \"?\" lists its keys, and \"q\" quits. Where there is no terminal, and with --lines, what happens is\n" +
			"printed, a line each. A workstation tells of a first failure after some seconds, and of later ones within minutes.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "lines", Usage: "print what happens, a line each"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			a.lasts()
			if err := noArguments(c); err != nil {
				return err
			}
			if !a.json && !c.Bool("lines") && a.canWatch() {
				return a.atDesk(ctx, func(d *estate.Desk) error {
					return watch.RunEstate(ctx, &watchedEstate{app: a, desk: d}, a.watchOptions())
				})
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
	_, err := fmt.Fprintf(a.out, "%s  %s  %s\n", a.local(e.At), e.Host, a.eventText(e))
	return err
}

// eventText says what has happened, dressed by how well it is.
func (a *app) eventText(e *hostEvent) string {
	text := words.Line(e.Text)
	switch {
	case e.What == "on" || e.What == string(coreestate.Taken):
		return a.out.good(text)
	case e.What == "asking" || e.What == "off":
		return a.out.warn(text)
	}
	return a.out.bad(text)
}

// watchedEstate feeds the live view.
type watchedEstate struct {
	app  *app
	desk *estate.Desk

	mu     sync.Mutex // guards what follows
	looked bool
	before []estate.Host
	events []watch.EstateEvent
}

// News implements [watch.EstateSource].
func (w *watchedEstate) News() <-chan struct{} { return w.desk.News() }

// Look implements [watch.EstateSource].
func (w *watchedEstate) Look() *watch.Estate {
	w.mu.Lock()
	defer w.mu.Unlock()
	a, hosts := w.app, w.desk.Hosts()
	if w.looked {
		w.note(hostEvents(w.before, hosts, time.Now()))
	} else {
		w.note(lately(hosts))
	}
	w.looked, w.before = true, slices.Clone(hosts)
	out := &watch.Estate{Name: w.desk.Shop(), Trouble: w.desk.Trouble(), Columns: hostColumns, Events: slices.Clone(w.events)}
	counts := countHosts(hosts)
	out.Summary = fmt.Sprintf("%s, %d on", plural(counts.in, "workstation"), counts.on)
	if counts.asking > 0 {
		out.Summary += ", " + a.out.warn(fmt.Sprintf("%d asking", counts.asking))
	}
	if b, r := w.desk.Bundle(); b != nil {
		out.Bundle = fmt.Sprintf("bundle %d", b.Number)
		if v, err := w.desk.Judge(time.Now()); err == nil {
			out.Bundle += ", " + a.waveText(b, r, &v)
			all := w.desk.Progress(time.Now())
			out.Taken, out.All, out.Bad = all.Taken, all.Reached, all.Of[coreestate.Failed]+all.Of[coreestate.Broken]
		}
	}
	estate.SortHosts(hosts)
	for i := range hosts {
		h := &hosts[i]
		out.Hosts = append(out.Hosts, watch.EstateHost{Name: h.Host, Groups: h.Groups, Bad: h.Trouble() > 0, Cells: func() []string { return a.hostRow(h) }})
	}
	return out
}

// mostEvents is how much of what has happened is kept.
const mostEvents = 200

// lately is what has failed before the view began, the oldest first: it is not new, and worth to
// be seen.
func lately(hosts []estate.Host) (out []hostEvent) {
	list := failuresOf(hosts, time.Time{}, "")
	for _, f := range slices.Backward(list[:min(len(list), mostEvents)]) {
		out = append(out, failed(&f))
	}
	return out
}

// note puts what has happened, the oldest first, before what has happened earlier.
func (w *watchedEstate) note(events []hostEvent) {
	for i := range events {
		e := &events[i]
		w.events = slices.Insert(w.events, 0, watch.EstateEvent{At: e.At, Host: e.Host, Text: w.app.eventText(e)})
	}
	w.events = w.events[:min(len(w.events), mostEvents)]
}

// Show implements [watch.EstateSource].
func (w *watchedEstate) Show(host string) []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	i := slices.IndexFunc(w.before, func(h estate.Host) bool { return h.Host == host })
	if i < 0 {
		return nil
	}
	var text bytes.Buffer
	one := *w.app
	one.out = w.app.out.onto(&text)
	one.showHost(&w.before[i])
	return strings.Split(strings.TrimSpace(text.String()), "\n")
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
			at := h.Last.At
			if b.At != nil {
				at = *b.At
			}
			say(at, string(b.State), text)
		}
		if old.Last == nil {
			continue // what failed before is nothing new
		}
		for _, f := range h.Last.Failures {
			if !slices.Contains(last.Failures, f) {
				out = append(out, failed(&hostFailure{h.Host, f}))
			}
		}
	}
	slices.SortStableFunc(out, func(x, y hostEvent) int { return x.At.Compare(y.At) })
	return out
}

// failed is a run that has not ended well as something that has happened.
func failed(f *hostFailure) hostEvent {
	return hostEvent{f.At, f.Host, f.Result, fmt.Sprintf("run %d of %s", f.Run, failureText(&f.Failure))}
}
