package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"
)

func (a *app) pauseCommand() *cli.Command {
	return &cli.Command{
		Name: "pause", Category: keepCommands, Usage: "pause: nothing starts by itself until you resume",
		Description: examples(`timegate pause --for 2h`, `timegate pause --until 18:00`, `timegate pause`) + "Programs that run go on. Moments that come during the pause are skipped, and recorded when it ends.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "for", Usage: "resume after this `DURATION`, such as 2h"},
			&cli.StringFlag{Name: "until", Usage: "resume at this `TIME`, such as 18:00 or \"tomorrow 08:00\""},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			var until time.Time
			if c.IsSet("for") && c.IsSet("until") {
				return usageError("pause takes either --for or --until")
			}
			if s := c.String("until"); s != "" {
				a.followClock(ctx)
				at, err := a.timeAhead().read(s)
				if err != nil {
					return usageError("--until: %w", err)
				}
				if until = at.Time(); !until.After(a.now()) {
					return usageError("--until %s has passed", s)
				}
			}
			if s := c.String("for"); s != "" {
				d, err := parseSpan("for", s)
				if err != nil {
					return err
				}
				if d <= 0 {
					return usageError("--for %s is no time at all", s)
				}
				status, err := a.client.Status(ctx)
				if err != nil {
					return err
				}
				until = status.Now.Add(d)
			}
			if _, err := a.client.Pause(ctx, until); err != nil {
				return err
			}
			text := "paused until \"timegate resume\""
			a.note("paused", true)
			if !until.IsZero() {
				a.note("until", until)
				text = "paused until " + a.local(until)
			}
			fmt.Fprintln(a.out, text)
			return nil
		},
	}
}
