package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/forecast"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/words"
	"timegate/demo"
	"timegate/gates"
	"timegate/home"
	"timegate/journal"
	"timegate/keeper"
	"timegate/workstation/rights"
	"timegate/workstation/staged"
)

// demoRate lets the clock of the staged day run through its idle hours in
// about ten seconds.
const demoRate = 4000

func (a *app) demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Category: otherCommands, Usage: "play a day at the Larkspur Bindery, in about 20 seconds", ArgsUsage: "[CHAPTER]",
		Description: examples(`timegate demo`, `timegate demo foresight`, `timegate demo --keep ~/larkspur`) + "The programs are really started. The machine is a stand-in, and its clock runs fast while no program does.\n" +
			"Each chapter can be played alone: " + strings.Join(demoChapters, ", ") + ".",
		Flags:  []cli.Flag{&cli.StringFlag{Name: "keep", Usage: "keep the files in `DIR`, which must be new or empty", TakesFile: true}},
		Action: a.demo,
	}
}

func (a *app) demo(ctx context.Context, c *cli.Command) error {
	a.lasts()
	chapter, err := demoChapter(c)
	if err != nil {
		return err
	}
	dir, clean, err := demoFolder(c.String("keep"))
	if err != nil {
		return err
	}
	defer clean()
	if a.zone, err = demo.Zone(); err != nil {
		return err
	}
	if chapter == "estate" {
		return a.demoEstate(ctx, dir, c.String("keep") != "")
	}
	a.host = demo.Workstation
	a.home = home.At(filepath.Join(dir, "home"), gate.User)
	a.client = control.NewClient(a.home)
	to := demo.Folders{Gates: a.home.Gates, Bin: filepath.Join(dir, "bin"), Proofs: filepath.Join(dir, "proofs")}
	if err := errors.Join(a.home.Prepare(), os.MkdirAll(to.Bin, 0o755), os.MkdirAll(to.Proofs, 0o755)); err != nil {
		return err
	}
	if err := demo.Unpack(to); err != nil {
		return err
	}
	from, _, _ := demo.Day(a.zone)
	a.now = func() time.Time { return from }
	fmt.Fprintf(a.out, "The Larkspur Bindery, workstation %s, on a STAGED machine: a stand-in whose clock runs fast.\n", demo.Workstation)
	told := chapter == "" || chapter == "day"
	if told {
		if err := a.demoBefore(from); err != nil {
			return err
		}
	}
	if chapter == "watch" && !a.canWatch() {
		return usageError("the chapter watch wants a terminal")
	}
	rows, err := a.demoDay(ctx, to.Proofs, told, chapter == "watch")
	if err != nil {
		return err
	}
	if told {
		if err := a.demoAfter(rows); err != nil {
			return err
		}
	}
	if chapter == "" || chapter == "foresight" {
		if err := a.demoForesight(ctx, dir); err != nil {
			return err
		}
	}
	if chapter == "" || chapter == "report" {
		if err := a.demoReport(ctx, dir); err != nil {
			return err
		}
	}
	a.demoEnd(c.String("keep") != "")
	return nil
}

// demoFolder makes the folder of the demo's files and returns what takes it
// away again.
func demoFolder(keep string) (dir string, clean func(), err error) {
	if keep == "" {
		dir, err = os.MkdirTemp(runnable(), "larkspur-")
		return dir, func() { os.RemoveAll(dir) }, err
	}
	if dir, err = filepath.Abs(keep); err != nil {
		return "", nil, err
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return "", nil, usageError("--keep %s: the folder is not empty; name one that is not there yet", keep)
	}
	return dir, func() {}, os.MkdirAll(dir, 0o755)
}

// runnable is a folder for temporary files from which programs can be run; "" is the usual
// one.
func runnable() string {
	places := []string{os.TempDir(), "/var/tmp"}
	if dir, err := os.UserCacheDir(); err == nil && os.MkdirAll(dir, 0o700) == nil {
		places = append(places, dir)
	}
	for _, dir := range places {
		if !rights.NoPrograms(dir) {
			return dir
		}
	}
	return ""
}

func (a *app) title(text string) {
	fmt.Fprintf(a.out, "\n%s\n", a.out.head(text))
}

// demoBefore checks and previews the gates.
func (a *app) demoBefore(from time.Time) error {
	a.title("$ timegate check")
	files, err := gates.ReadFolder(a.home, a.env())
	if err != nil {
		return err
	}
	found := gate.Findings{}
	for _, f := range files {
		found = append(found, f.Findings...)
	}
	a.printFindings(a.out, found)
	a.checkVerdict(len(files), found)
	a.title("$ timegate preview --to \"2026-11-30 08:30\"")
	all := []due{}
	for _, f := range files {
		if f.Gate != nil {
			all = append(all, a.dues(f.Gate, forecast.Span{From: calendar.InstantOf(from), To: calendar.InstantOf(from.Add(2*time.Hour + time.Minute))})...)
		}
	}
	sortDues(all)
	fmt.Fprintln(a.out)
	a.printDues(all, true)
	return nil
}

