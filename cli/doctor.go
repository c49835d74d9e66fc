package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/gate"
	"timegate/gates"
	"timegate/home"
	"timegate/install"
	"timegate/journal"
	"timegate/tell"
	"timegate/workstation"
	"timegate/workstation/here"
)

func (a *app) doctorCommand() *cli.Command {
	return &cli.Command{
		Name: "doctor", Usage: "look at all that the keeper depends on: what it means, and what to do",
		Description: examples(`timegate keeper doctor`, `timegate keeper doctor --json`) + "The exit status is 3 where something is wrong.",
		Action:      a.doctor,
	}
}

func (a *app) doctor(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	return a.printHealth(append(a.ownHealth(ctx), here.Health(ctx)...))
}

// printHealth prints what was looked at; where something is wrong, the exit status says so.
func (a *app) printHealth(list []workstation.Health) error {
	wrong := 0
	var rows [][]string
	for _, h := range list {
		state := h.State
		switch h.State {
		case workstation.HealthOK:
			state = a.out.good(state)
		case workstation.HealthNote:
			state = a.out.warn(state)
		default:
			wrong++
			state = a.out.bad(state)
		}
		text := h.What
		if h.Remedy != "" {
			text += "; " + h.Remedy
		}
		rows = append(rows, []string{h.Name, state, text})
	}
	if a.json {
		if err := a.out.printJSON(list); err != nil {
			return err
		}
	} else {
		a.out.table([]string{"OF", "STATE", "WHAT IT MEANS, AND WHAT TO DO"}, rows)
	}
	if wrong > 0 {
		return &exitError{status: exitFound}
	}
	return nil
}

// ownHealth looks at what is the keeper's own: its home, its journal, the room for them,
// and itself.
func (a *app) ownHealth(ctx context.Context) []workstation.Health {
	ok := healthy
	wrong := func(name string, err error, remedy string) workstation.Health { return ill(name, err.Error(), remedy) }
	out := []workstation.Health{ok("home", a.home.State)}
	if err := gates.Safe(a.home); err != nil {
		out[0] = wrong("home", err, "")
	}
	settings, err := home.ReadSettings(a.home.Settings())
	if err != nil {
		out = append(out, wrong("settings", err, "the last good ones go on until it is mended"))
	} else {
		out = append(out, ok("settings", a.home.Settings()))
	}
	out = append(out, a.gatesHealth(), a.journalHealth(), a.roomHealth())
	status, err := a.client.Status(ctx)
	switch {
	case errors.Is(err, control.ErrNoKeeper):
		out = append(out, workstation.Health{Name: "keeper", State: workstation.HealthWrong, What: "none runs: nothing starts by itself", Remedy: "timegate keeper run, or timegate keeper install"})
	case err != nil:
		out = append(out, wrong("keeper", err, ""))
	default:
		h := ok("keeper", fmt.Sprintf("process %d answers on %s", status.PID, a.home.Socket))
		for _, t := range status.Troubles {
			if h.State = workstation.HealthNote; t.Stops {
				h.State = workstation.HealthWrong
			}
			h.What += fmt.Sprintf("; %s: %s", t.What, t.Why)
		}
		if !status.Staged && !install.BeginsByItself(a.home, a.own) && h.State == workstation.HealthOK {
			h.State, h.What = workstation.HealthNote, h.What+"; it "+a.notByItself()
		}
		if text := otherVersion(status); text != "" && h.State == workstation.HealthOK {
			h.State, h.What = workstation.HealthNote, h.What+"; its program is "+text
		}
		out = append(out, h)
	}
	return append(out, tellHealth(settings.Tell)...)
}

func (a *app) gatesHealth() workstation.Health {
	files, err := a.files()
	if err != nil {
		return workstation.Health{Name: "gates", State: workstation.HealthWrong, What: err.Error()}
	}
	broken := slices.DeleteFunc(slices.Clone(files), func(f gates.File) bool { return f.Gate != nil })
	h := workstation.Health{Name: "gates", State: workstation.HealthOK, What: plural(len(files), "gate")}
	if len(broken) > 0 {
		h.State, h.What, h.Remedy = workstation.HealthWrong, fmt.Sprintf("%d of %s broken, such as %s", len(broken), plural(len(files), "gate"), broken[0].Name), "timegate check"
	}
	return h
}

// journalHealth lets SQLite look through the journal.
func (a *app) journalHealth() workstation.Health {
	h := workstation.Health{Name: "journal", State: workstation.HealthOK}
	if a.home.OfOthers() {
		h.What = "it is root's to look at"
		return h
	}
	j, err := journal.OpenReader(a.home.Journal())
	if errors.Is(err, journal.ErrNone) {
		h.What = "there is none yet"
		return h
	}
	fail := func(err error) workstation.Health {
		h.State, h.What, h.Remedy = workstation.HealthWrong, err.Error(), "timegate keeper run --set-aside saves what can be read; timegate keeper restore FILE brings a copy back"
		return h
	}
	if err != nil {
		return fail(err)
	}
	defer j.Close()
	faults, err := j.Faults()
	if err == nil && len(faults) > 0 {
		err = errors.New("it is damaged: " + strings.Join(faults, "; "))
	}
	if err != nil {
		return fail(err)
	}
	size, err := j.Size()
	if err != nil {
		return fail(err)
	}
	h.What = bytesText(size) + ", whole"
	return h
}

// roomHealth looks how much room there is for the journal and for what programs print.
func (a *app) roomHealth() workstation.Health {
	const least, little = 64 << 20, 512 << 20
	h := workstation.Health{Name: "disk room", State: workstation.HealthOK}
	free, err := here.Reading("disk:" + a.home.State)
	switch {
	case err != nil:
		h.State, h.What = workstation.HealthNote, err.Error()
		return h
	case free < least:
		h.State, h.Remedy = workstation.HealthWrong, "make room: what cannot be recorded does not start, unless [keep] without_journal says so"
	case free < little:
		h.State, h.Remedy = workstation.HealthNote, "make room before nothing can be recorded"
	}
	h.What = bytesText(free) + " free at " + a.home.State
	return h
}

// tellHealth looks whether people can be told.
func tellHealth(t home.Tell) (out []workstation.Health) {
	look := func(wanted bool, name, what string, paths ...string) {
		if !wanted {
			return
		}
		h := workstation.Health{Name: name, State: workstation.HealthOK, What: what}
		if !slices.ContainsFunc(paths, func(p string) bool { _, err := os.Stat(p); return err == nil }) {
			h.State, h.What, h.Remedy = workstation.HealthWrong, strings.Join(paths, " and ")+" are not there: nobody is told by it", "take it out of [tell], or install what it needs"
		}
		out = append(out, h)
	}
	look(t.Syslog, "log", "the machine's log is told", "/dev/log")
	if len(t.Command) > 0 {
		look(true, "command", gate.CommandLine(t.Command...)+" is told", t.Command[0])
	}
	look(t.Mail != "", "mail", "mail goes to "+t.Mail, tell.SendmailPaths...)
	return out
}
