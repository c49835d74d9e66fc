package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"time"

	"timegate/core/gate"
	coretell "timegate/core/tell"
	"timegate/core/words"
	"timegate/tell"
	"timegate/workstation"
)

// toldCommand tells by programs: a gate's own, which is started as the gate's account, and
// one that the settings name, which hears of all with the keeper's rights. They are made
// ready and started as a gate's program is.
type toldCommand struct {
	a       *app
	command []string // of the settings
}

// Name implements [tell.Channel].
func (*toldCommand) Name() string { return "command" }

// toldLongest is how long such a program may take.
const toldLongest = 15 * time.Second

// Tell implements [tell.Channel]: each program is started once for all that it is told.
func (c *toldCommand) Tell(ctx context.Context, m tell.Message) error {
	var errs []error
	start := func(command []string, as string, list []coretell.Notice, more int) {
		one := m
		one.Notices, one.More = list, more
		if err := c.start(ctx, command, as, &one); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", gate.CommandLine(command...), err))
		}
	}
	if len(c.command) > 0 {
		start(c.command, c.own(), m.Notices, m.More)
	}
	left := slices.DeleteFunc(slices.Clone(m.Notices), func(n coretell.Notice) bool { return len(n.Command) == 0 })
	for len(left) > 0 {
		first := left[0]
		same := func(n coretell.Notice) bool { return n.As == first.As && slices.Equal(n.Command, first.Command) }
		other := func(n coretell.Notice) bool { return !same(n) }
		start(first.Command, first.As, slices.DeleteFunc(slices.Clone(left), other), 0)
		left = slices.DeleteFunc(left, same)
	}
	if len(errs) > 0 {
		// It was tried; to try it again would tell those twice who have heard.
		return &tell.FailedError{Err: errors.Join(errs...)}
	}
	return nil
}

// own is the account of the keeper's own command, as a gate names it.
func (c *toldCommand) own() string {
	if c.a.home.Scope == gate.System && os.Getuid() == 0 {
		return "root"
	}
	return ""
}

// start starts a program, and waits for it.
func (c *toldCommand) start(ctx context.Context, command []string, as string, m *tell.Message) error {
	data, err := json.Marshal(m.Notices)
	if err != nil {
		return err
	}
	g := gate.Default("told")
	g.Run = command
	g.As.User, g.As.Elevated = as, as == "root"
	if g.As.Elevated {
		g.As.User = ""
	}
	g.As.Trust = append(slices.Clone(g.As.Trust), "$TIMEGATE_TOLD*") // they are ours, and hold words
	g.As.Env = map[string]string{"TIMEGATE_TOLD": words.Line(m.Title()), "TIMEGATE_TOLD_JSON": string(data), "TIMEGATE_TOLD_MORE": strconv.Itoa(m.More)}
	done := make(chan workstation.Exit, 1)
	p, _, err := c.a.startOnce(ctx, g, false, func([]byte) {}, func(string) {}, func(x workstation.Exit) { done <- x })
	if err != nil {
		return err
	}
	defer p.Close()
	enough := time.NewTimer(toldLongest)
	defer enough.Stop()
	select {
	case x := <-done:
		if x.Signal != "" || x.Status != 0 {
			return fmt.Errorf("it ended with status %d %s", x.Status, x.Signal)
		}
		return nil
	case <-ctx.Done():
	case <-enough.C:
	}
	return errors.Join(fmt.Errorf("it had not ended after %v, and was killed", toldLongest), p.End("KILL"))
}
