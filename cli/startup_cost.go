package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"timegate/chart"
	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/home"
	"timegate/journal"
	"timegate/startup"
)

// beginningsKept is of how many boots and logons what is usual is made.
const beginningsKept = 40

// startupCost tells how long the machine took until it was calm after its last boot and
// its last logon, which starts took the most, and what would help.
func (a *app) startupCost(_ context.Context, c *cli.Command) error {
	j, err := a.reader()
	if err != nil {
		return err
	}
	var list []startup.Beginning
	if j != nil {
		defer j.Close()
		if list, err = a.beginnings(j); err != nil {
			return err
		}
	}
	if len(list) == 0 {
		return &exitError{exitFailed, fmt.Errorf("no boot or logon was seen yet by a keeper on a machine that tells how busy it is (/proc/pressure); ask again after the next one")}
	}
	if a.json {
		return a.out.printJSON(list)
	}
	if drawn, err := a.drawBeginnings(c, list); err != nil || drawn {
		return err
	}
	settings, err := home.ReadSettings(a.home.Settings())
	if err != nil {
		return err
	}
	files, err := a.files()
	if err != nil {
		return err
	}
	for i := range list {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		a.printBeginning(&list[i])
		a.printAdvice(list[i].Advise(settings.Pace.AtOnce), files)
	}
	return nil
}

// beginnings returns the last boot and the last logon.
func (a *app) beginnings(j control.Records) ([]startup.Beginning, error) {
	settled, err := j.Settled(beginningsKept)
	if err != nil {
		return nil, err
	}
	var out []startup.Beginning
	for _, kind := range []phrase.EventKind{phrase.Boot, phrase.Logon} {
		i := slices.IndexFunc(settled, func(s engine.Settled) bool { return s.After == kind })
		if i < 0 {
			continue
		}
		last := settled[i]
		b := startup.Beginning{After: string(last.After), Name: last.Name, Since: last.Since.Time().In(a.zone.Location()), ForS: seconds(last.For), Calm: last.Calm,
			ProcessorS: seconds(last.Processor), DiskS: seconds(last.Disk), MemoryS: seconds(last.Memory), Starts: []startup.Start{}}
		var earlier []float64
		for _, s := range settled[i+1:] {
			if s.After == last.After && s.Name == last.Name && s.Calm {
				earlier = append(earlier, seconds(s.For))
			}
		}
		if b.Earlier = len(earlier); b.Earlier > 0 {
			slices.Sort(earlier)
			b.UsualS = earlier[len(earlier)/2]
		}
		runs, err := j.History(journal.Filter{Since: last.Since, Until: last.Since.Add(max(time.Duration(last.For)*time.Millisecond, time.Minute)), OnlyRuns: true})
		if err != nil {
			return nil, err
		}
		for _, e := range runs {
			if e.Started != 0 {
				b.Starts = append(b.Starts, a.startOf(&e, last.Since))
			}
		}
		b.Order()
		out = append(out, b)
	}
	return out, nil
}

// opensAtBeginning returns at which of boot and logon a phrase opens, or "".
func opensAtBeginning(text string) phrase.EventKind {
	p, err := phrase.Parse(text)
	if err != nil {
		return ""
	}
	return beginningOf(p)
}

func beginningOf(p *phrase.Phrase) phrase.EventKind {
	if p.Kind == phrase.Event && (p.Event.Kind == phrase.Boot || p.Event.Kind == phrase.Logon) {
		return p.Event.Kind
	}
	return ""
}

func seconds(ms calendar.Instant) float64 { return float64(ms) / 1000 }

func (a *app) startOf(e *journal.Entry, since calendar.Instant) startup.Start {
	end := e.Ended
	if end == 0 {
		end = calendar.InstantOf(a.now())
	}
	return startup.Start{Run: e.Run, Gate: e.Gate, Opening: e.Opening, AtS: seconds(e.Started - since), TookS: seconds(end - e.Started), Running: e.Ended == 0,
		Prompt:     opensAtBeginning(e.Reason.Args.Phrase) != "",
		ProcessorS: float64(e.Usage.UserMS+e.Usage.SystemMS) / 1000, Memory: e.Usage.MaxRSS, ReadBytes: e.Usage.Read, WrittenBytes: e.Usage.Written}
}