// demoDay runs a keeper through the staged day and prints what happens as it
// happens, where it is to be told, or shows it in the live view. It returns what "list" shows
// at the end.
func (a *app) demoDay(ctx context.Context, proofs string, told, view bool) (rows []listed, err error) {
	from, to, scenes := demo.Day(a.zone)
	a.title("$ timegate keeper run    (staged, " + short(to.Sub(from)) + ")")
	machine, err := staged.New(staged.Options{At: from, Zone: a.zone, BootID: "larkspur-demo", Host: demo.Workstation, Rate: demoRate})
	if err != nil {
		return nil, err
	}
	defer machine.Close()
	wrong := make(chan error, len(scenes))
	for _, s := range scenes {
		machine.At(s.At, func() {
			if s.Proof != "" {
				wrong <- os.WriteFile(filepath.Join(proofs, s.Proof), []byte(s.At.String()), 0o600)
				return
			}
			wrong <- machine.Stage(s.Stage)
		})
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	line := newProgress(a.err, from, to)
	if view {
		defer a.demoView(ctx, cancel)()
	}
	k := keeper.New(keeper.Options{Home: a.home, Workstation: machine, Observe: func(ev engine.Event, decisions []engine.Decision) {
		if !told {
			return
		}
		line.clear()
		a.demoEvent(&ev)
		for i := range decisions {
			a.demoLine(&decisions[i])
		}
	}})
	ended := make(chan error, 1)
	go func() { ended <- k.Run(ctx) }()
	beat := time.NewTicker(100 * time.Millisecond)
	defer beat.Stop()
	for {
		select {
		case err := <-ended:
			if !view {
				line.clear()
			}
			return rows, err
		case err := <-wrong:
			if err != nil {
				return nil, err
			}
		case <-beat.C:
			now := machine.Now()
			if !now.Before(to) && rows == nil {
				a.now = func() time.Time { return to }
				if rows, err = a.demoList(ctx); err != nil {
					return nil, err
				}
				cancel()
				continue
			}
			if !view {
				line.show(now.In(a.zone.Location()))
			}
		}
	}
}

// demoEvent prints what happens on the machine.
func (a *app) demoEvent(ev *engine.Event) {
	what := "boot" // which a keeper that begins sees first
	switch b := ev.Body.(type) {
	case *engine.Begin, *engine.Booted:
	case *engine.Occurred:
		what = string(b.Event)
		switch {
		case b.Event == phrase.Change:
			return
		case b.Event == phrase.Battery:
			what += fmt.Sprintf(" %d%%", b.Facts.Charge)
		case b.Subject != "":
			what += " " + b.Subject
		case b.Name != "":
			what += " " + b.Name
		}
	default:
		return
	}
	fmt.Fprintf(a.out, "%s  %s\n", ev.At.Time().In(a.zone.Location()).Format("15:04:05"), a.out.head("* "+what))
}

// demoLine prints a decision as it is made.
func (a *app) demoLine(d *engine.Decision) {
	if d.Kind == engine.Release {
		return
	}
	fmt.Fprintln(a.out, a.decisionLine(d.At.Time(), string(d.Kind), d.Result, d.Signal, d.Gate, d.Run, words.Reason(d.Reason)))
}

// decisionLine tells of a decision as it is made.
func (a *app) decisionLine(at time.Time, what string, result engine.Result, signal, gate string, run int64, why string) string {
	switch {
	case result != "":
		what = a.result(result)
	case signal != "":
		what = a.out.warn("stop " + signal)
	}
	number := ""
	if run != 0 {
		number = fmt.Sprintf("run %d", run)
	}
	pad := strings.Repeat(" ", max(0, 9-ansi.StringWidth(what)))
	return fmt.Sprintf("%s  %s%s %-13s %-7s %s", at.In(a.zone.Location()).Format("15:04:05"), what, pad, gate, number, a.out.faint(why))
}

// demoList is what "list" shows.
func (a *app) demoList(ctx context.Context) ([]listed, error) {
	files, err := gates.ReadFolder(a.home, a.env())
	if err != nil {
		return nil, err
	}
	return a.listed(ctx, files)
}

// demoAfter shows what is known after the day.
func (a *app) demoAfter(rows []listed) error {
	a.title("$ timegate history --count 12")
	entries, err := a.entries(journal.Filter{Limit: 12})
	if err != nil {
		return err
	}
	a.printEntries(entries)
	a.title("$ timegate list")
	a.printList(rows, nil)
	a.title("$ timegate why vault-copy")
	moments, err := a.story("vault-copy", 2)
	if err != nil {
		return err
	}
	files, err := gates.ReadFolder(a.home, a.env())
	if err != nil {
		return err
	}
	for _, f := range files {
		if f.Name == "vault-copy" {
			for _, m := range a.tellMoments(f.Gate, moments) {
				a.printMoment(m)
			}
		}
	}
	return nil
}

// demoEnd says where the files are.
func (a *app) demoEnd(kept bool) {
	if kept {
		fmt.Fprintf(a.out, "\nThe files are in %s. Look on with\n  timegate --home %s history\n", filepath.Dir(a.home.State), a.home.State)
		return
	}
	fmt.Fprintln(a.out, "\nThe files are gone again; \"timegate demo --keep DIR\" leaves them to play with. \"timegate demo watch\" plays the day in the live\nview, and \"timegate demo estate\" three workstations.")
}
