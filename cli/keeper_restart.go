package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/control"
)

func (a *app) restartCommand() *cli.Command {
	return &cli.Command{
		Name: "restart", Usage: "let the keeper begin anew, such as after an upgrade of the program; what runs goes on",
		Description: examples(`timegate keeper restart`) + "The process stays, and runs the program that is now where it was started from. No run is lost, and no moment.",
		Action:      a.keeperRestart,
	}
}

func (a *app) keeperRestart(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	before, err := a.client.Status(ctx)
	if err != nil {
		return err
	}
	return a.restartKeeper(ctx, &before)
}

func (a *app) keeperStopCommand() *cli.Command {
	return &cli.Command{
		Name: "stop", Usage: "end the keeper; what runs goes on, and nothing starts until the next one runs",
		Description: examples(`timegate keeper stop`) + "The next keeper goes on with what runs by then. Where a service or an entry lets a keeper begin by itself, it does so again;\n\"timegate keeper uninstall\" ends that, and \"timegate pause\" keeps everything from starting.",
		Action:      a.keeperStop,
	}
}

func (a *app) keeperStop(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	before, err := a.client.Status(ctx)
	if err != nil {
		return err
	}
	if err := a.client.Finish(ctx); isAnswer(err) {
		return err
	}
	text := ""
	err = a.askKeeper(ctx, func(now *control.Status, err error) bool {
		switch {
		case err == nil && !now.Began.Equal(before.Began):
			text = fmt.Sprintf("the keeper has ended, and its service has begun another one: process %d; to end that, too: timegate keeper uninstall", now.PID)
		case errors.Is(err, control.ErrNoKeeper) && !a.home.Kept(): // it answers no more, and has let go of all
			if text = "the keeper has ended"; before.Running > 0 {
				text += fmt.Sprintf("; %s still running", plural(before.Running, "program"))
			}
		}
		return text != ""
	})
	switch {
	case err != nil:
		return err
	case text == "":
		return errors.New("the keeper has been asked to end, and still answers")
	}
	fmt.Fprintln(a.out, text)
	return nil
}

// restartKeeper lets the keeper begin anew that told of itself before.
func (a *app) restartKeeper(ctx context.Context, before *control.Status) error {
	if before.Staged {
		return usageError("a staged machine ends with its keeper: end it, and run it again")
	}
	if err := a.client.Restart(ctx); isAnswer(err) {
		return err
	}
	var next *control.Status
	err := a.askKeeper(ctx, func(now *control.Status, err error) bool {
		if err == nil && !now.Began.Equal(before.Began) {
			next = now
		}
		return next != nil
	})
	switch {
	case err != nil:
		return err
	case next == nil:
		return &exitError{exitNoKeeper, errors.New("the keeper has ended, and does not answer again; look at what it has logged, and start it: timegate keeper run")}
	}
	fmt.Fprintf(a.out, "the keeper has begun anew: process %d, %s running\n", next.PID, plural(next.Running, "program"))
	return nil
}

// askKeeper asks the keeper again and again how it is, for as long as a keeper may take to
// end and to begin, until it is done. Its error is the keeper's own word, or the context's.
func (a *app) askKeeper(ctx context.Context, done func(now *control.Status, err error) bool) error {
	const patience, between = 20 * time.Second, 50 * time.Millisecond
	for end := time.Now().Add(patience); time.Now().Before(end); {
		now, err := a.client.Status(ctx)
		if isAnswer(err) {
			return err
		}
		if done(&now, err) {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(between):
		}
	}
	return nil
}

// isAnswer reports whether an error is a keeper's own word. Any other comes also from a
// connection that ends with the keeper.
func isAnswer(err error) bool {
	_, refused := errors.AsType[*control.AnswerError](err)
	_, forbidden := errors.AsType[*control.PermissionError](err)
	return refused || forbidden
}