// beginningTitle names a boot or logon.
func (a *app) beginningTitle(b *startup.Beginning) string {
	who := ""
	if b.Name != "" {
		who = " of " + b.Name
	}
	return fmt.Sprintf("%s%s, %s", b.After, who, a.local(b.Since))
}

// calmText says how long it took.
func calmText(b *startup.Beginning) string {
	span := func(s float64) string { return short(time.Duration(s * float64(time.Second)).Round(time.Second)) }
	text := "calm after " + span(b.ForS)
	if !b.Calm {
		text = "not calm within " + span(b.ForS)
	}
	if b.Earlier > 0 {
		text += fmt.Sprintf(" (%s before: %s)", plural(b.Earlier, "time"), span(b.UsualS))
	}
	var waits []string
	for _, w := range []struct {
		s    float64
		what string
	}{{b.ProcessorS, "a processor"}, {b.DiskS, "disks"}, {b.MemoryS, "memory"}} {
		if w.s >= 0.5 {
			waits = append(waits, fmt.Sprintf("%s for %s", span(w.s), w.what))
		}
	}
	if len(waits) > 0 {
		text += "; work waited " + strings.Join(waits, ", ")
	}
	return text
}

func (a *app) printBeginning(b *startup.Beginning) {
	fmt.Fprintln(a.out, a.out.head(a.beginningTitle(b)))
	fmt.Fprintln(a.out, "  "+calmText(b))
	if len(b.Starts) == 0 {
		fmt.Fprintln(a.out, "  no gate started meanwhile")
		return
	}
	var rows [][]string
	for _, s := range b.Starts {
		took, processor, memory, moved := short(time.Duration(s.TookS*float64(time.Second))), short(time.Duration(s.ProcessorS*float64(time.Second))), "", ""
		if s.Memory > 0 {
			memory = bytesText(s.Memory)
		}
		if moved = bytesText(s.ReadBytes + s.WrittenBytes); s.Running {
			took, processor, memory, moved = "runs", "", "", ""
		}
		rows = append(rows, []string{s.Gate, fmt.Sprintf("+%.1f s", s.AtS), took, processor, memory, moved})
	}
	a.out.table([]string{"GATE", "STARTED", "TOOK", "PROCESSOR", "MEMORY", "DISK"}, rows)
}

// printAdvice tells what would help, with the command that does it.
func (a *app) printAdvice(list []startup.Advice, files []gates.File) {
	for _, x := range list {
		fmt.Fprintln(a.out, a.out.warn("advice: ")+x.Text)
		switch {
		case x.AtOnce > 0:
			fmt.Fprintf(a.out, "  let fewer start at once, in %s:\n  [pace]\n  at_once = %d\n", a.shortHome(a.home.Settings()), x.AtOnce)
		default:
			if command := delayCommand(&x, files); command != "" {
				fmt.Fprintln(a.out, "  let it start later: "+command)
			}
		}
	}
}

// delayCommand is the command that puts an opening off, or "" where it has changed
// since.
func delayCommand(x *startup.Advice, files []gates.File) string {
	for _, f := range files {
		if f.Name != x.Gate || f.Gate == nil {
			continue
		}
		for _, o := range f.Gate.Opens {
			if o.Name != x.Open {
				continue
			}
			p := *o.Plan.Phrase
			p.Delay = max(p.Delay, x.Delay)
			return fmt.Sprintf("timegate change %s/%s --open %s", x.Gate, x.Open, gate.CommandLine(p.String()))
		}
	}
	return ""
}

// drawBeginnings writes the pictures that were asked for: of the logon, or else the boot.
func (a *app) drawBeginnings(c *cli.Command, list []startup.Beginning) (drawn bool, err error) {
	b := list[len(list)-1]
	bars := chart.Bars{Title: a.beginningTitle(&b), Below: calmText(&b), Mark: b.ForS, MarkText: "calm"}
	for _, s := range b.Starts {
		bars.Rows = append(bars.Rows, chart.Bar{Label: s.Gate, From: s.AtS, To: s.AtS + s.TookS, Heavy: s.ProcessorS,
			Text: fmt.Sprintf("%s processor", short(time.Duration(s.ProcessorS*float64(time.Second))))})
	}
	return a.pictures(c, func(f io.Writer, format chart.Format) error { return chart.DrawBars(f, &bars, format) })
}
