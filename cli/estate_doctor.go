package cli

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/urfave/cli/v3"

	coreestate "timegate/core/estate"
	"timegate/estate"
	"timegate/estate/hub"
	"timegate/workstation"
)

func (a *app) estateDoctorCommand() *cli.Command {
	return &cli.Command{
		Name: "doctor", Usage: "look at all that belonging to the estate depends on: what it means, and what to do",
		Description: examples(`timegate estate doctor`, `timegate estate doctor --json`) + "The exit status is 3 where something is wrong.",
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			s, err := a.estateSettings()
			if err != nil {
				return err
			}
			return a.printHealth(a.estateHealth(ctx, s))
		},
	}
}

// estateHealth looks at a workstation's side, or at a desk's.
func (a *app) estateHealth(ctx context.Context, s *estate.Settings) []workstation.Health {
	out := []workstation.Health{healthy("settings", estate.File(a.home)+", shop "+s.Shop)}
	if _, err := s.BrokerOf(a.host); err != nil {
		return append(out, ill("broker", err.Error(), "mend it in "+estate.File(a.home)))
	}
	if !s.Desk {
		return append(out, a.stationHealth()...)
	}
	began := time.Now()
	var seen []workstation.Health
	err := a.atDesk(ctx, func(d *estate.Desk) error {
		seen = append(seen, healthy("broker", fmt.Sprintf("%s has told all that it keeps within %d ms", s.Broker, time.Since(began).Milliseconds())))
		b, r := d.Bundle()
		seen = append(seen, hostsHealth(d.Hosts()), bundleHealth(b, r, d.Released(), time.Now()))
		return nil
	})
	if err != nil {
		seen = append(seen, ill("broker", err.Error(), "is it there, and are name, password and authority right?"))
	}
	return append(out, seen...)
}

// stationHealth looks at a workstation, which reaches the broker through its keeper alone.
func (a *app) stationHealth() []workstation.Health {
	key, err := estate.HostKey(a.home)
	if err != nil {
		return []workstation.Health{ill("key", err.Error(), "")}
	}
	out := []workstation.Health{healthy("key", coreestate.Fingerprint(key.Public().(ed25519.PublicKey)))}
	text, err := estate.Files{Home: a.home}.LastTold()
	var r coreestate.Report
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return append(out, ill("report", "nothing was told yet", "let a keeper run: timegate keeper run"))
	case err == nil:
		err = json.Unmarshal(text, &r)
	}
	if err != nil {
		return append(out, ill("report", err.Error(), ""))
	}
	const late = 25 * time.Hour // a day, and what comes with being asleep
	h := healthy("report", "the last one was made "+a.localFar(r.At))
	if a.now().Sub(r.At) > late {
		h.State, h.Remedy = workstation.HealthNote, "has a keeper run since then?"
	}
	out = append(out, h)
	switch b := r.Bundle; b.State {
	case "":
		out = append(out, healthy("bundle", "none has come yet"))
	case coreestate.Taken:
		out = append(out, healthy("bundle", fmt.Sprintf("%d is in force", b.Number)))
	case coreestate.Taking:
		out = append(out, healthy("bundle", fmt.Sprintf("%d is being taken", b.Number)))
	case coreestate.Changed:
		out = append(out, ill("bundle", fmt.Sprintf("of %d, a gate has been changed here since", b.Number), "see what the keeper has logged; the next bundle brings the shop's gates again"))
	default:
		out = append(out, ill("bundle", fmt.Sprintf("%d was %s (%s)", b.Number, b.State, b.Code), "see \"timegate check\", and what the keeper has logged"))
	}
	return out
}

// hostsHealth looks at the workstations of an estate.
func hostsHealth(hosts []estate.Host) workstation.Health {
	n, wrong := countHosts(hosts), ""
	for i := range hosts {
		if h := &hosts[i]; h.In && h.Wrong != "" {
			wrong = h.Host + ": " + h.Wrong
		}
	}
	h := healthy("hosts", fmt.Sprintf("%s, %d on, %d asking", plural(n.in, "workstation"), n.on, n.asking))
	switch {
	case wrong != "":
		h.State, h.What, h.Remedy = workstation.HealthWrong, h.What+"; "+wrong, "somebody may speak in its name: look at it, and at who may write at the broker"
	case n.in >= hub.Many:
		h.State, h.Remedy = workstation.HealthNote, fmt.Sprintf("a hub of ours bears %d: see \"Moving to another broker\" in docs/estate.md", hub.MostClients)
	}
	return h
}

// bundleHealth looks at the bundle of an estate, and whether it is the one that is released.
func bundleHealth(b *coreestate.Bundle, r *coreestate.Release, released bool, now time.Time) workstation.Health {
	const soon = 14 * 24 * time.Hour
	switch {
	case b == nil && r == nil:
		return healthy("bundle", "none was published yet")
	case b == nil || r != nil && b.Number < r.Number:
		return ill("bundle", fmt.Sprintf("%d is released, and the broker does not show it: nobody who comes now gets it", r.Number), "at the desk that has published it, any command shows it again; or publish the folder again")
	case r == nil || r.Number < b.Number:
		return ill("bundle", fmt.Sprintf("%d is there, and its first wave was never let begin: nobody takes it", b.Number), "publish the folder again")
	case !released:
		return ill("bundle", fmt.Sprintf("two desks have made a bundle %d, and the broker shows the one that is not released", b.Number), "publish the folder again")
	}
	h := healthy("bundle", fmt.Sprintf("%d, of which wave %d of %d has begun", b.Number, r.Wave+1, len(b.Plan.Waves)))
	switch left := b.Expires.Sub(now); {
	case r.Held:
		h.State, h.What, h.Remedy = workstation.HealthNote, h.What+", is held: "+r.Why, "timegate estate go-on, with --despite where a limit is passed; or timegate estate back"
	case left <= 0:
		h.State, h.What, h.Remedy = workstation.HealthWrong, h.What+", has expired: those that were off never get it", "publish it again"
	case left < soon:
		h.State, h.What, h.Remedy = workstation.HealthNote, fmt.Sprintf("%s, expires within %.0f days", h.What, left.Hours()/24+1), "publish it again, for those that are off for long"
	}
	return h
}

func healthy(name, what string) workstation.Health {
	return workstation.Health{Name: name, State: workstation.HealthOK, What: what}
}

func ill(name, what, remedy string) workstation.Health {
	return workstation.Health{Name: name, State: workstation.HealthWrong, What: what, Remedy: remedy}
}
