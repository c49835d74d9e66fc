package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/engine"
	"timegate/core/words"
	"timegate/journal"
)

// betweenLooks is how often the output of a run is looked at that the keeper has
// started.
const betweenLooks = 200 * time.Millisecond

// errRunOver ends following a run.
var errRunOver = errors.New("the run is over")

// tryAsKeeper lets the running keeper start a gate, and tells what it prints and how it
// ends, as try does.
func (a *app) tryAsKeeper(ctx context.Context, c *cli.Command, names []string) error {
	f, err := a.gateArgument(c)
	if err != nil {
		return err
	}
	status, err := a.client.Status(ctx)
	if err != nil {
		return err
	}
	before, err := measureAll(ctx, names)
	if err != nil {
		return usageError("%w", err)
	}
	ans, err := a.client.Open(ctx, f.Name)
	if err == nil && ans.Known {
		if i := slices.IndexFunc(ans.Decisions, func(d control.Decision) bool { return d.Starts() }); i >= 0 {
			fmt.Fprintln(a.err, a.err.faint(fmt.Sprintf("run %d of the keeper", ans.Decisions[i].Run)))
			stop := func(live context.Context) error {
				_, err := a.client.Stop(live, f.Name)
				return err
			}
			e, err := a.followRun(ctx, ans.Decisions[i].Run, status.Last, a.out.raw, stop)
			if err != nil {
				return err
			}
			defer a.tellMeasured(ctx, names, before)
			return a.tellKeepersRun(e)
		}
	}
	return a.answered(f.Name)(ans, err) // it did not start
}

// followRun shows what a run prints until it ends, and returns it. An interrupt stops it, or
// ends the following where there is nothing for that.
func (a *app) followRun(ctx context.Context, run, after int64, show func([]byte) error, stop func(context.Context) error) (journal.Entry, error) {
	live := context.WithoutCancel(ctx)
	following, enough := context.WithCancel(live)
	defer enough()
	ended := make(chan error, 1)
	go func() {
		ended <- a.client.Follow(following, after, func(it control.Item) error {
			if slices.ContainsFunc(it.Decisions, func(d control.Decision) bool {
				return d.Run == run && (d.Decision == string(engine.End) || d.Decision == string(engine.Refuse))
			}) {
				return errRunOver
			}
			return nil
		})
	}()
	ticker := time.NewTicker(betweenLooks)
	defer ticker.Stop()
	var shown []byte
	interrupted := ctx.Done()
	var over error // why it is not followed any longer
	for {
		select {
		case over = <-ended: // it is recorded by the next look at the latest
		case <-interrupted:
			if interrupted = nil; stop == nil {
				return journal.Entry{}, nil
			}
			if err := stop(live); err != nil {
				return journal.Entry{}, err
			}
			continue
		case <-ticker.C:
		}
		j, err := a.reader()
		if err != nil || j == nil {
			return journal.Entry{}, err
		}
		text, outErr := j.Output(run)
		e, _, err := j.Run(run)
		j.Close()
		if err != nil {
			return e, err
		}
		if outErr == nil {
			if err := show(fresh(shown, text)); err != nil {
				return e, err
			}
			shown = text
		}
		switch {
		case over != nil && e.Ended != 0:
			return e, nil
		case over != nil && !errors.Is(over, errRunOver):
			return e, over
		}
	}
}

// fresh returns what is new in a text, of which the middle may have been left out since.
func fresh(shown, text []byte) []byte {
	if bytes.HasPrefix(text, shown) {
		return text[len(shown):]
	}
	const anchor = 256
	tail := shown[max(0, len(shown)-anchor):]
	if i := bytes.LastIndex(text, tail); i >= 0 {
		return text[i+len(tail):]
	}
	return text
}

// tellKeepersRun tells how a run ended.
func (a *app) tellKeepersRun(e journal.Entry) error {
	if e.Note != "" {
		fmt.Fprintln(a.err, a.err.warn(words.Line(e.Note)))
	}
	took := "did not start"
	if e.Started != 0 {
		took = "after " + short(e.Ended.Sub(e.Started)) + usedText(&e.Usage)
	}
	fmt.Fprintf(a.err, "%s: %s, %s\n", a.result(e.Result), outcomeOf(&e), took)
	if e.Result == engine.ResultOK {
		return nil
	}
	return &exitError{status: exitFailed}
}
